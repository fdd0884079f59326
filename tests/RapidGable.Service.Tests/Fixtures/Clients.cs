using System.Diagnostics;

namespace RapidGable.Service.Tests;

/// <summary>Programs that are clients of the service, in <c>tests/clients</c>.</summary>
internal static class Clients
{
    public static string Folder { get; } = Path.Combine(Gable.Root, "tests/clients");

    /// <summary>Runs a command in the folder of the clients; gives the last line that it prints.</summary>
    public static Task<string> RunAsync(string command, params string[] arguments) => RunInAsync(Folder, command, arguments);

    /// <summary>Runs a command in a folder; gives the last line that it prints.</summary>
    public static async Task<string> RunInAsync(string folder, string command, params string[] arguments)
    {
        var start = new ProcessStartInfo(command, arguments)
        {
            WorkingDirectory = folder,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        using var process = Process.Start(start)!;
        using var limit = new CancellationTokenSource(TimeSpan.FromMinutes(3));
        var (output, errors) = (process.StandardOutput.ReadToEndAsync(limit.Token), process.StandardError.ReadToEndAsync(limit.Token));
        await process.WaitForExitAsync(limit.Token);
        Assert.True(process.ExitCode == 0, await output + await errors);
        return (await output).Trim().Split('\n')[^1];
    }
}
