using System.CommandLine;
using System.Diagnostics;
using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using System.Xml.Linq;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable get</c>: asks one address and shows the answer.</summary>
internal static class GetCommand
{
    private static readonly string[] ShownHeaders =
    [
        "Content-Type",
        "Content-Length",
        "OData-Version",
        "Location",
        "Allow",
        "ETag",
        "Preference-Applied",
        "Retry-After",
        "WWW-Authenticate",
        "Vary",
    ];
    private const string JsonLinesType = "application/x-ndjson";

    private static readonly JsonSerializerOptions Indented = new()
    {
        WriteIndented = true,
        Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    };

    public static Command Create()
    {
        var url = new Argument<string>("url") { Description = "The whole address. Blanks may stay as they are; they are encoded." };
        var header = new Option<string[]>("--header", "-H")
        {
            Description = "A request header, such as 'Accept: application/xml'; may be repeated.",
        };
        var body = new Option<bool>("--body") { Description = "Print the body only, exactly as it came." };
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "get",
            "Ask one address; show status, the headers that matter, the body and the time.",
            "gable get http://127.0.0.1:8460/odata/rivers/",
            "gable get 'http://127.0.0.1:8460/odata/rivers/Stations?$top=2&$select=code,name'",
            "gable get http://127.0.0.1:8460/odata/rivers/Readings -H 'Prefer: maxpagesize=5'",
            "gable get 'http://127.0.0.1:8460/odata/rivers/Stations?$format=jsonl' --body"
        )
        {
            url,
            header,
            body,
            json,
        };
        command.SetAction(
            (result, cancellation) =>
                RunAsync(result.GetValue(url)!, result.GetValue(header) ?? [], result.GetValue(body), result.GetValue(json), cancellation)
        );
        return command;
    }

    /// <summary>
    /// An address as people type it, made ready to be sent: blanks and other characters that may not stand in a URL are encoded.
    /// </summary>
    internal static Uri Address(string text)
    {
        var encoded = string.Concat(
            text.Trim()
                .Select(c =>
                    c is ' ' or '"' or '<' or '>' or '\\' or '^' or '`' or '{' or '}' or '|' || c > 126 || c < 32
                        ? Uri.EscapeDataString(c.ToString())
                        : c.ToString()
                )
        );
        if (text.Any(char.IsSurrogate))
            encoded = Uri.EscapeDataString(text.Trim())
                .Replace("%2F", "/")
                .Replace("%3A", ":")
                .Replace("%3F", "?")
                .Replace("%26", "&")
                .Replace("%3D", "=")
                .Replace("%24", "$")
                .Replace("%25", "%");
        if (
            !Uri.TryCreate(encoded, new UriCreationOptions { DangerousDisablePathAndQueryCanonicalization = true }, out var uri)
            || uri.Scheme is not ("http" or "https")
        )
            throw new UsageException($"'{text}' is not an address that starts with http:// or https://.");
        return uri;
    }

    private static async Task<int> RunAsync(string url, string[] headers, bool bodyOnly, bool json, CancellationToken cancellation)
    {
        var address = Address(url);
        using var client = new HttpClient(new SocketsHttpHandler { AllowAutoRedirect = false });
        using var request = new HttpRequestMessage(HttpMethod.Get, address);
        foreach (var header in headers)
        {
            var colon = header.IndexOf(':');
            if (colon <= 0 || !request.Headers.TryAddWithoutValidation(header[..colon].Trim(), header[(colon + 1)..].Trim()))
                throw new UsageException($"'{header}' is not a header of the form 'Name: value'.");
        }
        var clock = Stopwatch.StartNew();
        byte[] body;
        HttpResponseMessage response;
        try
        {
            response = await client.SendAsync(request, cancellation);
            body = await response.Content.ReadAsByteArrayAsync(cancellation);
        }
        catch (HttpRequestException exception)
        {
            Console.Error.WriteLine($"gable: no answer from {address.Authority}: {exception.Message}");
            return 1;
        }
        var time = clock.Elapsed;
        using (response)
        {
            if (bodyOnly)
            {
                await using var output = Console.OpenStandardOutput();
                await output.WriteAsync(body, cancellation);
            }
            else if (json)
                Terminal.WriteJson(
                    new
                    {
                        url,
                        status = (int)response.StatusCode,
                        headers = AllHeaders(response).ToDictionary(h => h.Name, h => h.Value),
                        body = Encoding.UTF8.GetString(body),
                        milliseconds = Math.Round(time.TotalMilliseconds, 1),
                    }
                );
            else
                Write(response, body, time);
            return response.IsSuccessStatusCode || (int)response.StatusCode is >= 300 and < 400 ? 0 : 1;
        }
    }

    private static IEnumerable<(string Name, string Value)> AllHeaders(HttpResponseMessage response) =>
        response.Headers.NonValidated.Concat(response.Content.Headers.NonValidated).Select(h => (h.Key, string.Join(", ", h.Value)));

    private static void Write(HttpResponseMessage response, byte[] body, TimeSpan time)
    {
        var status = (int)response.StatusCode;
        Terminal.Out.MarkupLine(
            $"[bold {(status < 400 ? "green" : "red")}]{status} {Markup.Escape(response.ReasonPhrase ?? "")}[/]  "
                + $"[grey]{time.TotalMilliseconds:0.0} ms, {body.Length:N0} bytes[/]"
        );
        foreach (var (name, value) in AllHeaders(response).Where(h => ShownHeaders.Contains(h.Name, StringComparer.OrdinalIgnoreCase)))
            Terminal.Out.MarkupLine($"[grey]{Markup.Escape(name)}:[/] {Markup.Escape(value)}");
        if (body.Length == 0)
            return;
        Terminal.Out.WriteLine();
        Console.Out.WriteLine(Formatted(response.Content.Headers.ContentType?.MediaType ?? "", body));
    }

    private static string Formatted(string type, byte[] body)
    {
        try
        {
            if (type.EndsWith("json", StringComparison.Ordinal) && type != JsonLinesType)
            {
                using var document = JsonDocument.Parse(body);
                return JsonSerializer.Serialize(document.RootElement, Indented);
            }
            if (type.Contains("xml"))
                return XDocument.Parse(Encoding.UTF8.GetString(body)).ToString();
        }
        catch (Exception exception) when (exception is JsonException or System.Xml.XmlException)
        {
            Console.Error.WriteLine($"gable: the body says {type}, and it is not: {exception.Message}");
        }
        return type.StartsWith("text/") || type.Contains("json") || type.Contains("xml")
            ? Encoding.UTF8.GetString(body)
            : $"({body.Length} bytes of {type})";
    }
}
