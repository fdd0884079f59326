using System.Text;
using System.Text.Json;
using Microsoft.AspNetCore.Http;
using Microsoft.Net.Http.Headers;
using RapidGable.Changes;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Service.Faces;

/// <summary>An answer as it is kept for who asks again.</summary>
/// <param name="Print">What tells another request with the same id.</param>
internal sealed record KeptAnswer(string Print, int Status, Dictionary<string, string> Headers, string Body)
{
    /// <summary>The body is bytes in base 64, and else text.</summary>
    public bool IsBase64 { get; init; }

    /// <summary>The body as it is sent.</summary>
    public byte[] Bytes() => IsBase64 ? Convert.FromBase64String(Body) : Encoding.UTF8.GetBytes(Body);
}

/// <summary>
/// The way of a request that changes something, the same for every face: whether its verb is taken, the transaction around it, tries again
/// when others got in its way, and answers that are kept for who asks again. A face reads the request and makes the answer.
/// </summary>
internal abstract class ChangeAnswer(Exchange exchange, IRepeatedAnswerStore repeats, ChangeEnvironment changes)
{
    /// <summary>The header that holds the id of a repeatable request.</summary>
    protected virtual string RepeatHeader => RepeatHeaders.Id;

    /// <summary>Why <see cref="Verb"/> gave none; null = it is answered already.</summary>
    protected RequestFault? Refusal { get; private set; }

    /// <summary>Does the change in a transaction and says how it is answered.</summary>
    /// <param name="print">As in <see cref="KeptAnswer.Print"/>.</param>
    protected abstract Task<Result<KeptAnswer>> OnceAsync(ChangeUnit unit, string print);

    /// <summary>Says by a header that a repeatable request was taken, where the face has one for that.</summary>
    protected virtual void TellTaken(IHeaderDictionary headers) => headers[RepeatHeaders.Result] = "accepted";

    /// <summary>What the request does, where the resource takes it from this caller; null = see <see cref="Refusal"/>.</summary>
    /// <param name="notSignedIn">Gives the fault for an anonymous caller; null = nobody can sign in.</param>
    protected ChangeVerb? Verb(PreparedChange change, Func<RequestFault?> notSignedIn)
    {
        var bound = change.Request.Path;
        var verb = VerbOf(exchange.Request.Method);
        var seen = bound.Root is null ? [] : Taken(bound, bound.Target, change.Model);
        if (verb is { } asked && seen.Contains(asked))
            return asked;
        var declared =
            bound.Root is not null && exchange.Service.Model.FindSet(bound.Target.Name) is { } whole
                ? Taken(bound, whole, exchange.Service.Model)
                : [];
        if (verb is { } closed && declared.Contains(closed))
        {
            Refusal = (exchange.Caller.IsSignedIn ? null : notSignedIn())
                ?? new RequestFault(403, "forbidden", $"{exchange.Request.Method} is not allowed for you here.");
            return null;
        }
        var mayRead = bound.Root is not { IsAction: true } && (bound.Root is null || change.Visible.FindSet(bound.Target.Name) is not null);
        var allowed = string.Join(
            ", ",
            (mayRead && !bound.IsEach ? ["GET", "HEAD"] : Array.Empty<string>())
                .Concat(seen.Select(v => v.ToString().ToUpperInvariant()))
                .Append("OPTIONS")
        );
        Refusal = FacePipeline.Refused(
            exchange,
            allowed,
            seen.Count == 0
                ? $"{exchange.Request.Method} is not allowed here; this resource can be read only."
                : $"{exchange.Request.Method} is not allowed here; {allowed} are."
        );
        return null;
    }

    /// <summary>The verbs that a resource takes on this face.</summary>
    protected virtual IReadOnlyList<ChangeVerb> Taken(BoundPath path, EntitySet set, EntityModel model) =>
        ChangeRunner.Taken(path, set, model);

    private static ChangeVerb? VerbOf(string method) =>
        method switch
        {
            "POST" => ChangeVerb.Post,
            "PATCH" => ChangeVerb.Patch,
            "PUT" => ChangeVerb.Put,
            "DELETE" => ChangeVerb.Delete,
            _ => null,
        };

    /// <summary>
    /// Runs the change in the transaction of the batch that it is part of, or in one of its own, which is tried again when others got
    /// in its way.
    /// </summary>
    /// <param name="set">The set that the change is about.</param>
    /// <param name="repeatable">Null = the request is not repeatable.</param>
    protected async Task<RequestFault?> RunAsync(EntitySet set, Repeatable? repeatable)
    {
        if (InnerExchange.UnitOf(exchange.Context) is { } shared)
        {
            try
            {
                return repeatable is not null ? await InGroupAsync(shared, set, repeatable)
                    : (await OnceAsync(shared, "")).Is(out var answer, out var fault) ? await SendAsync(answer)
                    : fault;
            }
            catch (SourceException exception)
            {
                shared.HasCollided |= exception.Kind == SourceFaultKind.Collision;
                throw;
            }
        }
        if (repeatable is null)
            return await TryAsync(set, null);
        using var turn = await repeats.EnterAsync(repeatable.Id, exchange.Cancellation);
        return repeats.Find(repeatable.Id) is { } known ? await AgainAsync(known, repeatable) : await TryAsync(set, repeatable);
    }

    /// <summary>
    /// A repeatable request of a group: its answer is kept when all of the group is done. Nobody else answers it until then.
    /// </summary>
    private async Task<RequestFault?> InGroupAsync(ChangeUnit unit, EntitySet set, Repeatable repeatable)
    {
        if (unit.Holds(repeatable.Id))
            return new RequestFault(400, "repeatability", "Another request of the group has this id.", RepeatHeader);
        using var patience = CancellationTokenSource.CreateLinkedTokenSource(exchange.Cancellation);
        patience.CancelAfter(TimeSpan.FromSeconds(Limits.StatementSeconds));
        try
        {
            unit.Hold(repeatable.Id, await repeats.EnterAsync(repeatable.Id, patience.Token));
        }
        catch (OperationCanceledException) when (!exchange.Cancellation.IsCancellationRequested)
        {
            return BeingAnswered();
        }
        var isKept = RepeatedChanges.AreKept(unit, set);
        if (isKept && await RepeatedChanges.FindAsync(unit, set, repeatable.Id, exchange.Cancellation) is { } text)
            return await AgainAsync(text, repeatable);
        if (!isKept && repeats.Find(repeatable.Id) is { } known)
            return await AgainAsync(known, repeatable);
        if (!(await OnceAsync(unit, repeatable.Print)).Is(out var answer, out var fault))
            return fault;
        return await KeepAsync(unit, set, repeatable, answer, isKept) is { } refused
            ? refused
            : await SendAsync(answer, isRepeatable: true);
    }

    /// <summary>Keeps an answer before its change is made final: in the transaction of the change, or else in the state.</summary>
    private async Task<RequestFault?> KeepAsync(ChangeUnit unit, EntitySet set, Repeatable repeatable, KeptAnswer answer, bool isKept)
    {
        var text = JsonSerializer.Serialize(answer);
        if (!repeats.TryTake(exchange.Allowance.Who, text.Length))
            return new RequestFault(
                429,
                "too-many",
                "Your repeatable requests have too large answers in all for today. Ask for no body with 'Prefer: return=minimal', or send "
                    + "them without an id.",
                RepeatHeader
            );
        if (isKept)
        {
            await RepeatedChanges.KeepAsync(unit, set, repeatable.Id, text, exchange.Cancellation);
            return null;
        }
        if (!repeats.Begin(repeatable.Id, text))
            return BeingAnswered();
        unit.WhenFinal(() => repeats.Finish(repeatable.Id));
        unit.WhenUndone(() => repeats.Undo(repeatable.Id));
        return null;
    }

    private async Task<RequestFault?> TryAsync(EntitySet set, Repeatable? repeatable)
    {
        using var tries = changes.Try(TimeSpan.FromSeconds(Limits.StatementSeconds));
        while (true)
        {
            await using var unit = new ChangeUnit(exchange.Service, exchange.Caller, changes, exchange.Allowance)
            {
                IsTrial = exchange.IsTrial,
                BeforeFinal = exchange.NoteChange,
            };
            try
            {
                var isKept = repeatable is not null && RepeatedChanges.AreKept(unit, set);
                if (isKept && await RepeatedChanges.FindAsync(unit, set, repeatable!.Id, exchange.Cancellation) is { } known)
                    return await AgainAsync(known, repeatable);
                if (!(await OnceAsync(unit, repeatable?.Print ?? "")).Is(out var answer, out var fault))
                    return fault;
                if (repeatable is not null && await KeepAsync(unit, set, repeatable, answer, isKept) is { } refused)
                    return refused;
                // Whether the caller is still there makes no difference from here on.
                await unit.CommitAsync(CancellationToken.None);
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

    private RequestFault BeingAnswered() =>
        new(409, "repeatability", "The same request is being answered right now; send it again later.", RepeatHeader);

    /// <summary>The answer that was given the first time, if it is known that it was.</summary>
    private async Task<RequestFault?> AgainAsync(RepeatedAnswer known, Repeatable repeatable)
    {
        if (known.IsFinal)
            return await AgainAsync(known.Answer, repeatable);
        return changes.Now - known.Began.UtcDateTime < TimeSpan.FromSeconds(Limits.StatementSeconds)
            ? BeingAnswered()
            : new RequestFault(
                409,
                "repeatability",
                "The service stopped while it made this change, and does not know whether it did. Read what it should have changed; if "
                    + "that was not done, send it with a new id.",
                RepeatHeader
            );
    }

    private async Task<RequestFault?> AgainAsync(string known, Repeatable repeatable)
    {
        var answer = JsonSerializer.Deserialize<KeptAnswer>(known)!;
        return answer.Print == repeatable.Print
            ? await SendAsync(answer, isRepeatable: true)
            : new RequestFault(400, "repeatability", "This id was given to another request.", RepeatHeader);
    }

    private async Task<RequestFault?> SendAsync(KeptAnswer answer, bool isRepeatable = false)
    {
        var response = exchange.Response;
        response.StatusCode = answer.Status;
        foreach (var (name, value) in answer.Headers.Where(h => h.Key != HeaderNames.ContentType))
            response.Headers[name] = value;
        if (isRepeatable)
            TellTaken(response.Headers);
        if (answer.Headers.TryGetValue(HeaderNames.ContentType, out var type))
            await Bodies.SendAsync(exchange.Context, type, answer.Bytes());
        return null;
    }

    /// <summary>The answer of a change, with headers that can be sent.</summary>
    /// <exception cref="InvalidOperationException">A header cannot be sent: that must be known while the change can still be
    /// undone.</exception>
    protected static KeptAnswer Sendable(KeptAnswer answer) =>
        answer.Headers.Values.FirstOrDefault(v => v.Any(c => c is < ' ' or > '~')) is { } unsendable
            ? throw new InvalidOperationException($"A header of an answer cannot be sent: '{unsendable}'.")
            : answer;
}
