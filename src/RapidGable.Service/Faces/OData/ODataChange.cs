using System.Text.Json;
using Microsoft.AspNetCore.Http;
using Microsoft.Net.Http.Headers;
using RapidGable.Changes;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Payloads.Json;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.OData;
using RapidGable.Sources;

namespace RapidGable.Service.Faces.OData;

/// <summary>
/// A request that changes something: what stands in its headers and body, the transaction around it, and its answer (Protocol 11.4).
/// </summary>
internal sealed class ODataChange(ODataExchange exchange, IRepeatedAnswerStore repeats, ChangeEnvironment changes, TimeProvider time)
{
    /// <summary>What of an entity goes into the answer.</summary>
    private sealed record ReadBack(int Status, string? ContentType, byte[] Body, string? ETag);

    /// <param name="notSignedIn">Gives the fault for an anonymous caller; null = nobody can sign in.</param>
    public async Task<RequestFault?> AnswerAsync(string path, string query, Func<RequestFault?> notSignedIn)
    {
        if (
            !RequestAddress.Read(path, query).Is(out var address, out var fault)
            || !ChangeOptions.Of(address, exchange).Is(out var options, out fault)
            || !(address with { Options = options.Path }).ResolveEntityId(exchange.Root).Is(out address, out fault)
            || !LexedRequest.Read(address).Is(out var lexed, out fault)
            || !exchange.Service.PrepareChange(lexed, exchange.Caller).Is(out var change, out fault)
        )
            return fault;
        var bound = change.Request.Path;
        var verb = VerbOf(exchange.Request.Method);
        var seen = bound.Root is null ? [] : ChangeRunner.Taken(bound, bound.Target, change.Model);
        if (verb is not { } asked || !seen.Contains(asked))
        {
            var declared =
                bound.Root is not null && exchange.Service.Model.FindSet(bound.Target.Name) is { } whole
                    ? ChangeRunner.Taken(bound, whole, exchange.Service.Model)
                    : [];
            if (verb is { } closed && declared.Contains(closed))
                return (exchange.Caller.IsSignedIn ? null : notSignedIn())
                    ?? new RequestFault(403, "forbidden", $"{exchange.Request.Method} is not allowed for you here.");
            var mayRead = bound.Root is null || change.Visible.FindSet(bound.Target.Name) is not null;
            var allowed = string.Join(
                ", ",
                (mayRead && !bound.IsEach ? ["GET", "HEAD"] : Array.Empty<string>())
                    .Concat(seen.Select(v => v.ToString().ToUpperInvariant()))
                    .Append("OPTIONS")
            );
            return FacePipeline.Refused(
                exchange,
                allowed,
                seen.Count == 0
                    ? $"{exchange.Request.Method} is not allowed here; this resource can be read only."
                    : $"{exchange.Request.Method} is not allowed here; {allowed} are."
            );
        }
        if (!(await new ODataChangeReader(exchange, time).ReadAsync(asked, change, lexed, options)).Is(out var request, out fault))
            return fault;
        using (request.Body)
        {
            exchange.Database.Start();
            return await RunAsync(request, options);
        }
    }

    private static ChangeVerb? VerbOf(string method) =>
        method switch
        {
            "POST" => ChangeVerb.Post,
            "PATCH" => ChangeVerb.Patch,
            "PUT" => ChangeVerb.Put,
            "DELETE" => ChangeVerb.Delete,
            _ => null,
        };

    /// <summary>An answer as it is kept for who asks again.</summary>
    private sealed record KeptAnswer(string Print, int Status, Dictionary<string, string> Headers, string Body);

    /// <summary>
    /// Runs the change in the transaction of the batch that it is part of, or in one of its own, which is tried again when others got
    /// in its way.
    /// </summary>
    private async Task<RequestFault?> RunAsync(ODataChangeRequest read, ChangeOptions options)
    {
        if (InnerExchange.UnitOf(exchange.Context) is { } shared)
        {
            try
            {
                return read.Repeatable is { } asked ? await InGroupAsync(shared, read, options, asked)
                    : await OnceAsync(shared, read, options) is var (result, fault, back) && fault is not null ? fault
                    : await SendAsync(AnswerOf(result!, back, ""));
            }
            catch (SourceException exception)
            {
                shared.HasCollided |= exception.Kind == SourceFaultKind.Collision;
                throw;
            }
        }
        if (read.Repeatable is not { } repeatable)
            return await TryAsync(read, options, null);
        using var turn = await repeats.EnterAsync(repeatable.Id, exchange.Cancellation);
        return repeats.Find(repeatable.Id) is { } known ? await AgainAsync(known, repeatable) : await TryAsync(read, options, repeatable);
    }

    /// <summary>
    /// A repeatable request of a group: its answer is kept when all of the group is done. Nobody else answers it until then.
    /// </summary>
    private async Task<RequestFault?> InGroupAsync(ChangeUnit unit, ODataChangeRequest read, ChangeOptions options, Repeatable repeatable)
    {
        if (unit.Holds(repeatable.Id))
            return new RequestFault(400, "repeatability", "Another request of the group has this id.", RepeatHeaders.Id);
        using var patience = CancellationTokenSource.CreateLinkedTokenSource(exchange.Cancellation);
        patience.CancelAfter(TimeSpan.FromSeconds(Limits.StatementSeconds));
        try
        {
            unit.Hold(repeatable.Id, await repeats.EnterAsync(repeatable.Id, patience.Token));
        }
        catch (OperationCanceledException) when (!exchange.Cancellation.IsCancellationRequested)
        {
            return new RequestFault(
                409,
                "repeatability",
                "The same request is being answered right now; send it again later.",
                RepeatHeaders.Id
            );
        }
        var set = read.Request.Change.Request.Path.Target;
        var isKept = RepeatedChanges.AreKept(unit, set);
        if (
            (isKept ? await RepeatedChanges.FindAsync(unit, set, repeatable.Id, exchange.Cancellation) : repeats.Find(repeatable.Id)) is
            { } known
        )
            return await AgainAsync(known, repeatable);
        var (result, fault, back) = await OnceAsync(unit, read, options);
        if (fault is not null)
            return fault;
        var answer = AnswerOf(result!, back, repeatable.Print);
        var text = JsonSerializer.Serialize(answer);
        if (isKept)
            await RepeatedChanges.KeepAsync(unit, set, repeatable.Id, text, exchange.Cancellation);
        else if (!repeats.Reserve(text))
            return Faults.From(new MemoryExceededException(isProcess: true));
        else
        {
            unit.WhenFinal(() => repeats.Keep(repeatable.Id, text));
            unit.WhenUndone(() => repeats.Release(text));
        }
        return await SendAsync(answer, isRepeatable: true);
    }

    private async Task<RequestFault?> TryAsync(ODataChangeRequest read, ChangeOptions options, Repeatable? repeatable)
    {
        using var tries = changes.Try(TimeSpan.FromSeconds(Limits.StatementSeconds));
        while (true)
        {
            await using var unit = new ChangeUnit(exchange.Service, exchange.Caller, changes, exchange.Allowance);
            try
            {
                var set = read.Request.Change.Request.Path.Target;
                var isKept = repeatable is not null && RepeatedChanges.AreKept(unit, set);
                if (isKept && await RepeatedChanges.FindAsync(unit, set, repeatable!.Id, exchange.Cancellation) is { } known)
                    return await AgainAsync(known, repeatable);
                var (result, fault, back) = await OnceAsync(unit, read, options);
                if (fault is not null)
                    return fault;
                var answer = AnswerOf(result!, back, repeatable?.Print ?? "");
                var text = repeatable is null ? "" : JsonSerializer.Serialize(answer);
                if (isKept)
                    await RepeatedChanges.KeepAsync(unit, set, repeatable!.Id, text, exchange.Cancellation);
                else if (repeatable is not null && !repeats.Reserve(text))
                    throw new MemoryExceededException(isProcess: true);
                // Whether the caller is still there makes no difference from here on.
                await CommitAsync(unit, repeatable is not null && !isKept ? text : null);
                if (repeatable is not null && !isKept)
                    repeats.Keep(repeatable.Id, text);
                // Others need not wait until the caller has taken the answer.
                await unit.DisposeAsync();
                tries.Dispose();
                return await SendAsync(answer, repeatable is not null);
            }
            catch (SourceException exception) when (exception.Kind == SourceFaultKind.Collision)
            {
                if (!await tries.AgainAsync(unit, exchange.Cancellation))
                    throw;
            }
        }
    }

    /// <param name="reserved">An answer for which memory is reserved, to be given back when the change is not made; null = none.</param>
    private async Task CommitAsync(ChangeUnit unit, string? reserved)
    {
        try
        {
            await unit.CommitAsync(CancellationToken.None);
        }
        catch when (reserved is not null)
        {
            repeats.Release(reserved);
            throw;
        }
    }

    /// <summary>The answer that was given the first time.</summary>
    private async Task<RequestFault?> AgainAsync(string known, Repeatable repeatable)
    {
        var answer = JsonSerializer.Deserialize<KeptAnswer>(known)!;
        return answer.Print == repeatable.Print
            ? await SendAsync(answer, isRepeatable: true)
            : new RequestFault(400, "repeatability", "This id was given to another request.", RepeatHeaders.Id);
    }

    private async Task<(ChangeResult? Result, RequestFault? Fault, ReadBack? Back)> OnceAsync(
        ChangeUnit unit,
        ODataChangeRequest read,
        ChangeOptions options
    )
    {
        ReadBack? before = null;
        var request = read.Request;
        if (exchange.Preferences.AsksForBefore && WantsBody(ChangeOutcome.Updated, options))
            request = request with { Before = async address => before = (await ReadAsync(unit, address, options, "", read.Answer)).Value };
        if (!(await ChangeRunner.RunAsync(unit, request, exchange.Cancellation)).Is(out var result, out var fault))
            return (null, fault, null);
        if (!result.Members.IsEmpty)
            return (result, null, await MembersAsync(unit, request, result, read.Answer, options));
        if (result.Address is null)
            return (result, null, null);
        var path = request.Change.Request.Path;
        var isProperty = path.Kind is ResourceKind.PropertyValue or ResourceKind.RawValue;
        var wantsBody = WantsBody(result.Outcome, options);
        // Without a body the tag is all that is read.
        if (!wantsBody && result.Set is { HasVersion: false })
            return (result, null, null);
        var address =
            isProperty && wantsBody && path.Property!.Type.Kind != EdmKind.Stream
                ? $"{result.Address}/{(path.Group is { } group ? Uri.EscapeDataString(group.Name) + "/" : "")}"
                    + $"{Uri.EscapeDataString(path.Property!.Name)}"
                : result.Address;
        var back = await ReadAsync(unit, address, options, wantsBody ? result.Nested : "", read.Answer);
        if (
            back.Value is { } there
            && address != result.Address
            && result.Set is { HasVersion: true }
            && (await ReadAsync(unit, result.Address, options with { Answer = [] }, "", read.Answer)).Value is { } entity
        )
            return (result, null, there with { ETag = entity.ETag });
        if (back.Value is { } now && before is not null)
            return (result, null, now with { Body = WithBefore(now.Body, before.Body) });
        // What the caller may write and not read has no representation for them.
        return (
            result,
            null,
            wantsBody ? back.Value
            : back.Value is { } tagged ? tagged with { ContentType = null, Body = [] }
            : null
        );
    }

    /// <summary>
    /// What became of many entities: all of them when they are asked for, else those that could not change; null = there is nothing to
    /// tell.
    /// </summary>
    private async Task<ReadBack?> MembersAsync(
        ChangeUnit unit,
        ChangeRequest request,
        ChangeResult result,
        Negotiated answer,
        ChangeOptions options
    )
    {
        var asksForAll = exchange.Preferences.Return == "representation" && request.Verb != ChangeVerb.Delete;
        var told = result.Members.Where(m => m.Fault is not null || asksForAll).ToList();
        if (told.Count == 0)
            return null;
        var members = new List<(ChangedMember, byte[]?)>(told.Count);
        foreach (var member in told)
            members.Add(
                (
                    member,
                    member is { Fault: null, Address: { } address, Change: not MemberChange.Delete }
                        ? (await ReadAsync(unit, address, options, "", answer)).Value?.Body
                        : null
                )
            );
        var links = new LinkBuilder(exchange.Root, LexedRequest.Read(Uri.EscapeDataString(result.Set!.Name), "").Value!);
        return new ReadBack(
            200,
            answer.ContentType,
            ChangedMembers.Write(
                answer.Format,
                links.Context,
                Uri.EscapeDataString(result.Set.Name),
                !request.Change.Request.Path.IsEach,
                members,
                number => (request.Body as ODataJsonBody)?.DeltaItem(number)
            ),
            null
        );
    }

    /// <summary>The state before the change, as an annotation behind the state after it.</summary>
    private byte[] WithBefore(byte[] after, byte[] before) =>
        [
            .. after.AsSpan(0, after.AsSpan().LastIndexOf((byte)'}')),
            .. System.Text.Encoding.UTF8.GetBytes($",\"@{exchange.Service.Model.Namespace}.before\":"),
            .. before,
            (byte)'}',
        ];

    /// <summary>A created entity is answered with itself, a changed one only when it is asked for (P-31).</summary>
    private bool WantsBody(ChangeOutcome outcome, ChangeOptions options) =>
        outcome != ChangeOutcome.Linked
        && exchange.Preferences.Return switch
        {
            "minimal" => false,
            "representation" => true,
            _ => outcome == ChangeOutcome.Created || options.AsksForAnswer,
        };

    /// <summary>A resource as it is in the transaction.</summary>
    private async Task<Result<ReadBack>> ReadAsync(ChangeUnit unit, string path, ChangeOptions options, string nested, Negotiated answer)
    {
        var query = options
            .Answer.Where(o => o.Name.TrimStart('$').ToLowerInvariant() is not ("format" or "schemaversion"))
            .Select(o => o.Raw)
            .ToList();
        if (nested.Length > 0 && !query.Exists(o => o.TrimStart('$').StartsWith("expand=", StringComparison.OrdinalIgnoreCase)))
            query.Add("$expand=" + Uri.EscapeDataString(nested));
        if (
            !RequestAddress.Read(path, string.Join('&', query)).Is(out var address, out var fault)
            || !LexedRequest.Read(address).Is(out var lexed, out fault)
            || !exchange.Service.Prepare(lexed, exchange.Caller).Is(out var prepared, out fault)
            || !QueryValues.Make(prepared.Request, lexed, null, unit.Now, exchange.Caller).Is(out var values, out fault)
            || !(
                await QueryRun.StartAsync(
                    prepared,
                    values.With(exchange.Allowance),
                    exchange.Cancellation,
                    within: unit.Within(prepared.Source)
                )
            ).Is(out var run, out fault)
        )
            return fault;
        await using (run)
        {
            if (ODataAnswer.Missing(prepared.Request, run) is { } missing)
                return missing.Status == StatusCodes.Status204NoContent ? new ReadBack(204, null, [], null) : missing;
            using var bytes = new MemoryStream();
            using (
                var output = new PayloadOutput(
                    (piece, _) =>
                    {
                        bytes.Write(piece.Span);
                        return default;
                    }
                )
            )
                await ODataJsonWriter
                    .For(prepared, answer.Format)
                    .WriteAsync(run, new LinkBuilder(exchange.Root, lexed), output, exchange.Cancellation);
            return new ReadBack(
                200,
                answer.ContentType,
                bytes.ToArray(),
                run.HasRow && prepared.Request.Path.Kind == ResourceKind.Entity ? RawValueWriter.ETag(run) : null
            );
        }
    }

    private KeptAnswer AnswerOf(ChangeResult result, ReadBack? back, string print)
    {
        var headers = new Dictionary<string, string>();
        if (
            exchange.Preferences.Return is not null
            && result.Outcome is ChangeOutcome.Created or ChangeOutcome.Updated
            && (result.Address is not null || !result.Members.IsEmpty)
        )
            exchange.Preferences.Apply("return");
        if (exchange.Preferences.ContinueOnError && !result.Members.IsEmpty)
            exchange.Preferences.Apply("continue-on-error");
        if (exchange.Preferences.AsksForBefore && back?.ContentType is not null && result.Outcome == ChangeOutcome.Updated)
            exchange.Preferences.Apply("before");
        if (exchange.Preferences.Applied is { } applied)
            headers["Preference-Applied"] = applied;
        if (back?.ETag is { } tag)
            headers[HeaderNames.ETag] = tag;
        var hasBody = back?.ContentType is not null;
        if (result.Outcome == ChangeOutcome.Created)
            headers[HeaderNames.Location] = exchange.Root + result.Address;
        if (!hasBody && result.Address is not null && result.Outcome == ChangeOutcome.Created)
            headers["OData-EntityId"] = exchange.Root + result.Address;
        if (hasBody)
            headers[HeaderNames.ContentType] = back!.ContentType!;
        // What cannot be sent must be known while the change can still be undone.
        if (headers.Values.FirstOrDefault(v => v.Any(c => c is < ' ' or > '~')) is { } unsendable)
            throw new InvalidOperationException($"A header of an answer cannot be sent: '{unsendable}'.");
        return new KeptAnswer(
            print,
            !hasBody ? StatusCodes.Status204NoContent
                : result.Outcome == ChangeOutcome.Created ? StatusCodes.Status201Created
                : StatusCodes.Status200OK,
            headers,
            hasBody ? System.Text.Encoding.UTF8.GetString(back!.Body) : ""
        );
    }

    private async Task<RequestFault?> SendAsync(KeptAnswer answer, bool isRepeatable = false)
    {
        var response = exchange.Response;
        response.StatusCode = answer.Status;
        foreach (var (name, value) in answer.Headers.Where(h => h.Key != HeaderNames.ContentType))
            response.Headers[name] = value;
        if (isRepeatable)
            response.Headers[RepeatHeaders.Result] = "accepted";
        if (answer.Headers.TryGetValue(HeaderNames.ContentType, out var type))
            await ODataAnswer.SendAsync(exchange.Context, type, System.Text.Encoding.UTF8.GetBytes(answer.Body));
        return null;
    }
}
