using System.Collections.Immutable;
using System.Diagnostics;
using System.Text.Json;

namespace RapidGable.Verification;

/// <summary>What is to be verified.</summary>
/// <param name="Root">Absolute service root.</param>
/// <param name="RowLimit">Rows of a set that are walked at most.</param>
/// <param name="RowsByKey">Rows of a set that are fetched again by their key.</param>
/// <param name="DatabaseCount">The number of rows in the object behind a set; null when the database is not at hand.</param>
/// <param name="Progress">Hears what is looked at now.</param>
public sealed record VerificationOptions(
    string Name,
    string Root,
    long RowLimit = 100_000,
    int RowsByKey = 20,
    Func<string, CancellationToken, Task<long?>>? DatabaseCount = null,
    Action<string>? Progress = null
);

/// <summary>
/// Verifies a service from outside, only by what it answers: any OData service will do. Every check gives a result for
/// each set, passed or not, so that a report also shows what was looked at.
/// </summary>
public sealed class ServiceVerifier
{
    private readonly IServiceProbe _probe;
    private readonly VerificationOptions _options;
    private readonly CancellationToken _cancellation;
    private readonly List<CheckResult> _results = [];
    private readonly string _root;

    private ServiceVerifier(IServiceProbe probe, VerificationOptions options, CancellationToken cancellation)
    {
        _probe = probe;
        _options = options;
        _cancellation = cancellation;
        _root = options.Root.EndsWith('/') ? options.Root : options.Root + "/";
    }

    /// <summary>Runs all generated checks of a service.</summary>
    public static async Task<ServiceReport> VerifyAsync(IServiceProbe probe, VerificationOptions options, CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        var verifier = new ServiceVerifier(probe, options, cancellation);
        await verifier.RunAsync();
        return new ServiceReport(options.Name, verifier._root, [.. verifier._results], clock.Elapsed);
    }

    private async Task RunAsync()
    {
        _options.Progress?.Invoke("documents");
        var listed = await ServiceDocumentAsync();
        if (await MetadataAsync() is not { } document)
            return;
        CompareDocuments(listed, document);
        foreach (var set in document.Containers.SelectMany(c => c.Sets).Where(s => !s.IsSingleton))
        {
            _options.Progress?.Invoke(set.Name);
            if (set.IsSingle)
                await SingleAsync(set, document);
            else if (document.FindType(set.Type) is { } type)
                await new SetVerifier(_probe, _options, _root, document, set, type, _results, _cancellation).RunAsync();
        }
        await ExpectErrorAsync("error-unknown-set", "service", "No_such_set_here", [404, 401]);
    }

    /// <summary>A function that gives one value, be it of several properties.</summary>
    private async Task SingleAsync(CsdlSet function, CsdlDocument document)
    {
        var url = _root + function.Address + (function.Parameters.IsEmpty ? "()" : "");
        var response = await _probe.GetAsync(url, "application/json", _cancellation);
        var failure = response.Status == 204 ? null : Answers.Fault(response) ?? ValueFault(function, document, response);
        Add("set-answers", function.Name, failure, response.Status == 204 ? "no value" : "one value of the declared type", 1, url);
    }

    private static string? ValueFault(CsdlSet function, CsdlDocument document, ProbeResponse response)
    {
        try
        {
            using var json = JsonDocument.Parse(response.Body);
            var values = new ValueChecker(document);
            var properties = document.FindType(function.Type) is { } type
                ? document.PropertiesOf(type)
                : [new CsdlProperty("value", function.Type, null, ImmutableDictionary<string, string>.Empty)];
            return properties
                .Select(p => (p.Name, Fault: json.RootElement.TryGetProperty(p.Name, out var v) ? values.Check(p, v) : "is missing"))
                .Where(p => p.Fault is not null)
                .Select(p => $"'{p.Name}' {p.Fault}.")
                .FirstOrDefault();
        }
        catch (JsonException)
        {
            return "It is not JSON.";
        }
    }

    private void Add(string check, string subject, string? failure, string success, long examined, string? url = null) =>
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

    private async Task<List<(string Name, string Kind)>?> ServiceDocumentAsync()
    {
        var response = await _probe.GetAsync(_root, "application/json", _cancellation);
        List<(string, string)>? listed = null;
        var failure = Answers.Fault(response);
        if (failure is null)
        {
            try
            {
                using var json = JsonDocument.Parse(response.Body);
                listed =
                [
                    .. json
                        .RootElement.GetProperty("value")
                        .EnumerateArray()
                        .Select(e =>
                            (
                                e.GetProperty("name").GetString() ?? "",
                                e.TryGetProperty("kind", out var kind) ? kind.GetString() ?? "" : "EntitySet"
                            )
                        ),
                ];
                if (json.RootElement.GetProperty("value").EnumerateArray().Any(e => !e.TryGetProperty("url", out _)))
                    failure = "An entry has no 'url'.";
            }
            catch (Exception exception) when (exception is JsonException or KeyNotFoundException or InvalidOperationException)
            {
                failure = "It is not a service document, which is a JSON object with an array 'value' of entries with 'name' and 'url'.";
            }
        }
        if (failure is null && response.ODataVersion is not ("4.0" or "4.01"))
            failure = $"The header OData-Version is '{response.ODataVersion}', not 4.0 or 4.01.";
        Add("service-document", "service", failure, $"lists {listed?.Count} resources", 1, _root);
        return listed;
    }

    private async Task<CsdlDocument?> MetadataAsync()
    {
        var url = _root + "$metadata";
        var response = await _probe.GetAsync(url, "application/xml", _cancellation);
        var faults = new List<string>();
        var document = Answers.Fault(response) is { } fault ? null : CsdlReader.Read(response.Body, faults);
        if (Answers.Fault(response) is { } failure)
            faults.Add(failure);
        if (document is not null)
            faults.AddRange(CsdlChecker.Check(document));
        foreach (var message in faults)
            Add("metadata-valid", "service", message, "", 1, url);
        if (faults.Count == 0)
            Add(
                "metadata-valid",
                "service",
                null,
                $"{document!.Types.Count()} types, {document.Containers.Sum(c => c.Sets.Length)} sets",
                1
            );
        return document;
    }

    private void CompareDocuments(List<(string Name, string Kind)>? listed, CsdlDocument document)
    {
        if (listed is null)
            return;
        var declared = document.Containers.SelectMany(c => c.Sets).ToList();
        var missing = declared.Where(s => s.IsListed && !listed.Exists(l => l.Name == s.Name)).Select(s => s.Name).ToList();
        var extra = listed
            .Where(l => l.Kind is "EntitySet" or "Singleton" && !declared.Exists(s => s.Name == l.Name))
            .Select(l => l.Name)
            .ToList();
        var failure =
            missing.Count + extra.Count == 0
                ? null
                : string.Join(
                        " ",
                        new[]
                        {
                            missing.Count > 0 ? $"The service document lacks {string.Join(", ", missing)}." : "",
                            extra.Count > 0 ? $"The metadata lacks {string.Join(", ", extra)}." : "",
                        }
                    )
                    .Trim();
        Add("documents-agree", "service", failure, $"{declared.Count} sets in both", declared.Count, _root);
    }

    private async Task ExpectErrorAsync(string check, string subject, string path, int[] statuses)
    {
        var url = _root + path;
        var response = await _probe.GetAsync(url, "application/json", _cancellation);
        Add(check, subject, Answers.ErrorFault(response, statuses), $"answers {response.Status} with an error body", 1, url);
    }
}

/// <summary>Judges answers as a whole.</summary>
internal static class Answers
{
    /// <summary>Why a 200 was expected and is not there; null when it is.</summary>
    public static string? Fault(ProbeResponse response)
    {
        if (response.Failure is { } failure)
            return $"No answer: {failure}.";
        return response.Status == 200 ? null : $"It answers {response.Status}{Message(response)}.";
    }

    /// <summary>Why an answer is not the error that was expected; null when it is.</summary>
    public static string? ErrorFault(ProbeResponse response, int[] statuses)
    {
        if (response.Failure is { } failure)
            return $"No answer: {failure}.";
        if (!statuses.Contains(response.Status))
            return $"It answers {response.Status}, and {string.Join(" or ", statuses)} is right.";
        return ErrorBody(response) is null ? "The error has no body with 'error', 'code' and 'message'." : null;
    }

    private static string Message(ProbeResponse response) => ErrorBody(response) is { } message ? $": {message.TrimEnd('.')}" : "";

    private static string? ErrorBody(ProbeResponse response)
    {
        try
        {
            using var json = JsonDocument.Parse(response.Body);
            var error = json.RootElement.GetProperty("error");
            var code = error.GetProperty("code").GetString();
            var message = error.GetProperty("message").GetString();
            return string.IsNullOrEmpty(code) || string.IsNullOrEmpty(message) ? null : message;
        }
        catch (Exception exception) when (exception is JsonException or KeyNotFoundException or InvalidOperationException)
        {
            return null;
        }
    }
}
