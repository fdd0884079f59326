using System.CommandLine;
using System.Net.Http.Headers;
using System.Text;
using System.Text.Json;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary>What commands share that ask a running service over plain REST and show rows.</summary>
internal static class RestCalls
{
    private static readonly string[] Formats = ["table", "json", "jsonl", "csv", "xml"];

    /// <summary>Where the service runs, how rows are shown, and who asks.</summary>
    public static (Option<string> Url, Option<string> Format, Option<string?> User, Option<string?> Key) Options()
    {
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
        return (url, format, user, key);
    }

    /// <summary>The header that signs in; null = nobody does.</summary>
    public static AuthenticationHeaderValue? Authorization(string? user, string? key) =>
        user is not null ? new AuthenticationHeaderValue("Basic", Convert.ToBase64String(Encoding.UTF8.GetBytes(user)))
        : key is not null ? new AuthenticationHeaderValue("Bearer", key)
        : null;

    /// <summary>A parameter and its value.</summary>
    public static (string Name, string Value) Pair(string text) =>
        text.IndexOf('=') is > 0 and var equals
            ? (text[..equals], text[(equals + 1)..])
            : throw new UsageException($"'{text}' is not a parameter and its value, such as station=AB-001.");

    /// <summary>Shows an answer; gives the exit code.</summary>
    /// <param name="given">Names of what the command was given; a format among them is shown as it comes.</param>
    public static int Show(string body, string format, HttpResponseMessage response, IEnumerable<string> given)
    {
        if (!response.IsSuccessStatusCode)
        {
            var problem = JsonDocument.Parse(body).RootElement;
            Console.Error.WriteLine($"gable: {(int)response.StatusCode}: {problem.GetProperty("detail").GetString()}");
            return 1;
        }
        if (response.StatusCode == System.Net.HttpStatusCode.NoContent)
        {
            Terminal.Out.MarkupLine("[green]Done[/]; it gives nothing.");
            return 0;
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
