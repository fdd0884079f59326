using Microsoft.AspNetCore.Http;
using RapidGable.Changes;
using RapidGable.Expressions;
using RapidGable.Payloads;
using RapidGable.Payloads.Plain;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.Rest;

namespace RapidGable.Service.Faces.Rest;

/// <summary>The call of an action on the plain REST face: its arguments are the members of a JSON object, or stand in its path.</summary>
internal sealed class RestCall(RestExchange exchange, IRepeatedAnswerStore repeats, ChangeEnvironment changes)
    : ChangeAnswer(exchange, repeats, changes)
{
    private PreparedChange? _change;
    private RestRequest? _read;
    private PlainBody? _body;
    private RestFormat? _format;

    protected override string RepeatHeader => RestHeaders.IdempotencyKey;

    protected override void TellTaken(IHeaderDictionary headers) { }

    /// <param name="change">The call; its verb has been looked at.</param>
    public async Task<RequestFault?> AnswerAsync(PreparedChange change, RestRequest read, RequestAddress address)
    {
        var action = change.Request.Path.Root!;
        if (address.Options.FirstOrDefault(o => o.Name != RestParameters.Format) is { } option)
            return new RequestFault(
                400,
                "parameter-not-here",
                $"'{option.Name}' cannot be used with an action, whose arguments stand in the body; only {RestParameters.Format} can.",
                option.Name
            );
        var asked = address.Options.FirstOrDefault(o => o.Name == RestParameters.Format)?.Value;
        if (
            !RestFormat.Of(asked, exchange.Request.Headers.Accept, exchange.UsualFormat(action)).Is(out var format, out var fault)
            || !(await Bodies.ReadAsync(exchange)).Is(out var bytes, out fault)
            || !Repeatable.OfKey(exchange.Context, exchange.Service.Model.Service, exchange.Caller, bytes).Is(out var repeatable, out fault)
        )
            return fault;
        if (bytes.Length > 0 && !Body(bytes).Is(out _body, out fault))
            return RestWords.OfChange(fault);
        using (_body)
        {
            (_change, _read, _format) = (change, read, format);
            exchange.Database.Start();
            return await RunAsync(action, repeatable as Repeatable) is { } refused ? Told(refused) : null;
        }
    }

    /// <summary>What is wrong with the path is no fault of the body.</summary>
    private static RequestFault Told(RequestFault fault) => fault.Target == "path" ? fault : RestWords.OfChange(fault);

    private Result<PlainBody> Body(byte[] bytes)
    {
        if (!StreamContent.TypeOf(exchange.Request).Is(out var type, out var fault))
            return fault;
        return type.MediaType.Equals("application/json", StringComparison.OrdinalIgnoreCase)
            ? PlainBody.Json(bytes)
            : new RequestFault(415, "content-type", $"An action takes application/json, not {type.MediaType}.", "Content-Type");
    }

    protected override async Task<Result<KeptAnswer>> OnceAsync(ChangeUnit unit, string print) =>
        (
            await ActionCall.RunAsync(exchange, unit, _change!, _read!, _body, new RestAddresses(exchange.Paths, path => path), WriteAsync)
        ).Is(out var given, out var fault)
            ? Sendable(ActionCall.Kept(print, Tagged(given), _format!.ContentType, exchange.Preferences))
            : fault;

    private static ActionCall.Given Tagged(ActionCall.Given given) =>
        given.ETag is { } tag ? given with { ETag = RestTags.Of(tag, "") } : given;

    private Task WriteAsync(PreparedRequest prepared, QueryRun run, ISpelledRequest spelled, PayloadOutput output) =>
        _format!
            .WriterFor(prepared, exchange.Shape.HasBareLists)
            .WriteAsync(run, new RestLinks(exchange.Root, (RestRequest)spelled, exchange.Paths), output, exchange.Cancellation);
}
