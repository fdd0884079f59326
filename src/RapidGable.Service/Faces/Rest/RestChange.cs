using System.Text;
using System.Text.Json;
using Microsoft.AspNetCore.Http;
using Microsoft.Net.Http.Headers;
using RapidGable.Access;
using RapidGable.Changes;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Payloads.Json;
using RapidGable.Payloads.Plain;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.Rest;

namespace RapidGable.Service.Faces.Rest;

/// <summary>A request of the plain REST face that changes something: what stands in its headers and body, and its answer.</summary>
internal sealed class RestChange(RestExchange exchange, IRepeatedAnswerStore repeats, ChangeEnvironment changes)
    : ChangeAnswer(exchange, repeats, changes)
{
    private readonly IRepeatedAnswerStore _repeats = repeats;
    private readonly ChangeEnvironment _changes = changes;

    /// <summary>What of a row goes into the answer.</summary>
    private sealed record ReadBack(byte[] Body, string? ETag);

    private ChangeRequest? _request;
    private PlainBody? _body;

    /// <summary>Parameters about the answer, still encoded.</summary>
    private string _answer = "";

    protected override string RepeatHeader => RestHeaders.IdempotencyKey;

    protected override void TellTaken(IHeaderDictionary headers) { }

    protected override IReadOnlyList<ChangeVerb> Taken(BoundPath path, EntitySet set, EntityModel model) =>
        !RestExchange.IsResource(path) ? []
        : path.Kind == ResourceKind.Collection ? [.. base.Taken(path, set, model).Where(v => v == ChangeVerb.Post)]
        : base.Taken(path, set, model);

    /// <param name="notSignedIn">Gives the fault for an anonymous caller; null = nobody can sign in.</param>
    public async Task<RequestFault?> AnswerAsync(RequestAddress address, Func<RequestFault?> notSignedIn)
    {
        if (
            !RestRequest.Of(address with { Options = [] }, exchange.Paths).Is(out var read, out var fault)
            || !exchange.Service.PrepareChange(read, exchange.Caller).Is(out var change, out fault)
        )
            return fault;
        if (Verb(change, notSignedIn) is not { } verb)
            return Refusal;
        if (change.Request.Path.Root is { IsAction: true })
            return await new RestCall(exchange, _repeats, _changes).AnswerAsync(change, read, address);
        if (Parameters(address, verb, change) is { } wrong)
            return wrong;
        if (
            !RestFormat.Of(null, exchange.Request.Headers.Accept, "json").Is(out var format, out fault)
            || !RestTags.Conditions(exchange.Request).Is(out var conditions, out fault)
            || !(await Bodies.ReadAsync(exchange)).Is(out var bytes, out fault)
            || !Repeatable.OfKey(exchange.Context, exchange.Service.Model.Service, exchange.Caller, bytes).Is(out var repeatable, out fault)
        )
            return fault;
        if (format.Kind != RestFormatKind.Json)
            return new RequestFault(406, "not-acceptable", "What was changed is answered as application/json.", "Accept");
        if (!Body(verb, change.Request.Path, bytes).Is(out var sent, out fault))
            return fault;
        var (body, content, contentType) = sent;
        using (body)
        {
            _body = body;
            _request = new ChangeRequest(
                verb,
                change,
                read,
                body,
                content,
                contentType,
                conditions,
                new RestAddresses(exchange.Paths, PathOf)
            )
            {
                MayCreate = verb == ChangeVerb.Put,
            };
            exchange.Database.Start();
            return await RunAsync(change.Request.Path.Target, repeatable as Repeatable) is { } refused ? RestWords.OfChange(refused) : null;
        }
    }

    /// <summary>What is wrong with the parameters, which can be about the answer only; null = nothing.</summary>
    private RequestFault? Parameters(RequestAddress address, ChangeVerb verb, PreparedChange change)
    {
        foreach (var option in address.Options)
        {
            if (!RestParameters.OfAnswers.Contains(option.Name) || verb == ChangeVerb.Delete)
                return new RequestFault(
                    400,
                    "parameter-not-here",
                    $"'{option.Name}' cannot be used with {exchange.Request.Method}"
                        + (
                            verb == ChangeVerb.Delete ? "." : $"; only {string.Join(", ", RestParameters.OfAnswers)} can, about the answer."
                        ),
                    option.Name
                );
        }
        _answer = string.Join('&', address.Options.Where(o => o.Name != RestParameters.Format).Select(o => o.Raw));
        if (_answer.Length == 0 || exchange.Service.ModelFor(exchange.Caller).FindSet(change.Request.Path.Target.Name) is not { } set)
            return null;
        // Before anything is done it is known that the answer can be given.
        return
            set.ContainedIn is null
            && RequestAddress.Read(exchange.Paths.Of(set.Name), _answer).Is(out var asked, out var fault)
            && (
                !RestRequest.Of(asked, exchange.Paths).Is(out var read, out fault)
                || !exchange.Service.Prepare(read, exchange.Caller).Is(out _, out fault)
            )
            ? fault
            : null;
    }

    /// <summary>The body in the form that its media type says; all parts are null where there is to be none.</summary>
    private Result<Tuple<PlainBody?, byte[]?, string?>> Body(ChangeVerb verb, BoundPath path, byte[] bytes)
    {
        if (verb == ChangeVerb.Delete)
            return Tuple.Create<PlainBody?, byte[]?, string?>(null, null, null);
        if (exchange.Request.Headers.ContainsKey(HeaderNames.ContentRange))
            return new RequestFault(400, "content-range", "A part of a representation is not taken; send all of it.", "Content-Range");
        if (!StreamContent.TypeOf(exchange.Request).Is(out var type, out var fault))
            return fault;
        if (path.Kind == ResourceKind.RawValue)
            return StreamContent.NotTaken(path.Property!, type) is { } wanted
                ? Refused(verb, [wanted], type)
                : Tuple.Create<PlainBody?, byte[]?, string?>(null, bytes, exchange.Request.ContentType);
        var takes = verb switch
        {
            ChangeVerb.Post => PlainBody.Lists,
            ChangeVerb.Patch => [PlainBody.MergePatch, PlainBody.JsonPatchType, "application/json"],
            _ => ["application/json"],
        };
        var name = type.MediaType.ToString().ToLowerInvariant();
        if (!takes.Contains(name) || type.Charset.HasValue && !CsvMediaType.IsUtf8(type.Charset))
            return Refused(verb, takes, type);
        var read = name switch
        {
            JsonLinesWriter.MediaType => PlainBody.JsonLines(bytes),
            "text/csv" => PlainBody.Csv(bytes),
            PlainBody.JsonPatchType => PlainBody.Patch(bytes),
            _ => PlainBody.Json(bytes),
        };
        return read.Is(out var body, out fault) ? Tuple.Create<PlainBody?, byte[]?, string?>(body, null, null) : fault;
    }

    private RequestFault Refused(ChangeVerb verb, IReadOnlyList<string> wanted, MediaTypeHeaderValue type)
    {
        exchange.Response.Headers[verb == ChangeVerb.Patch ? "Accept-Patch" : HeaderNames.Accept] = string.Join(", ", wanted);
        return new RequestFault(
            415,
            "content-type",
            $"This resource takes {string.Join(", ", wanted)}, not {type.MediaType}{(type.Charset.HasValue ? " in " + type.Charset : "")}.",
            "Content-Type"
        );
    }

    protected override async Task<Result<KeptAnswer>> OnceAsync(ChangeUnit unit, string print)
    {
        ReadBack? before = null;
        var request = _request!;
        _body?.Current = null;
        if (NeedsBefore(request))
            request = request with
            {
                Before = async address =>
                {
                    // All of it, whatever is asked for the answer.
                    before = await ReadAsync(unit, address, "");
                    if (before is not null && _body is not null)
                        _body.Current = JsonDocument.Parse(before.Body).RootElement;
                },
            };
        if (!(await ChangeRunner.RunAsync(unit, request, exchange.Cancellation)).Is(out var result, out var fault))
            return fault;
        if (_body?.IsList == true)
            return await ListAsync(unit, result, print);
        var isStream = request.Change.Request.Path.Kind == ResourceKind.RawValue;
        var after =
            result.Address is { } there && !isStream && (WantsBody(result) || result.Set is { HasVersion: true })
                ? await ReadAsync(unit, there, WithNested(result.Nested))
                : null;
        return AnswerOf(result, request.Verb, after, before, print);
    }

    /// <summary>Whether the row must be known before it changes.</summary>
    private bool NeedsBefore(ChangeRequest request)
    {
        if (_body is null || request.Verb == ChangeVerb.Post)
            return false;
        return exchange.Preferences.AsksForBefore
            || exchange.Request.ContentType?.StartsWith(PlainBody.JsonPatchType, StringComparison.OrdinalIgnoreCase) == true
            || _body.Names.Any(n => IsFixed(request.Change.Request.Path.Target, n));
    }

    /// <summary>Whether a body may hold a property only as it is already.</summary>
    private static bool IsFixed(EntitySet set, string name) =>
        set.Type.FindProperty(name) is { } property
        && (!ColumnAccesses.IsWritten(property, set, SetOperations.Update) || property.Column == set.Version?.Column);

    private bool WantsBody(ChangeResult result) =>
        result.Outcome is ChangeOutcome.Created or ChangeOutcome.Updated && exchange.Preferences.Return != "minimal";

    /// <summary>The parameters of the answer, with related rows that came with the body where none are asked for.</summary>
    private string WithNested(string nested)
    {
        if (nested.Length == 0 || exchange.Request.QueryString.Value?.Contains(RestParameters.Include, StringComparison.Ordinal) == true)
            return _answer;
        var include = RestParameters.Include + "=" + Uri.EscapeDataString(string.Join(',', Included(nested, "")));
        return _answer.Length == 0 ? include : $"{_answer}&{include}";
    }

    /// <summary><c>A($expand=B,C),D</c> as paths.</summary>
    private static IEnumerable<string> Included(string expand, string before)
    {
        var (start, depth) = (0, 0);
        for (var i = 0; i <= expand.Length; i++)
        {
            var sign = i < expand.Length ? expand[i] : ',';
            depth +=
                sign == '(' ? 1
                : sign == ')' ? -1
                : 0;
            if (sign != ',' || depth > 0)
                continue;
            var item = expand[start..i];
            start = i + 1;
            var open = item.IndexOf('(');
            var name = open < 0 ? item : item[..open];
            yield return before + name;
            if (open < 0)
                continue;
            foreach (var below in Included(item[(item.IndexOf('=') + 1)..^1], $"{before}{name}/"))
                yield return below;
        }
    }

    /// <summary>A row as it is in the transaction; null = the caller may not read it.</summary>
    private async Task<ReadBack?> ReadAsync(ChangeUnit unit, string path, string parameters)
    {
        if (
            !RestRequest.Of(path, parameters, exchange.Paths).Is(out var read, out _)
            || !(await ReadInChange.StartAsync(exchange, unit, read)).Is(out var started, out _)
        )
            return null;
        var (prepared, run) = started;
        await using (run)
        {
            if (RestAnswer.Missing(prepared.Request, run) is not null)
                return null;
            var bytes = await ReadInChange.WrittenAsync(exchange, output =>
                PlainJsonWriter
                    .For(prepared, Layout, omitsNulls: false)
                    .WriteAsync(run, new RestLinks(exchange.Root, read, exchange.Paths), output, exchange.Cancellation)
            );
            return new ReadBack(bytes, RawValueWriter.ETag(run));
        }
    }

    private PlainJsonLayout Layout => exchange.Shape.HasBareLists ? PlainJsonLayout.Array : PlainJsonLayout.Object;

    /// <summary>The answer to the creation of several rows: all of them, in the order in which they came.</summary>
    private async Task<KeptAnswer> ListAsync(ChangeUnit unit, ChangeResult result, string print)
    {
        var headers = new Dictionary<string, string>();
        if (exchange.Preferences.Return is not null)
            exchange.Preferences.Apply("return");
        if (exchange.Preferences.Applied is { } applied)
            headers["Preference-Applied"] = applied;
        if (exchange.Preferences.Return == "minimal")
            return Sendable(new KeptAnswer(print, StatusCodes.Status201Created, headers, ""));
        var rows = new List<string>(result.Members.Length);
        foreach (var member in result.Members)
        {
            if (await ReadAsync(unit, member.Address!, _answer) is { } row)
                rows.Add(Encoding.UTF8.GetString(row.Body));
        }
        var list = $"[{string.Join(',', rows)}]";
        headers[HeaderNames.ContentType] = "application/json";
        return Sendable(
            new KeptAnswer(print, StatusCodes.Status201Created, headers, exchange.Shape.HasBareLists ? list : $"{{\"rows\":{list}}}")
        );
    }

    private KeptAnswer AnswerOf(ChangeResult result, ChangeVerb verb, ReadBack? after, ReadBack? before, string print)
    {
        var headers = new Dictionary<string, string>();
        var hasBody = after is not null && WantsBody(result);
        if (exchange.Preferences.Return is not null && result.Outcome is ChangeOutcome.Created or ChangeOutcome.Updated)
            exchange.Preferences.Apply("return");
        var tellsBefore = hasBody && before is not null && exchange.Preferences.AsksForBefore;
        if (tellsBefore)
            exchange.Preferences.Apply("before");
        if (exchange.Preferences.Applied is { } applied)
            headers["Preference-Applied"] = applied;
        // What a PUT leaves is seldom what was sent byte for byte (RFC 9110, 9.3.4).
        var isWhole = _answer.Length == 0 && result.Nested.Length == 0 && !tellsBefore;
        if (after?.ETag is { } tag && verb != ChangeVerb.Put && isWhole)
            headers[HeaderNames.ETag] = RestTags.Of(tag, "");
        if (result is { Outcome: ChangeOutcome.Created, Address: { } address })
            headers[HeaderNames.Location] = exchange.Root + address;
        if (hasBody)
            headers[HeaderNames.ContentType] = "application/json";
        var body = !hasBody ? "" : Encoding.UTF8.GetString(after!.Body);
        if (tellsBefore)
            body = $"{{\"before\":{Encoding.UTF8.GetString(before!.Body)},\"after\":{body}}}";
        return Sendable(
            new KeptAnswer(
                print,
                result.Outcome == ChangeOutcome.Created ? StatusCodes.Status201Created
                    : hasBody ? StatusCodes.Status200OK
                    : StatusCodes.Status204NoContent,
                headers,
                body
            )
        );
    }

    /// <summary>An address of a row as a path below the service root; null = it is none of this service.</summary>
    private string? PathOf(string reference)
    {
        var root = new Uri(exchange.Root).AbsolutePath;
        var path =
            reference.StartsWith(exchange.Root, StringComparison.Ordinal) ? reference[exchange.Root.Length..]
            : reference.StartsWith(root, StringComparison.Ordinal) ? reference[root.Length..]
            : reference;
        return path.Contains("://", StringComparison.Ordinal) || path.StartsWith('/') || path.Contains('?') || path.Length == 0
            ? null
            : path;
    }
}
