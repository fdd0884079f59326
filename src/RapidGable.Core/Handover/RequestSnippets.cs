using System.Collections.Immutable;
using System.Text.Json;

namespace RapidGable.Handover;

/// <summary>A program for one request.</summary>
/// <param name="Language">For people, such as <c>Python</c>.</param>
public sealed record RequestSnippet(string Language, string Text);

/// <summary>Programs that read all rows of an address, page by page. A key is taken from the variable GABLE_KEY.</summary>
public static class RequestSnippets
{
    /// <param name="url">Of a list, absolute and percent-encoded.</param>
    /// <param name="isOData">The face: it decides what rows and the next page are called.</param>
    /// <param name="withKey">The caller signs in by a key.</param>
    public static ImmutableArray<RequestSnippet> Of(string url, bool isOData, bool withKey)
    {
        var names = isOData ? new Names("value", "@odata.nextLink") : new Names("rows", "next");
        return [Shell(url, withKey), Python(url, names, withKey), TypeScript(url, names, withKey), CSharp(url, names, withKey)];
    }

    private sealed record Names(string Rows, string Next);

    /// <summary>The address as a text of a program; JSON's texts are texts of all three languages.</summary>
    private static string Text(string text) =>
        JsonSerializer.Serialize(
            text,
            new JsonSerializerOptions { Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping }
        );

    private static RequestSnippet Shell(string url, bool withKey) =>
        new(
            "Shell",
            "curl --fail --silent \\\n"
                + (withKey ? "  --header \"Authorization: Bearer $GABLE_KEY\" \\\n" : "")
                + $"  '{url.Replace("'", "%27", StringComparison.Ordinal)}'\n"
        );

    private static RequestSnippet Python(string url, Names names, bool withKey) =>
        new(
            "Python",
            $$"""
            import json
            {{(withKey ? "import os\n" : "")}}import urllib.request


            def rows(url):
                while url:
                    request = urllib.request.Request(url)
            {{(
                withKey ? "        request.add_header(\"Authorization\", \"Bearer \" + os.environ[\"GABLE_KEY\"])\n" : ""
            )}}        with urllib.request.urlopen(request) as answer:
                        page = json.load(answer)
                    yield from page[{{Text(names.Rows)}}]
                    url = page.get({{Text(names.Next)}})


            for row in rows({{Text(url)}}):
                print(row)

            """
        );

    private static RequestSnippet TypeScript(string url, Names names, bool withKey) =>
        new(
            "TypeScript",
            $$"""
            type Row = Record<string, unknown>;

            async function* rows(url: string | undefined): AsyncGenerator<Row> {
              while (url) {
                const answer = await fetch(url{{(
                withKey ? ", {\n      headers: { Authorization: `Bearer ${process.env.GABLE_KEY}` },\n    }" : ""
            )}});
                if (!answer.ok) throw new Error(await answer.text());
                const page = await answer.json();
                yield* page[{{Text(names.Rows)}}];
                url = page[{{Text(names.Next)}}];
              }
            }

            for await (const row of rows({{Text(url)}})) console.log(row);

            """
        );

    private const string CSharpKey = """
        client.DefaultRequestHeaders.Authorization = new AuthenticationHeaderValue(
            "Bearer",
            Environment.GetEnvironmentVariable("GABLE_KEY")
        );

        """;

    private static RequestSnippet CSharp(string url, Names names, bool withKey) =>
        new(
            "C#",
            $$"""
            using System.Net.Http.Headers;
            using System.Text.Json;

            using var client = new HttpClient();
            {{(withKey ? CSharpKey : "")}}for (string? url = {{Text(url)}}; url is not null; )
            {
                using var page = JsonDocument.Parse(await client.GetStringAsync(url));
                foreach (var row in page.RootElement.GetProperty({{Text(names.Rows)}}).EnumerateArray())
                    Console.WriteLine(row);
                url = page.RootElement.TryGetProperty({{Text(names.Next)}}, out var next) ? next.GetString() : null;
            }

            """
        );
}
