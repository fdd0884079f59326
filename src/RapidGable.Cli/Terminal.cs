using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.Json.Serialization;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Service.Stores;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary>The command was called wrongly; the message says how.</summary>
internal sealed class UsageException(string message) : Exception(message);

/// <summary>How commands speak: results on standard output, everything else on standard error; colours only on a terminal.</summary>
internal static class Terminal
{
    public static readonly IAnsiConsole Out = Create(Console.Out, Console.IsOutputRedirected);
    public static readonly IAnsiConsole Error = Create(Console.Error, Console.IsErrorRedirected);

    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web)
    {
        WriteIndented = true,
        DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull,
        Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    };

    private static readonly JsonSerializerOptions Line = new(Json) { WriteIndented = false };

    public static void WriteJson(object value) => Console.Out.WriteLine(JsonSerializer.Serialize(value, Json));

    /// <summary>A value as one line of a file of JSON lines.</summary>
    public static string JsonLine(object value) => JsonSerializer.Serialize(value, Line);

    /// <summary>Shows each finding with its line and caret.</summary>
    public static void WriteDiagnostics(Diagnostics diagnostics)
    {
        foreach (var item in diagnostics.Items)
        {
            var lines = item.Render().Split('\n');
            var colour = item.Severity == Severity.Error ? "red" : "olive";
            Error.MarkupLine($"[{colour}]{Markup.Escape(lines[0])}[/]");
            foreach (var line in lines.Skip(1))
                Error.WriteLine(line);
            Error.WriteLine();
        }
    }

    public static object ForJson(Diagnostic item) =>
        new
        {
            severity = item.Severity.ToString().ToLowerInvariant(),
            item.Code,
            item.Message,
            item.Location.File,
            line = item.Location.Line == 0 ? (int?)null : item.Location.Line,
            column = item.Location.Line == 0 ? (int?)null : item.Location.Column,
            item.Advice,
        };

    public static Task<LoadedWorkspace> LoadAsync(string folder, CancellationToken cancellation) =>
        WorkspaceLoader.LoadAsync(folder, WorkspaceState.Variables(folder), cancellation);

    /// <summary>Runs long work under a line that says what it is doing; silent when nobody looks.</summary>
    public static async Task<T> WithStatusAsync<T>(string title, bool silent, Func<Action<string>, Task<T>> work)
    {
        if (silent || Console.IsErrorRedirected)
            return await work(_ => { });
        return await Error
            .Status()
            .Spinner(Spinner.Known.Line)
            .StartAsync(Markup.Escape(title), context => work(text => context.Status = Markup.Escape($"{title}: {text}")));
    }

    public static string Plural(long count, string one, string many) => $"{count:N0} {(count == 1 ? one : many)}";

    public static string Plural(long count, string one) => count == 1 ? $"1 {one}" : $"{count:N0} {one}s";

    private static IAnsiConsole Create(TextWriter writer, bool redirected)
    {
        var console = AnsiConsole.Create(
            new AnsiConsoleSettings
            {
                Out = new AnsiConsoleOutput(writer),
                Ansi =
                    redirected || Environment.GetEnvironmentVariable("NO_COLOR") is { Length: > 0 } ? AnsiSupport.No : AnsiSupport.Detect,
            }
        );
        if (redirected)
            console.Profile.Width = 10_000;
        return console;
    }
}
