using System.Collections.Concurrent;
using System.Data.Common;
using System.Diagnostics;
using System.Net;
using System.Net.Sockets;

namespace RapidGable.Core.Tests;

/// <summary>What starting a server for tests takes, whichever it is.</summary>
internal static class LocalServer
{
    public static int FreePort()
    {
        using var listener = new TcpListener(IPAddress.Loopback, 0);
        listener.Start();
        return ((IPEndPoint)listener.LocalEndpoint).Port;
    }

    public static Process Start(string command, params string[] arguments) =>
        Process.Start(
            new ProcessStartInfo(command, arguments)
            {
                RedirectStandardError = true,
                RedirectStandardOutput = true,
                WorkingDirectory = "/tmp",
            }
        )!;

    /// <summary>
    /// Starts a server and reads what it says for as long as it runs: one that nobody listens to stands still once its pipe is full.
    /// </summary>
    /// <param name="said">Takes the last lines, for who wants to know why it ended.</param>
    public static Process Serve(ConcurrentQueue<string> said, string command, params string[] arguments)
    {
        var process = Start(command, arguments);
        void Keep(object sender, DataReceivedEventArgs line)
        {
            said.Enqueue(line.Data ?? "");
            if (said.Count > 50)
                said.TryDequeue(out _);
        }
        process.OutputDataReceived += Keep;
        process.ErrorDataReceived += Keep;
        process.BeginOutputReadLine();
        process.BeginErrorReadLine();
        return process;
    }

    /// <summary>Runs a command to its end, which must be a good one.</summary>
    public static async Task RunAsync(string command, params string[] arguments)
    {
        using var process = Start(command, arguments);
        var output = process.StandardOutput.ReadToEndAsync();
        var errors = process.StandardError.ReadToEndAsync();
        await process.WaitForExitAsync();
        Assert.True(process.ExitCode == 0, $"{command}: {await output}{await errors}");
    }

    /// <summary>Tries until the server answers; false when it ends, or does not answer in half a minute.</summary>
    public static async Task<bool> IsReadyAsync(Process process, Func<Task> ask)
    {
        var clock = Stopwatch.StartNew();
        while (clock.Elapsed < TimeSpan.FromSeconds(30) && !process.HasExited)
        {
            try
            {
                await ask();
                return true;
            }
            catch (DbException)
            {
                await Task.Delay(50);
            }
        }
        return false;
    }
}
