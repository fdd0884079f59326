using System.Diagnostics;
using System.Text.Json;
using System.Text.RegularExpressions;

namespace RapidGable.Verification;

/// <summary>What is to be verified of a service on the plain REST face.</summary>
/// <param name="Title">Of the report.</param>
/// <param name="Root">Absolute service root, with a slash at its end.</param>
/// <param name="OData">By the path of a collection: the absolute address of the same set on the OData face.</param>
/// <param name="Closed">Paths of collections that the caller should not find.</param>
/// <param name="RowLimit">Rows of a collection that are walked at most.</param>
/// <param name="Answers">Whether each described answer is called forth.</param>
/// <param name="Progress">Hears what is looked at now.</param>
public sealed record RestVerificationOptions(
    string Title,
    string Root,
    IReadOnlyDictionary<string, string> OData,
    IReadOnlyList<string> Closed,
    long RowLimit,
    bool Answers = true,
    Action<string>? Progress = null
);

/// <summary>
/// Verifies a service on the plain REST face from outside: by its OpenAPI document, by what it answers, and by what the OData face answers.
/// </summary>
public sealed partial class RestVerifier
{
    // Rows that are held against those of the other face, and looked at value by value.
    internal const int ComparedRows = 200;

    private readonly IRestProbe _probe;
    private readonly CancellationToken _cancellation;
    private readonly List<CheckResult> _results = [];

    private RestVerifier(IRestProbe probe, RestVerificationOptions options, CancellationToken cancellation) =>
        (_probe, Options, _cancellation) = (probe, options, cancellation);

    internal RestVerificationOptions Options { get; }

    internal void Add(CheckResult result) => _results.Add(result);

    internal Task<RestResponse> SendAsync(
        string method,
        string url,
        IReadOnlyList<(string Name, string Value)> headers,
        (string Type, string Text)? content
    ) => _probe.SendAsync(method, url, headers, content, _cancellation);

    /// <summary>Runs all generated checks.</summary>
    public static async Task<ServiceReport> VerifyAsync(IRestProbe probe, RestVerificationOptions options, CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        var verifier = new RestVerifier(probe, options, cancellation);
        await verifier.RunAsync();
        return new ServiceReport(options.Title, options.Root, [.. verifier._results], clock.Elapsed);
    }

    internal void Add(string check, string subject, string? failure, string success, long examined, string? url = null) =>
        _results.Add(
            new CheckResult(
                check,
                subject,
                failure is null ? CheckOutcome.Passed : CheckOutcome.Failed,
                failure ?? success,
                examined,
                failure is null ? null : url
            )
        );

    internal string UrlOf(string path) => Options.Root.TrimEnd('/') + path;

    internal Task<RestResponse> GetAsync(string url, params (string, string)[] headers) => SendAsync("GET", url, headers, null);

    private async Task RunAsync()
    {
        Options.Progress?.Invoke("OpenAPI");
        var url = UrlOf("/openapi.json");
        var answer = await GetAsync(url);
        if (answer.Status != 200)
        {
            Add("rest-openapi", "service", $"It answers {answer.Status}{answer.Failure}.", "", 1, url);
            return;
        }
        var description = OpenApiDescription.Read(answer.Body);
        foreach (var fault in description.Faults)
            Add("rest-openapi", "service", fault, "", 1, url);
        if (description.Faults.Count > 0)
            return;
        Add("rest-openapi", "service", null, $"{description.Operations.Count} operations, {description.Schemas} schemas", 1);
        foreach (var list in description.Operations.Where(o => o.Method == "GET" && o.Path != "/" && o.IsCalledByExamples))
        {
            Options.Progress?.Invoke(list.Path);
            await new RestCollectionCheck(this, description, list).RunAsync();
        }
        foreach (var statements in description.Operations.Where(o => o.TakesSql))
            await new RestSqlCheck(this, statements).RunAsync();
        if (Options.Answers)
            await new RestAnswersCheck(this, description).RunAsync();
        foreach (var path in Options.Closed)
            await AbsentAsync(path, description);
    }

    /// <summary>What is closed is told like what is not there.</summary>
    private async Task AbsentAsync(string path, OpenApiDescription description)
    {
        // Of a path of several segments nothing is told but the first one, which may lead to something else.
        var name = path.Split('/')[0];
        if (name.Length < path.Length && description.Operations.Any(o => o.Path.Split('/')[1] == name))
            return;
        var rest = path[name.Length..].Replace("{", "", StringComparison.Ordinal).Replace("}", "", StringComparison.Ordinal);
        var other = new string('q', name.Length);
        var (closed, nothing) = (await GetAsync(UrlOf($"/{name}{rest}")), await GetAsync(UrlOf($"/{other}{rest}")));
        var told = WithoutHint(closed.Text, name).Replace(name, other);
        var isSame = closed.Status is 404 or 401 && closed.Status == nothing.Status && told == nothing.Text;
        Add(
            "rest-absent",
            path,
            isSame ? null : $"It answers {closed.Status} '{Short(closed.Text)}', and what is not there {nothing.Status}.",
            "looks as if it were not there",
            2,
            UrlOf("/" + path)
        );
    }

    /// <summary>A text without a hint at something else that the caller may know of.</summary>
    private static string WithoutHint(string text, string name) =>
        HintPattern().Replace(text, m => m.Groups[1].Value == name ? m.Value : "");

    [GeneratedRegex(" Did you mean '([^']*)'\\?")]
    private static partial Regex HintPattern();

    internal static string Short(string text) => text.Length > 160 ? text[..160] + "…" : text;

    /// <summary>The rows of an answer as JSON.</summary>
    internal static List<JsonElement> RowsOf(RestResponse answer)
    {
        var root = JsonDocument.Parse(answer.Body).RootElement;
        return [.. (root.ValueKind == JsonValueKind.Array ? root : root.GetProperty("rows")).EnumerateArray()];
    }

    internal static string? NextOf(RestResponse answer) =>
        answer
            .Headers.GetValueOrDefault("Link", "")
            .Split(", <")
            .Where(l => l.Contains("rel=\"next\"", StringComparison.Ordinal))
            .Select(l => l.TrimStart('<').Split('>')[0])
            .FirstOrDefault();
}
