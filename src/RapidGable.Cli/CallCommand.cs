using System.CommandLine;
using System.Net.Http.Headers;
using System.Text;
using System.Text.Json;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable call</c>: calls a query of a running service and shows what it gives.</summary>
internal static class CallCommand
{
    private static readonly string[] Formats = ["table", "json", "jsonl", "csv", "xml"];

    public static Command Create()
    {
        var query = new Argument<string>("query")
        {
            Description = "The service and the query, as SERVICE/NAME.",
            HelpName = "SERVICE/NAME",
        };
        var values = new Argument<string[]>("values")
        {
            Description = "Its parameters, as name=value. Those of lists may follow, such as limit=5, sort=-day or format words.",
            HelpName = "NAME=VALUE",
            Arity = ArgumentArity.ZeroOrMore,
        };
        var url = new Option<string>("--url")
        {
            Description = "Where the service runs.",
            HelpName = "URL",
            DefaultValueFactory = _ => "http://127.0.0.1:8460",
        };
        var format = new Option<string>("--format", "-f")
        {
            Description = "How rows are shown: table, json, jsonl, csv or xml.",
            HelpName = "FORMAT",
            DefaultValueFactory = _ => "table",
        };
        format.AcceptOnlyFromAmong(Formats);
        var user = new Option<string?>("--user") { Description = "Sign in with a name and a password.", HelpName = "NAME:PASSWORD" };
        var key = new Option<string?>("--key") { Description = "Sign in with an API key.", HelpName = "KEY" };
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "call",
            "Call a query of a running service with values for its parameters, and show the rows.",
            "gable call rivers/DaysAbove station=AB-001 kind=level above=2.5",
            "gable call rivers/DaysAbove station=AB-001 kind=level above=2.5 sort=-day limit=3 --format csv",
            "gable call rivers/StationSummary station=AB-001"
        )
        {
            query,
            values,
            url,
            format,
            user,
            key,
            json,
        };
        command.SetAction(
            (result, cancellation) =>
                RunAsync(
                    new Call(
                        result.GetValue(query)!,
                        result.GetValue(values) ?? [],
                        result.GetValue(url)!.TrimEnd('/'),
                        result.GetValue(json) ? "json" : result.GetValue(format)!,
                        Authorization(result.GetValue(user), result.GetValue(key))
                    ),
                    cancellation
                )
        );
        return command;
    }

    private sealed record Call(string Query, string[] Values, string Url, string Format, AuthenticationHeaderValue? Authorization);

    private static AuthenticationHeaderValue? Authorization(string? user, string? key) =>
        user is not null ? new AuthenticationHeaderValue("Basic", Convert.ToBase64String(Encoding.UTF8.GetBytes(user)))
        : key is not null ? new AuthenticationHeaderValue("Bearer", key)
        : null;

    private static async Task<int> RunAsync(Call call, CancellationToken cancellation)
    {
        if (call.Query.Split('/') is not [{ Length: > 0 } service, { Length: > 0 } name])
            throw new UsageException($"'{call.Query}' is not a service and its query, such as rivers/DaysAbove.");
        if (!call.Url.StartsWith("http", StringComparison.Ordinal))
            throw new UsageException($"'{call.Url}' is not the address of a running service, such as http://127.0.0.1:8460.");
        var values = call.Values.Select(Pair).ToList();
        using var client = new HttpClient();
        client.DefaultRequestHeaders.Authorization = call.Authorization;
        try
        {
            if (await TemplateAsync(client, call.Url, service, name, cancellation) is not { } template)
                return 1;
            var accept = call.Format == "table" ? "json" : call.Format;
            var address = Filled(template, values, accept);
            using var response = await client.GetAsync(address, cancellation);
            var body = await response.Content.ReadAsStringAsync(cancellation);
            return Show(body, call.Format, response, values.Select(v => v.Name));
        }
        catch (HttpRequestException exception)
        {
            Console.Error.WriteLine($"gable: no answer from {call.Url}: {exception.Message}");
            return 1;
        }
        catch (JsonException)
        {
            Console.Error.WriteLine($"gable: {call.Url} does not answer like a service of Rapid Gable.");
            return 1;
        }
    }

    private static (string Name, string Value) Pair(string text) =>
        text.IndexOf('=') is > 0 and var equals
            ? (text[..equals], text[(equals + 1)..])
            : throw new UsageException($"'{text}' is not a parameter and its value, such as station=AB-001.");

    /// <summary>The address of the query with variables in it; null = the caller sees no such query, which is then said.</summary>
    private static async Task<string?> TemplateAsync(
        HttpClient client,
        string url,
        string service,
        string name,
        CancellationToken cancellation
    )
    {
        using var answer = JsonDocument.Parse(await client.GetStringAsync(new Uri(url + "/services"), cancellation));
        var services = answer.RootElement.GetProperty("services").EnumerateArray().ToList();
        if (services.Find(s => s.GetProperty("name").GetString() == service) is not { ValueKind: JsonValueKind.Object } found)
        {
            var names = services.Select(s => s.GetProperty("name").GetString()!);
            Console.Error.WriteLine($"gable: there is no service '{service}' for you.{Model.NearestName.Hint(service, names)}");
            return null;
        }
        var endpoints = found.GetProperty("endpoints").EnumerateArray().ToList();
        var own = endpoints.Where(e => e.GetProperty("face").GetString() == "rest").ToList();
        if (own.Find(e => e.GetProperty("set").GetString() == name) is { ValueKind: JsonValueKind.Object } endpoint)
            return endpoint.GetProperty("url").GetString();
        var isElsewhere = endpoints.Exists(e => e.GetProperty("set").GetString() == name);
        var hint = Model.NearestName.Hint(name, own.Select(e => e.GetProperty("set").GetString()!));
        Console.Error.WriteLine(
            isElsewhere
                ? $"gable: '{name}' does not stand on the plain REST face, over which queries are called; ask its address with 'gable get'."
                : $"gable: {service} has no query '{name}' for you.{hint}"
        );
        return null;
    }

    /// <summary>Variables get their values; the other values follow as parameters.</summary>
    private static string Filled(string template, List<(string Name, string Value)> values, string format)
    {
        var rest = new List<(string Name, string Value)>();
        foreach (var (name, value) in values)
        {
            var variable = $"{{{name}}}";
            if (template.Contains(variable, StringComparison.Ordinal))
                template = template.Replace(variable, Uri.EscapeDataString(value), StringComparison.Ordinal);
            else
                rest.Add((name, value));
        }
        if (!rest.Exists(r => r.Name == "format"))
            rest.Add(("format", format));
        if (template.IndexOf('{') is >= 0 and var open)
            throw new UsageException($"'{template[(open + 1)..template.IndexOf('}', open)]}' is missing: write it as name=value.");
        return $"{template}?{string.Join('&', rest.Select(r => $"{Uri.EscapeDataString(r.Name)}={Uri.EscapeDataString(r.Value)}"))}";
    }

    private static int Show(string body, string format, HttpResponseMessage response, IEnumerable<string> given)
    {
        if (!response.IsSuccessStatusCode)
        {
            var problem = JsonDocument.Parse(body).RootElement;
            Console.Error.WriteLine($"gable: {(int)response.StatusCode}: {problem.GetProperty("detail").GetString()}");
            return 1;
        }
        if (format != "table" || given.Contains("format"))
        {
            Console.Out.Write(body);
            if (!body.EndsWith('\n'))
                Console.Out.WriteLine();
            return 0;
        }
        var root = JsonDocument.Parse(body).RootElement;
        var isList = root.ValueKind == JsonValueKind.Array || root.TryGetProperty("rows", out _);
        var rows =
            root.ValueKind == JsonValueKind.Array ? root.EnumerateArray().ToList()
            : isList ? root.GetProperty("rows").EnumerateArray().ToList()
            : [root];
        Write(rows);
        if (isList)
        {
            var more = root.ValueKind == JsonValueKind.Object && root.TryGetProperty("next", out _) ? "; more follow" : "";
            Terminal.Out.MarkupLine($"[grey]{rows.Count} row{(rows.Count == 1 ? "" : "s")}{more}[/]");
        }
        return 0;
    }

    private static void Write(List<JsonElement> rows)
    {
        if (rows.Count == 0)
            return;
        var table = new Table { Border = TableBorder.Simple };
        foreach (var column in rows[0].EnumerateObject())
            table.AddColumn(new TableColumn($"[bold]{Markup.Escape(column.Name)}[/]"));
        foreach (var row in rows)
            table.AddRow(
                row.EnumerateObject()
                    .Select(m => m.Value.ValueKind == JsonValueKind.String ? m.Value.GetString()! : m.Value.GetRawText())
                    .Select(Markup.Escape)
                    .ToArray()
            );
        Terminal.Out.Write(table);
    }
}
