using System.CommandLine;
using System.Net.Http.Json;
using System.Text.Json;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Queries;
using RapidGable.Requests.Rest;
using RapidGable.Service.Publishing;
using RapidGable.UseCases;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable explain</c>: the SQL behind an address.</summary>
internal static class ExplainCommand
{
    public static Command Create()
    {
        var url = new Argument<string>("url")
        {
            Description =
                "A whole address of a running service, or 'service/path?options' with --workspace; 'rest/service/…' is one of plain REST.",
        };
        var workspace = new Option<string?>("--workspace", "-w")
        {
            Description = "Explain against this workspace, without a running service.",
        };
        var run = new Option<bool>("--run")
        {
            Description = "Also run it: how the engine means to run each statement, and where the time goes.",
        };
        var (caller, attributes) = (AccountOptions.As(), AccountOptions.Attributes());
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "explain",
            "Show the SQL statements behind an address, with their parameters; they are run only with --run.",
            "gable explain 'http://127.0.0.1:8460/odata/rivers/Stations?$filter=telemetered eq true&$expand=catchment'",
            "gable explain -w demo 'rivers/Readings?$orderby=value desc&$top=5'",
            "gable explain -w demo 'rest/rivers/Stations?name=*Weir&sort=-opened_on'"
        )
        {
            url,
            workspace,
            run,
            caller,
            attributes,
            json,
        };
        command.SetAction(
            (result, cancellation) =>
                RunAsync(
                    result.GetValue(url)!,
                    result.GetValue(workspace),
                    result.GetValue(run),
                    result.GetValue(caller),
                    result.GetValue(attributes),
                    result.GetValue(json),
                    cancellation
                )
        );
        return command;
    }

    private static async Task<int> RunAsync(
        string url,
        string? workspace,
        bool run,
        string? caller,
        string[]? attributes,
        bool json,
        CancellationToken cancellation
    )
    {
        if (workspace is not null)
            return await FromWorkspaceAsync(
                workspace,
                url,
                run,
                AccountOptions.CallerOf(workspace, caller, attributes),
                json,
                cancellation
            );
        return await FromServiceAsync(GetCommand.Address(url), run, CallerOptions(caller, attributes), json, cancellation);
    }

    /// <summary>
    /// The caller as the management interface takes it; there roles and attributes make one, since the service knows its own users.
    /// </summary>
    private static string CallerOptions(string? caller, string[]? attributes)
    {
        if (caller is null)
            return attributes is null or [] ? "" : throw new UsageException("Attributes belong to somebody: say who with --as.");
        AccountOptions.RolesOf(caller.Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries));
        AccountOptions.AttributesOf(attributes);
        return $"&roles={Uri.EscapeDataString(caller)}&attributes={Uri.EscapeDataString(string.Join(',', attributes ?? []))}";
    }

    private static async Task<int> FromServiceAsync(Uri address, bool run, string callerOptions, bool json, CancellationToken cancellation)
    {
        using var client = new HttpClient();
        JsonElement answer;
        try
        {
            using var request = new HttpRequestMessage(
                HttpMethod.Get,
                $"{address.Scheme}://{address.Authority}/manage/explain?run={(run ? "true" : "false")}&url="
                    + $"{Uri.EscapeDataString(address.OriginalString)}{callerOptions}"
            );
            ManagementKey.AddTo(request);
            using var response = await client.SendAsync(request, cancellation);
            if (response.StatusCode is System.Net.HttpStatusCode.Unauthorized)
            {
                Console.Error.WriteLine($"gable: {address.Authority} answers 401; {ManagementKey.Advice(response.StatusCode)}");
                return 1;
            }
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
            {
                WriteFault(
                    error.GetProperty("message").GetString()!,
                    error.TryGetProperty("pointer", out var pointer) ? pointer.GetString() : null
                );
                WriteRules(
                    answer.TryGetProperty("rules", out var kept) ? kept.Deserialize<List<RuleEffect>>(JsonSerializerOptions.Web)! : []
                );
            }
            return 1;
        }
        if (json)
        {
            Terminal.WriteJson(answer);
            return 0;
        }
        foreach (var statement in answer.GetProperty("statements").EnumerateArray())
            WriteStatement(statement.Deserialize<ExplainedStatement>(JsonSerializerOptions.Web)!);
        WriteRules(answer.TryGetProperty("rules", out var rules) ? rules.Deserialize<List<RuleEffect>>(JsonSerializerOptions.Web)! : []);
        if (answer.TryGetProperty("times", out var times) && times.ValueKind == JsonValueKind.Object)
            WriteTimes(times.Deserialize<ExplainedTimes>(JsonSerializerOptions.Web)!);
        return 0;
    }

    private static async Task<int> FromWorkspaceAsync(
        string folder,
        string url,
        bool run,
        Caller caller,
        bool json,
        CancellationToken cancellation
    )
    {
        await using var workspace = await Terminal.LoadAsync(folder, cancellation);
        if (workspace.Diagnostics.HasErrors)
        {
            Terminal.WriteDiagnostics(workspace.Diagnostics);
            return 1;
        }
        var registry = new ServiceRegistry(workspace);
        var face =
            url.TrimStart('/').Split('/', 2) is [var word and ("odata" or "rest"), _] && registry.Find(word) is null ? word : "odata";
        var below = url.TrimStart('/');
        var parts = (below.StartsWith(face + "/", StringComparison.Ordinal) ? below[(face.Length + 1)..] : below).Split('/', 2);
        if (registry.Find(parts[0])?.On(face) is not { } service)
            throw new UsageException(
                $"The workspace has no service '{parts[0]}'. Write 'service/path?options', such as 'rivers/Stations?$top=5', or "
                    + "'rest/service/path?parameters'."
            );
        var mark = (parts.ElementAtOrDefault(1) ?? "").IndexOf('?');
        var rest = parts.ElementAtOrDefault(1) ?? "";
        var (path, query) = (mark < 0 ? rest : rest[..mark], mark < 0 ? "" : rest[(mark + 1)..].Replace(" ", "%20"));
        var read = face == "rest" ? SpelledRead.Rest(path, query, new RestPaths(service.Model)) : SpelledRead.OData(path, query);
        var explain = new ExplainRequest(service, read, caller, TimeProvider.System.GetUtcNow().UtcDateTime);
        var rules = explain.Rules;
        var explained = await ExplainAsync(explain, run, cancellation);
        if (!explained.Is(out var request, out var fault))
        {
            if (json)
                Terminal.WriteJson(new { error = fault, rules });
            else
            {
                WriteFault(fault.Message, fault.Pointer());
                WriteRules(rules);
            }
            return 1;
        }
        if (json)
        {
            Terminal.WriteJson(
                new
                {
                    service = parts[0],
                    request.Statements,
                    request.Times,
                    rules,
                }
            );
            return 0;
        }
        request.Statements.ForEach(WriteStatement);
        WriteRules(rules);
        if (request.Times is { } times)
            WriteTimes(times);
        return 0;
    }

    private static async Task<Result<ExplainedRequest>> ExplainAsync(ExplainRequest explain, bool run, CancellationToken cancellation)
    {
        try
        {
            return run ? await explain.RunAsync(cancellation) : explain.Statements();
        }
        catch (Sources.SourceException exception)
        {
            return new RequestFault(503, "source-unavailable", exception.Message);
        }
    }

    private static void WriteRules(IReadOnlyList<RuleEffect> rules)
    {
        if (rules.Count == 0)
            return;
        Terminal.Out.MarkupLine("[bold]-- rules of the sets it touches[/]");
        foreach (var rule in rules)
            Terminal.Out.MarkupLine(
                $"{(rule.Applies ? "+" : "[grey]-[/]")} {Markup.Escape(rule.Set)}: {Markup.Escape(rule.Rule)}  "
                    + $"{(rule.Applies ? "[green]" : "[grey]")}{Markup.Escape(rule.Effect)}[/]"
                    + $"{(rule.Place is { } place ? $"  [grey]{Markup.Escape(place)}[/]" : "")}"
            );
    }

    private static void WriteTimes(ExplainedTimes times)
    {
        Terminal.Out.MarkupLine("[bold]-- where the time went[/]");
        foreach (
            var (name, value) in new[]
            {
                ("parse", times.Parse),
                ("bind", times.Bind),
                ("plan and SQL", times.Plan),
                ("database, to the first row", times.Database),
                ("rows and payload", times.Write),
            }
        )
            Terminal.Out.WriteLine($"{name, -28} {value / 1000.0, 10:0.000} ms");
        Terminal.Out.MarkupLine(
            $"[grey]The first three are done once for each shape of request. The payload has {times.Bytes:N0} bytes.[/]"
        );
    }

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
            Terminal.Out.MarkupLine(
                $"[grey]--[/] {Markup.Escape(parameter.Placeholder)} = {Markup.Escape(parameter.Value)}  "
                    + $"[grey]{Markup.Escape(parameter.Origin)}[/]"
            );
        foreach (var line in statement.Plan)
            Terminal.Out.MarkupLine($"[grey]-- plan:[/] {Markup.Escape(line)}");
        Terminal.Out.WriteLine();
    }
}
