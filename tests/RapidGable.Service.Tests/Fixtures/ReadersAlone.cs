using System.Text;
using RapidGable.Declarations;
using RapidGable.Payloads.Json;
using RapidGable.Payloads.Plain;
using RapidGable.Requests;
using RapidGable.Requests.OData;
using RapidGable.Requests.Statements;
using RapidGable.Service.Faces.OData;
using RapidGable.Sources;
using RapidGable.Verification;

namespace RapidGable.Service.Tests;

/// <summary>
/// Every reader of texts that callers or editors send, fed with what is deep, long or broken. Each runs in a process of its own with a
/// small heap: an overflow of the stack ends a process, and nothing can catch it.
/// </summary>
internal static class ReadersAlone
{
    private static readonly Dictionary<string, Action<byte[]>> Readers = new()
    {
        ["yaml-declaration"] = b => Declarations.YamlTree.Read("services/s.yaml", Text(b), new Diagnostics()),
        ["yaml-edit"] = b => Ignored<InvalidDataException>(() => Drafting.YamlTree.Read(Text(b))),
        ["yaml-source"] = b => Declarations.YamlTree.Read("sources/s.yaml", Text(b), new Diagnostics()),
        ["json"] = b => Dispose(PlainBody.Json(b).Value),
        ["json-lines"] = b => Dispose(PlainBody.JsonLines(b).Value),
        ["json-patch"] = Patch,
        ["odata-json"] = b => Dispose(ODataJsonBody.Parse(b, ODataJsonForm.V401).Value),
        ["csv"] = b => Dispose(PlainBody.Csv(b).Value),
        ["xml-metadata"] = b => CsdlReader.Read(b, []),
        ["openapi"] = b => _ = OpenApiDescription.Read(b).Faults.Count,
        ["multipart"] = b => MultipartBatch.Read(b, "b", 100),
        ["json-batch"] = b => JsonBatch.Read(b, 100),
        ["odata-filter"] = b => Url("$filter=", b),
        ["odata-select"] = b => Url("$select=", b),
        ["odata-expand"] = b => Url("$expand=", b),
        ["odata-apply"] = b => Url("$apply=", b),
        ["odata-search"] = b => Url("$search=", b),
        ["odata-compute"] = b => Url("$compute=", b),
        ["odata-alias"] = b => Url("$filter=@a&@a=", b),
        ["odata-path"] = b => Path(b),
        ["statement"] = b => StatementParser.Parse(Text(b)),
        ["sql-marks"] = b => SqlMarks.Read(Text(b), new SqlLexis(HasNestedComments: true, HasDollarQuotes: true)),
        ["sql-script"] = b => SqlScript.Read(Text(b), new SqlLexis(HasBackslashEscapes: true, HasHashComments: true)),
        ["database-address"] = b => DatabaseAddress.Parse(Text(b), out _),
        ["position"] = b => PagePosition.Read(Text(b)),
        ["statement-body"] = b => SentStatement.Json(b),
    };

    public static IEnumerable<string> Names => Readers.Keys;

    public static int Main(string[] arguments)
    {
        if (arguments is not [var name] || !Readers.TryGetValue(name, out var read))
        {
            Console.Error.WriteLine("Name a reader: " + string.Join(", ", Readers.Keys));
            return 2;
        }
        var count = 0;
        foreach (var input in Inputs(new Random(7)))
        {
            read(input);
            count++;
        }
        Console.WriteLine($"{count} inputs read");
        return 0;
    }

    private static string Text(byte[] bytes) => Encoding.UTF8.GetString(bytes);

    private static void Dispose(IDisposable? read) => read?.Dispose();

    private static void Ignored<T>(Action read)
        where T : Exception
    {
        try
        {
            read();
        }
        catch (T) { }
    }

    private static void Url(string option, byte[] bytes)
    {
        if (RequestAddress.Read("Stations", option + Uri.EscapeDataString(Text(bytes))).Is(out var address, out _))
            _ = LexedRequest.Read(address).Value?.Parse();
    }

    private static void Path(byte[] bytes)
    {
        if (RequestAddress.Read(Uri.EscapeDataString(Text(bytes)).Replace("%2F", "/"), "").Is(out var address, out _))
            _ = LexedRequest.Read(address).Value?.Parse();
    }

    private static void Patch(byte[] bytes)
    {
        using var entity = System.Text.Json.JsonDocument.Parse("""{"a":[1],"b":{"c":null}}""");
        try
        {
            using var patch = System.Text.Json.JsonDocument.Parse(bytes);
            JsonPatch.Changes(patch.RootElement, entity.RootElement, 1_000_000);
        }
        catch (System.Text.Json.JsonException) { }
    }

    /// <summary>What nests, what repeats, what does not end, and pieces of all of it in any order.</summary>
    private static IEnumerable<byte[]> Inputs(Random random)
    {
        string[] open =
        [
            "[",
            "{",
            "(",
            "{\"a\":",
            "[{\"a\":[",
            "- ",
            "a: {b: ",
            "? ",
            "<a>",
            "<!--",
            "/*",
            "$x$",
            "not ",
            "-",
            "case(",
            "concat(a,",
            "a/any(x:x/",
            "A($expand=",
            "filter(",
            "--b\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n",
            "SELECT a FROM b WHERE a IN (",
            "CASE WHEN ",
            "NOT ",
            "CAST(",
            "\"",
            "'",
            "\\",
            "${",
            "&",
            "*",
        ];
        foreach (var part in open)
        {
            foreach (var times in new[] { 60, 2_000, 200_000 })
                yield return Encoding.UTF8.GetBytes(Repeated(part, times));
            yield return Encoding.UTF8.GetBytes(Repeated(part, 3_000) + "1" + Repeated(Closing(part), 3_000));
            yield return Encoding.UTF8.GetBytes(string.Concat(Enumerable.Range(0, 300).Select(i => "\n" + new string(' ', i) + part)));
        }
        for (var i = 0; i < 2_000; i++)
        {
            var text = new StringBuilder();
            for (var n = random.Next(1, 60); n > 0; n--)
                text.Append(random.Next(4) == 0 ? Closing(open[random.Next(open.Length)]) : open[random.Next(open.Length)]);
            var bytes = Encoding.UTF8.GetBytes(text.ToString());
            for (var n = random.Next(3); n > 0 && bytes.Length > 0; n--)
                bytes[random.Next(bytes.Length)] = (byte)random.Next(256);
            yield return bytes;
        }
    }

    private static string Closing(string part) =>
        string.Concat(
            part.Reverse()
                .Select(c =>
                    c switch
                    {
                        '[' => "]",
                        '{' => "}",
                        '(' => ")",
                        '<' => "</a>",
                        _ => "",
                    }
                )
        );

    private static string Repeated(string part, int times) =>
        new StringBuilder().Insert(0, part, Math.Min(times, 2_000_000 / Math.Max(1, part.Length))).ToString();
}
