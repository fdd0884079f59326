using System.CommandLine;
using System.Net.Http.Json;
using System.Text.Json;
using RapidGable.Access;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Service;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable explain</c>: the SQL behind an address.</summary>
internal static class ExplainCommand
{
    public static Command Create()
    {
        var url = new Argument<string>("url") { Description = "A whole address of a running service, or 'service/path?options' with --workspace." };
        var workspace = new Option<string?>("--workspace", "-w") { Description = "Explain against this workspace, without a running service." };
        var json = CommonOptions.Json();
        var command = new ExampleCommand("explain", "Show the SQL statements behind an address, with their parameters, without running them.",
            "gable explain 'http://127.0.0.1:8460/odata/rivers/Stations?$filter=telemetered eq true&$expand=catchment'",
            "gable explain -w demo 'rivers/Readings?$orderby=value desc&$top=5'") { url, workspace, json };
        command.SetAction((result, cancellation) => RunAsync(result.GetValue(url)!, result.GetValue(workspace), result.GetValue(json), cancellation));
        return command;
    }

    private static async Task<int> RunAsync(string url, string? workspace, bool json, CancellationToken cancellation) =>
        workspace is null ? await FromServiceAsync(GetCommand.Address(url), json, cancellation) : await FromWorkspaceAsync(workspace, url, json, cancellation);

    private static async Task<int> FromServiceAsync(Uri address, bool json, CancellationToken cancellation)
    {
        using var client = new HttpClient();
        JsonElement answer;
        try
        {
            using var response = await client.GetAsync($"{address.Scheme}://{address.Authority}/manage/explain?url={Uri.EscapeDataString(address.OriginalString)}", cancellation);
            answer = await response.Content.ReadFromJsonAsync<JsonElement>(cancellation);
        }
        catch (HttpRequestException exception)
        {
            Console.Error.WriteLine($"gable: no answer from {address.Authority}: {exception.Message}");
            return 1;
        }
        catch (JsonException)
        {
            Console.Error.WriteLine($"gable: {address.Authority} has no management interface for callers from here.");
            return 1;
        }
        if (answer.TryGetProperty("error", out var error))
        {
            if (json)
                Terminal.WriteJson(answer);
            else
                WriteFault(error.GetProperty("message").GetString()!, error.TryGetProperty("pointer", out var pointer) ? pointer.GetString() : null);
            return 1;
        }
        if (json)
        {
            Terminal.WriteJson(answer);
            return 0;
        }
        foreach (var statement in answer.GetProperty("statements").EnumerateArray())
            WriteStatement(statement.Deserialize<ExplainedStatement>(JsonSerializerOptions.Web)!);
        return 0;
    }

    private static async Task<int> FromWorkspaceAsync(string folder, string url, bool json, CancellationToken cancellation)
    {
        await using var workspace = await Terminal.LoadAsync(folder, cancellation);
        if (workspace.Diagnostics.HasErrors)
        {
            Terminal.WriteDiagnostics(workspace.Diagnostics);
            return 1;
        }
        var parts = url.TrimStart('/').Split('/', 2);
        if (new ServiceRegistry(workspace).Find(parts[0]) is not { } service)
            throw new UsageException($"The workspace has no service '{parts[0]}'. Write 'service/path?options', such as 'rivers/Stations?$top=5'.");
        var mark = (parts.ElementAtOrDefault(1) ?? "").IndexOf('?');
        var rest = parts.ElementAtOrDefault(1) ?? "";
        var explained = Explain(service, mark < 0 ? rest : rest[..mark], mark < 0 ? "" : rest[(mark + 1)..]);
        if (!explained.Is(out var statements, out var fault))
        {
            if (json)
                Terminal.WriteJson(new { error = fault });
            else
                WriteFault(fault.Message, fault.Pointer());
            return 1;
        }
        if (json)
            Terminal.WriteJson(new { service = parts[0], statements });
        else
            statements.ForEach(WriteStatement);
        return 0;
    }

    private static Result<List<ExplainedStatement>> Explain(PublishedService service, string path, string query) =>
        service.Explain(path, query.Replace(" ", "%20"), Caller.Anonymous, TimeProvider.System.GetUtcNow().UtcDateTime);

    private static void WriteFault(string message, string? pointer)
    {
        Terminal.Error.MarkupLine($"[red]{Markup.Escape(message)}[/]");
        foreach (var line in pointer?.Split('\n') ?? [])
            Terminal.Error.WriteLine("  " + line);
    }

    private static void WriteStatement(ExplainedStatement statement)
    {
        Terminal.Out.MarkupLine($"[bold]-- {Markup.Escape(statement.Purpose)}[/]");
        Terminal.Out.WriteLine(statement.Sql);
        foreach (var parameter in statement.Parameters)
            Terminal.Out.MarkupLine($"[grey]--[/] {Markup.Escape(parameter.Placeholder)} = {Markup.Escape(parameter.Value)}  [grey]{Markup.Escape(parameter.Origin)}[/]");
        Terminal.Out.WriteLine();
    }
}
