using Microsoft.AspNetCore.Http;
using Microsoft.Net.Http.Headers;
using RapidGable.Changes;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Payloads.Json;
using RapidGable.Requests;
using RapidGable.Service.Traffic;
using RapidGable.Sources;

namespace RapidGable.Service.Faces.OData;

/// <summary>One request of a batch.</summary>
/// <param name="Id">Unique in the batch; empty = nothing refers to it.</param>
/// <param name="Group">The atomicity group or change set; null = none.</param>
/// <param name="DependsOn">Ids of requests and groups that must have succeeded.</param>
internal sealed record BatchRequest(
    string Id,
    string Method,
    string Url,
    IReadOnlyList<(string Name, string Value)> Headers,
    byte[] Body,
    string? Group,
    IReadOnlyList<string> DependsOn
);

/// <summary>A batch as one of its two formats reads it.</summary>
/// <param name="AnswersAll">Requests that were not run are answered too.</param>
internal sealed record Batch(IReadOnlyList<BatchRequest> Requests, bool AnswersAll);

/// <summary>One answer of a batch.</summary>
internal sealed record BatchResponse(BatchRequest Request, InnerResponse Response);

/// <summary>Writes the answer to a batch, piece by piece.</summary>
internal interface IBatchWriter
{
    string ContentType { get; }

    /// <summary>The next answers: one, or those of a group.</summary>
    byte[] Write(IReadOnlyList<BatchResponse> responses);

    /// <summary>What follows the last of them.</summary>
    byte[] End();
}

/// <summary><c>$batch</c> (Protocol 11.7): several requests in one body, in JSON or multipart.</summary>
internal static class BatchRunner
{
    public static async Task<RequestFault?> AnswerAsync(ODataExchange exchange, string query, ODataFace face)
    {
        if (!HttpMethods.IsPost(exchange.Request.Method))
            return FacePipeline.Refused(exchange, "POST, OPTIONS", $"{exchange.Request.Method} is not allowed here; $batch takes POST.");
        if (InnerExchange.IsPart(exchange.Context))
            return new RequestFault(400, "batch", "A batch cannot contain another batch.");
        if (query.Length > 0 && RequestAddress.Read("", query).Fault is { } bad)
            return bad;
        if (!MediaTypeHeaderValue.TryParse(exchange.Request.ContentType, out var type))
            return new RequestFault(415, "content-type", "A batch is application/json or multipart/mixed with a boundary.", "Content-Type");
        var isJson = type.MediaType.Equals("application/json", StringComparison.OrdinalIgnoreCase);
        if (!isJson && !type.MediaType.Equals("multipart/mixed", StringComparison.OrdinalIgnoreCase))
            return new RequestFault(
                415,
                "content-type",
                $"A batch is application/json or multipart/mixed, not {type.MediaType}.",
                "Content-Type"
            );
        if (!(await Bodies.ReadAsync(exchange)).Is(out var body, out var fault))
            return fault;
        var most = face.Pipeline.Limits.BatchRequests;
        var read = isJson
            ? JsonBatch.Read(body, most)
            : MultipartBatch.Read(body, HeaderUtilities.RemoveQuotes(type.Boundary).ToString(), most);
        if (!read.Is(out var batch, out fault) || Check(batch, most) is { } wrong && (fault = wrong) is not null)
            return fault;
        var goesOn = exchange.Preferences.ContinueOnError;
        if (goesOn)
        {
            exchange.Preferences.Apply("continue-on-error");
            exchange.Response.Headers["Preference-Applied"] = exchange.Preferences.Applied;
        }
        var asJson = IsAnsweredAsJson(exchange, batch, isJson);
        IBatchWriter writer = asJson ? new JsonBatchWriter() : new MultipartBatchWriter();
        exchange.Response.ContentType = writer.ContentType;
        // Each answer goes as soon as it is there, so that no more than one of them is held.
        var delivery = new Delivery(exchange.Context, exchange.Traffic, () => false);
        await foreach (var answers in RunAsync(exchange, batch, goesOn, face))
        {
            await delivery.SendAsync(writer.Write(answers));
            exchange.Allowance.Give(answers.Sum(a => a.Response.Held));
        }
        await delivery.SendAsync(writer.End());
        return null;
    }

    /// <summary>
    /// Whether the answer is JSON: it comes in the format of the request unless the other one is asked for (Protocol 11.7.8). Clients of
    /// 4.0 accept JSON for what is inside of the parts, and without ids the answers could not be told apart.
    /// </summary>
    private static bool IsAnsweredAsJson(ODataExchange exchange, Batch batch, bool isJson)
    {
        var accept = exchange.Request.Headers.Accept.ToString();
        if (accept.Contains("multipart/mixed", StringComparison.OrdinalIgnoreCase))
            return false;
        var isAskedFor = exchange.Version != ODataVersion.V40 && accept.Contains("application/json", StringComparison.OrdinalIgnoreCase);
        return isJson || (isAskedFor && batch.Requests.All(r => r.Id.Length > 0));
    }

    /// <summary>What is wrong with the envelope, so that nothing of it is run (J-62).</summary>
    private static RequestFault? Check(Batch batch, int most)
    {
        RequestFault Fault(string message) => new(400, "batch", message);
        if (batch.Requests.Count > most)
            return Fault($"The batch has more than {most} requests.");
        var known = new HashSet<string>();
        string? group = null;
        var groups = new HashSet<string>();
        foreach (var request in batch.Requests)
        {
            if (request.Id.Length > 0 && !known.Add(request.Id))
                return Fault($"The id '{request.Id}' is given twice.");
            if (request.Group is not null && request.Group != group && !groups.Add(request.Group))
                return Fault($"The requests of the group '{request.Group}' do not stand next to each other.");
            group = request.Group;
            if (request.Group is not null && known.Contains(request.Group))
                return Fault($"'{request.Group}' is the name of a group and the id of a request.");
            if (request.DependsOn.FirstOrDefault(d => d == request.Id || (!known.Contains(d) && !groups.Contains(d))) is { } unknown)
                return Fault($"The request '{request.Id}' depends on '{unknown}', which does not stand before it.");
            if (Reference(request.Url) is { } reference && (reference == request.Id || !known.Contains(reference)))
                return Fault($"The request '{request.Id}' starts at '${reference}', which does not stand before it.");
        }
        return null;
    }

    /// <summary>The id that an address such as <c>$1/Sensors</c> starts with; null when it is a plain one.</summary>
    private static string? Reference(string url)
    {
        if (!url.StartsWith('$'))
            return null;
        var end = url.AsSpan(1).IndexOfAny('/', '?');
        var id = end < 0 ? url[1..] : url.Substring(1, end);
        return id is "metadata" or "batch" or "all" or "entity" || id.StartsWith("crossjoin", StringComparison.Ordinal) ? null : id;
    }

    /// <summary>The answers, those of a group together, as they come.</summary>
    private static async IAsyncEnumerable<List<BatchResponse>> RunAsync(ODataExchange exchange, Batch batch, bool goesOn, ODataFace face)
    {
        var failed = new HashSet<string>();
        var addresses = new Dictionary<string, string>();
        var stopped = false;
        for (var i = 0; i < batch.Requests.Count; )
        {
            var unit = batch.Requests[i].Group is { } group
                ? batch.Requests.Skip(i).TakeWhile(r => r.Group == group).ToList()
                : [batch.Requests[i]];
            i += unit.Count;
            if (stopped && !batch.AnswersAll)
                break;
            var results =
                stopped
                    ?
                    [
                        .. unit.Select(r => new BatchResponse(
                            r,
                            NotRun("An earlier request failed, and the batch does not go on after errors.")
                        )),
                    ]
                : unit[0].Group is null ? [await OneAsync(exchange, unit[0], failed, addresses, face, null)]
                : await GroupAsync(exchange, unit, failed, addresses, face);
            if (results.Exists(r => !r.Response.IsSuccess))
            {
                // A group is done as a whole or not at all.
                results =
                [
                    .. results.Select(r =>
                        r.Response.IsSuccess
                            ? r with
                            {
                                Response = NotRun("Another request of the same group failed.") with { Held = r.Response.Held },
                            }
                            : r
                    ),
                ];
                failed.UnionWith(unit.Select(r => r.Id).Append(unit[0].Group ?? unit[0].Id).Where(id => id.Length > 0));
                stopped |= !goesOn;
            }
            yield return results;
        }
    }

    private static InnerResponse NotRun(string message) =>
        new(424, [("Content-Type", "application/json")], ErrorJsonWriter.Write(new RequestFault(424, "dependency", message)));

    /// <summary>
    /// Requests that are done as a whole or not at all, in one transaction; it is tried again when others got in its way (M-51).
    /// </summary>
    private static async Task<List<BatchResponse>> GroupAsync(
        ODataExchange exchange,
        List<BatchRequest> group,
        HashSet<string> failed,
        Dictionary<string, string> addresses,
        ODataFace face
    )
    {
        using var tries = face.Changes.Try(TimeSpan.FromSeconds(Limits.StatementSeconds));
        while (true)
        {
            await using var unit = new ChangeUnit(exchange.Service, exchange.Caller, face.Changes, exchange.Allowance)
            {
                IsGroup = true,
                IsTrial = exchange.IsTrial,
                BeforeFinal = exchange.NoteChange,
            };
            var known = new Dictionary<string, string>(addresses);
            var results = new List<BatchResponse>();
            foreach (var request in group)
                results.Add(
                    results.Exists(r => !r.Response.IsSuccess)
                        ? new BatchResponse(request, NotRun("A request that this one depends on failed."))
                        : await OneAsync(exchange, request, failed, known, face, unit)
                );
            var isGood = results.TrueForAll(r => r.Response.IsSuccess);
            if (isGood && await CommitAsync(unit, face, exchange.Context.TraceIdentifier) is { } fault)
                (isGood, results[^1]) = (false, results[^1] with { Response = Failed(fault) });
            if (!isGood && unit.HasCollided && await tries.AgainAsync(unit, exchange.Cancellation))
            {
                exchange.Allowance.Give(results.Sum(r => r.Response.Held));
                continue;
            }
            foreach (var (id, address) in known)
                addresses[id] = address;
            return results;
        }
    }

    /// <summary>Makes the changes of a group final; a fault when they were undone, or the outcome is not known.</summary>
    private static async Task<RequestFault?> CommitAsync(ChangeUnit unit, ODataFace face, string request)
    {
        try
        {
            await unit.CommitAsync(CancellationToken.None);
            return null;
        }
        catch (Exception exception) when (Faults.OfState(exception) is { } fault)
        {
            face.Pipeline.Note(exception, request);
            return fault;
        }
        catch (SourceException exception)
        {
            unit.HasCollided |= exception.Kind == SourceFaultKind.Collision;
            face.Pipeline.Note(exception, unit.Service, "$batch", request);
            return Faults.From(exception);
        }
    }

    private static InnerResponse Failed(RequestFault fault) =>
        new(fault.Status, [("Content-Type", "application/json")], ErrorJsonWriter.Write(fault));

    private static async Task<BatchResponse> OneAsync(
        ODataExchange exchange,
        BatchRequest request,
        HashSet<string> failed,
        Dictionary<string, string> addresses,
        ODataFace face,
        ChangeUnit? unit
    )
    {
        if (request.DependsOn.Append(Reference(request.Url)).Any(id => id is not null && failed.Contains(id)))
            return new BatchResponse(request, NotRun("A request that this one depends on failed."));
        var root = new Uri(exchange.Root).AbsolutePath;
        if (Target(request, exchange.Root, root, addresses) is not { } target)
            return new BatchResponse(request, Failed(RequestFault.NotFound($"'{request.Url}' is not an address of this service.")));
        string? AddressOf(string reference) =>
            Reference(reference) is { } id && addresses.TryGetValue(id, out var address) ? address + reference[(id.Length + 1)..] : null;
        var response = await InnerExchange.RunAsync(
            exchange.Context,
            exchange.Caller,
            new InnerRequest(request.Method.ToUpperInvariant(), target, request.Headers, request.Body),
            face,
            face.Pipeline,
            exchange.Allowance,
            exchange.Cancellation,
            unit,
            AddressOf,
            isPart: true
        );
        if (request.Id.Length > 0)
        {
            // What a request made is where it says; else a reference is about what it addressed.
            var made = response.Headers.FirstOrDefault(h => h.Name.Equals("Location", StringComparison.OrdinalIgnoreCase)).Value;
            addresses[request.Id] =
                response.IsSuccess && made is not null && made.StartsWith(exchange.Root, StringComparison.Ordinal)
                    ? root + made[exchange.Root.Length..]
                    : target.Split('?')[0];
        }
        return new BatchResponse(request, response);
    }

    /// <summary>
    /// The path and query of a request: its address may be absolute, start at the host, or count from the batch's own (JSON format
    /// 19.2).
    /// </summary>
    private static string? Target(BatchRequest request, string root, string rootPath, Dictionary<string, string> addresses)
    {
        var url = request.Url;
        if (Reference(url) is { } reference)
            return addresses[reference] + url[(reference.Length + 1)..];
        if (url.StartsWith(root, StringComparison.Ordinal))
            return rootPath + url[root.Length..];
        if (url.StartsWith('/'))
            return url.StartsWith(rootPath, StringComparison.Ordinal) ? url : null;
        return url.Contains("://", StringComparison.Ordinal) ? null : rootPath + url;
    }
}
