using System.CommandLine;
using System.Net.Http.Headers;
using System.Text;
using System.Text.Json;

namespace RapidGable.Cli;

/// <summary><c>gable sql</c>: sends a statement over the sets of a running service and shows what it gives.</summary>
internal static class SqlCommand
{
    public static Command Create()
    {
        var service = new Argument<string>("service") { Description = "The service.", HelpName = "SERVICE" };
        var statement = new Argument<string>("statement")
        {
            Description = "One SELECT over its sets; - reads it from the input.",
            HelpName = "STATEMENT",
        };
        var values = new Argument<string[]>("values")
        {
            Description = "Values of its parameters, as name=value.",
            HelpName = "NAME=VALUE",
            Arity = ArgumentArity.ZeroOrMore,
        };
        var (url, format, user, key) = RestCalls.Options();
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "sql",
            "Send a SELECT over the sets of a running service, where that is open to you, and show what it gives.",
            "gable sql rivers \"SELECT code, name FROM Stations ORDER BY code LIMIT 5\" --user rosa:PASSWORD",
            "gable sql rivers \"SELECT COUNT(*) AS n FROM Readings WHERE value > :above\" above=2.5 --user rosa:PASSWORD",
            "gable sql rivers - --user rosa:PASSWORD --format csv < report.sql"
        )
        {
            service,
            statement,
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
                    result.GetValue(url)!.TrimEnd('/'),
                    result.GetValue(service)!,
                    result.GetValue(statement)!,
                    result.GetValue(values) ?? [],
                    result.GetValue(json) ? "json" : result.GetValue(format)!,
                    RestCalls.Authorization(result.GetValue(user), result.GetValue(key)),
                    cancellation
                )
        );
        return command;
    }

    private static async Task<int> RunAsync(
        string url,
        string service,
        string statement,
        string[] values,
        string format,
        AuthenticationHeaderValue? authorization,
        CancellationToken cancellation
    )
    {
        if (!url.StartsWith("http", StringComparison.Ordinal))
            throw new UsageException($"'{url}' is not the address of a running service, such as http://127.0.0.1:8460.");
        var text = statement == "-" ? await Console.In.ReadToEndAsync(cancellation) : statement;
        // Each parameter takes the type of what it meets, whatever a caller sends.
        var query = values
            .Select(RestCalls.Pair)
            .Append(("format", format == "table" ? "json" : format))
            .Select(p => $"{Uri.EscapeDataString(p.Item1)}={Uri.EscapeDataString(p.Item2)}");
        using var client = new HttpClient();
        client.DefaultRequestHeaders.Authorization = authorization;
        try
        {
            if (await RootAsync(client, url, service, cancellation) is not { } root)
                return 1;
            using var content = new StringContent(text, Encoding.UTF8, "application/sql");
            using var response = await client.PostAsync(new Uri($"{root}sql?{string.Join('&', query)}"), content, cancellation);
            var body = await response.Content.ReadAsStringAsync(cancellation);
            if (response.StatusCode == System.Net.HttpStatusCode.NotFound)
            {
                Console.Error.WriteLine($"gable: {service} takes no statements, or not from you.");
                return 1;
            }
            if (!response.IsSuccessStatusCode)
                Excerpt(body);
            return RestCalls.Show(body, format, response, []);
        }
        catch (HttpRequestException exception)
        {
            Console.Error.WriteLine($"gable: no answer from {url}: {exception.Message}");
            return 1;
        }
        catch (JsonException)
        {
            Console.Error.WriteLine($"gable: {url} does not answer like a service of Rapid Gable.");
            return 1;
        }
    }

    /// <summary>The address of the service on the plain REST face; null = the caller sees none of the name, which is then said.</summary>
    private static async Task<string?> RootAsync(HttpClient client, string url, string service, CancellationToken cancellation)
    {
        using var answer = JsonDocument.Parse(await client.GetStringAsync(new Uri(url + "/services"), cancellation));
        var services = answer.RootElement.GetProperty("services").EnumerateArray().ToList();
        if (services.Find(s => s.GetProperty("name").GetString() == service) is not { ValueKind: JsonValueKind.Object } found)
        {
            var names = services.Select(s => s.GetProperty("name").GetString()!);
            Console.Error.WriteLine($"gable: there is no service '{service}' for you.{Model.NearestName.Hint(service, names)}");
            return null;
        }
        if (found.GetProperty("faces").TryGetProperty("rest", out var root))
            return root.GetString();
        Console.Error.WriteLine($"gable: {service} does not stand on the plain REST face, which takes statements.");
        return null;
    }

    /// <summary>Shows the place of a fault in the statement.</summary>
    private static void Excerpt(string body)
    {
        if (JsonDocument.Parse(body).RootElement.TryGetProperty("excerpt", out var excerpt))
            Console.Error.WriteLine(excerpt.GetString());
    }
}
