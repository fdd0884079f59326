using Microsoft.AspNetCore.Http;
using Microsoft.Net.Http.Headers;
using RapidGable.Changes;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Payloads.Json;
using RapidGable.Requests;
using RapidGable.Requests.OData;

namespace RapidGable.Service.Faces.OData;

/// <summary>
/// A request that changes something: what stands in its headers and body, the transaction around it, and its answer (Protocol 11.4).
/// </summary>
internal sealed class ODataChange(ODataExchange exchange, IRepeatedAnswerStore repeats, ChangeEnvironment changes, TimeProvider time)
    : ChangeAnswer(exchange, repeats, changes)
{
    private readonly IRepeatedAnswerStore _repeats = repeats;
    private readonly ChangeEnvironment _changes = changes;
    private ODataChangeRequest? _read;
    private ChangeOptions? _options;

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
        if (Verb(change, notSignedIn) is not { } asked)
            return Refusal;
        if (change.Request.Path.Root is { IsAction: true })
            return await new ODataCall(exchange, _repeats, _changes, time).AnswerAsync(change, lexed, options);
        if (!(await new ODataChangeReader(exchange, time).ReadAsync(asked, change, lexed, options)).Is(out var request, out fault))
            return fault;
        using (request.Body)
        {
            (_read, _options) = (request, options);
            exchange.Database.Start();
            return await RunAsync(change.Request.Path.Target, request.Repeatable);
        }
    }

    protected override async Task<Result<KeptAnswer>> OnceAsync(ChangeUnit unit, string print)
    {
        var (result, fault, back) = await OnceAsync(unit, _read!, _options!);
        return fault is not null ? fault : AnswerOf(result!, back, print);
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
            || !(await ReadInChange.StartAsync(exchange, unit, lexed)).Is(out var started, out fault)
        )
            return fault;
        var (prepared, run) = started;
        await using (run)
        {
            if (ODataAnswer.Missing(prepared.Request, run) is { } missing)
                return missing.Status == StatusCodes.Status204NoContent ? new ReadBack(204, null, [], null) : missing;
            var bytes = await ReadInChange.WrittenAsync(exchange, output =>
                ODataJsonWriter
                    .For(prepared, answer.Format)
                    .WriteAsync(run, new LinkBuilder(exchange.Root, lexed), output, exchange.Cancellation)
            );
            return new ReadBack(
                200,
                answer.ContentType,
                bytes,
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
        return Sendable(
            new KeptAnswer(
                print,
                !hasBody ? StatusCodes.Status204NoContent
                    : result.Outcome == ChangeOutcome.Created ? StatusCodes.Status201Created
                    : StatusCodes.Status200OK,
                headers,
                hasBody ? System.Text.Encoding.UTF8.GetString(back!.Body) : ""
            )
        );
    }
}
