using System.CommandLine;
using System.Net.Http.Headers;
using System.Text;
using System.Text.Json;
using System.Text.Json.Nodes;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable call</c>: calls a query or an action of a running service and shows what it gives.</summary>
internal static class CallCommand
{
    public static Command Create()
    {
        var query = new Argument<string>("query")
        {
            Description = "The service and the query or action, as SERVICE/NAME.",
            HelpName = "SERVICE/NAME",
        };
        var values = new Argument<string[]>("values")
        {
            Description = "Its parameters, as name=value. Those of lists may follow those of a query, such as limit=5 or sort=-day.",
            HelpName = "NAME=VALUE",
            Arity = ArgumentArity.ZeroOrMore,
        };
        var (url, format, user, key) = RestCalls.Options();
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "call",
            "Call a query or an action of a running service with values for its parameters, and show what it gives.",
            "gable call rivers/DaysAbove station=AB-001 kind=level above=2.5",
            "gable call rivers/DaysAbove station=AB-001 kind=level above=2.5 sort=-day limit=3 --format csv",
            "gable call rivers/StationSummary station=AB-001",
            "gable call fieldwork/PutOffVisits from=2024-05-14 to=2024-05-16 --user tom:PASSWORD"
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
                        RestCalls.Authorization(result.GetValue(user), result.GetValue(key))
                    ),
                    cancellation
                )
        );
        return command;
    }

    private sealed record Call(string Query, string[] Values, string Url, string Format, AuthenticationHeaderValue? Authorization);

    private static async Task<int> RunAsync(Call call, CancellationToken cancellation)
    {
        if (call.Query.Split('/') is not [{ Length: > 0 } service, { Length: > 0 } name])
            throw new UsageException($"'{call.Query}' is not a service and its query, such as rivers/DaysAbove.");
        if (!call.Url.StartsWith("http", StringComparison.Ordinal))
            throw new UsageException($"'{call.Url}' is not the address of a running service, such as http://127.0.0.1:8460.");
        var values = call.Values.Select(RestCalls.Pair).ToList();
        using var client = new HttpClient();
        client.DefaultRequestHeaders.Authorization = call.Authorization;
        try
        {
            if (await EndpointAsync(client, call.Url, service, name, cancellation) is not { } endpoint)
                return 1;
            var accept = call.Format == "table" ? "json" : call.Format;
            using var response = endpoint.IsAction
                ? await PostAsync(client, endpoint, name, values, accept, cancellation)
                : await client.GetAsync(Filled(endpoint.Template, values, accept), cancellation);
            var body = await response.Content.ReadAsStringAsync(cancellation);
            return RestCalls.Show(body, call.Format, response, values.Select(v => v.Name));
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

    /// <param name="Template">The address with variables in it.</param>
    /// <param name="Root">That of the service on the plain REST face, with a slash at its end.</param>
    private sealed record Endpoint(string Template, string Root, bool IsAction);

    /// <summary>Where the query or action stands; null = the caller sees none of the name, which is then said.</summary>
    private static async Task<Endpoint?> EndpointAsync(
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
            return Of(endpoint, service);
        var isElsewhere = endpoints.Exists(e => e.GetProperty("set").GetString() == name);
        var hint = Model.NearestName.Hint(name, own.Select(e => e.GetProperty("set").GetString()!));
        Console.Error.WriteLine(
            isElsewhere
                ? $"gable: '{name}' does not stand on the plain REST face, over which queries and actions are called."
                : $"gable: {service} has no query and no action '{name}' for you.{hint}"
        );
        return null;
    }

    private static Endpoint Of(JsonElement endpoint, string service)
    {
        var url = endpoint.GetProperty("url").GetString()!;
        // The path of a service ends with its name, unless it is declared otherwise; then its documents are found from the host's root.
        var at = url.IndexOf($"/{service}/", StringComparison.Ordinal);
        var isAction = endpoint.GetProperty("operations").EnumerateArray().Any(o => o.GetString() == "call");
        return new Endpoint(url, at < 0 ? url : url[..(at + service.Length + 2)], isAction);
    }

    /// <summary>Calls an action: variables of its path get their values, and the others stand in the body.</summary>
    private static async Task<HttpResponseMessage> PostAsync(
        HttpClient client,
        Endpoint endpoint,
        string name,
        List<(string Name, string Value)> values,
        string format,
        CancellationToken cancellation
    )
    {
        var kinds = await KindsAsync(client, endpoint.Root, name, cancellation);
        var inPath = values.Where(v => endpoint.Template.Contains($"{{{v.Name}}}", StringComparison.Ordinal)).ToList();
        var asked = values.FindLast(v => v.Name == "format" && !kinds.ContainsKey("format"));
        var body = new JsonObject();
        foreach (var (parameter, value) in values.Except(inPath).Where(v => v != asked))
            body[parameter] = Json(value, kinds.GetValueOrDefault(parameter, ""));
        var address = Filled(endpoint.Template, [.. inPath, ("format", asked.Value ?? format)], format);
        using var content = new StringContent(body.ToJsonString(), Encoding.UTF8, "application/json");
        return await client.PostAsync(address, content, cancellation);
    }

    /// <summary>The JSON types of an action's parameters, as the description of the service tells them.</summary>
    private static async Task<Dictionary<string, string>> KindsAsync(
        HttpClient client,
        string root,
        string name,
        CancellationToken cancellation
    )
    {
        using var description = JsonDocument.Parse(await client.GetStringAsync(new Uri(root + "openapi.json"), cancellation));
        var schemas = description.RootElement.GetProperty("components").GetProperty("schemas");
        return schemas.TryGetProperty(name + "Arguments", out var schema) && schema.TryGetProperty("properties", out var properties)
            ? properties.EnumerateObject().ToDictionary(p => p.Name, p => p.Value.TryGetProperty("type", out var t) ? t.ToString() : "")
            : [];
    }

    /// <summary>A value in the form of its type; one that is none of it stays a text, and the service says so.</summary>
    private static JsonNode Json(string value, string kind)
    {
        var isPlain = kind.Contains("integer") || kind.Contains("number") || kind.Contains("boolean");
        try
        {
            return isPlain && JsonNode.Parse(value) is JsonValue parsed ? parsed : JsonValue.Create(value);
        }
        catch (JsonException)
        {
            return JsonValue.Create(value);
        }
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
}
