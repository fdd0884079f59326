using System.Diagnostics;
using System.Text.Json;

namespace RapidGable.Service.Tests;

/// <summary>What a run of the command gave.</summary>
public sealed record CommandResult(int Code, string Output, string Errors)
{
    public JsonElement Json => JsonDocument.Parse(Output).RootElement;
}

/// <summary>Runs the command-line client as a process.</summary>
public static class Gable
{
    public static string Root { get; } = FindRoot();

    public static Task<CommandResult> RunAsync(string folder, params string[] arguments) => RunWithAsync(null, folder, arguments);

    /// <param name="input">What is written to it; null = nothing is, and it is not told so.</param>
    public static Task<CommandResult> RunWithAsync(string? input, string folder, params string[] arguments) =>
        RunWithAsync(input, new Dictionary<string, string>(), folder, arguments);

    /// <param name="environment">Variables of the process besides those of this one.</param>
    public static async Task<CommandResult> RunWithAsync(
        string? input,
        IReadOnlyDictionary<string, string> environment,
        string folder,
        params string[] arguments
    )
    {
        using var process = StartWith(environment, folder, arguments);
        if (input is not null)
        {
            await process.StandardInput.WriteLineAsync(input);
            process.StandardInput.Close();
        }
        var output = process.StandardOutput.ReadToEndAsync();
        var errors = process.StandardError.ReadToEndAsync();
        using var limit = new CancellationTokenSource(TimeSpan.FromMinutes(5));
        await process.WaitForExitAsync(limit.Token);
        return new CommandResult(process.ExitCode, await output, await errors);
    }

    /// <summary>The published client, which starts faster, where the test run names it; else the one beside the tests.</summary>
    public static string ProgramPath { get; } =
        Environment.GetEnvironmentVariable("GABLE_PROGRAM") ?? Path.Combine(AppContext.BaseDirectory, "gable.dll");

    public static Process Start(string folder, params string[] arguments) => StartWith(new Dictionary<string, string>(), folder, arguments);

    /// <param name="environment">Variables of the process besides those of this one.</param>
    public static Process StartWith(IReadOnlyDictionary<string, string> environment, string folder, params string[] arguments)
    {
        var start = new ProcessStartInfo("dotnet", [ProgramPath, .. arguments])
        {
            WorkingDirectory = folder,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
            RedirectStandardInput = true,
        };
        foreach (var (name, value) in environment)
            start.Environment[name] = value;
        return Process.Start(start)!;
    }

    private static string FindRoot()
    {
        var folder = new DirectoryInfo(AppContext.BaseDirectory);
        while (folder is not null && !File.Exists(Path.Combine(folder.FullName, "RapidGable.slnx")))
            folder = folder.Parent;
        return folder!.FullName;
    }
}
