using RapidGable.Changes;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Payloads.Flat;
using RapidGable.Payloads.Json;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.OData;

namespace RapidGable.Service.Faces.OData;

/// <summary>The call of an action over OData (Protocol 11.5.5).</summary>
internal sealed class ODataCall(ODataExchange exchange, IRepeatedAnswerStore repeats, ChangeEnvironment changes, TimeProvider time)
    : ChangeAnswer(exchange, repeats, changes)
{
    private PreparedChange? _change;
    private LexedRequest? _lexed;
    private ODataJsonBody? _body;
    private Negotiated? _answer;

    /// <param name="change">The call; its verb has been looked at.</param>
    public async Task<RequestFault?> AnswerAsync(PreparedChange change, LexedRequest lexed, ChangeOptions options)
    {
        var action = change.Request.Path.Root!;
        if (options.AsksForAnswer)
            return RequestFault.NotImplemented("What an action gives comes as it is; options about it are not supported.", "$select");
        var kind = action.Gives == QueryResult.Rows ? BodyKind.List : BodyKind.Json;
        if (
            !Negotiation
                .Content(kind, exchange.Version, exchange.Request.Headers.Accept, options.Format, "")
                .Is(out var answer, out var fault)
            || !(await Bodies.ReadAsync(exchange)).Is(out var bytes, out fault)
            || !Repeatable.Of(exchange.Context, exchange.Service.Model.Service, exchange.Caller, bytes, time).Is(out var again, out fault)
        )
            return fault;
        if (bytes.Length > 0 && !new ODataChangeReader(exchange, time).Arguments(bytes).Is(out _body, out fault))
            return fault;
        using (_body)
        {
            (_change, _lexed, _answer) = (change, lexed, answer);
            exchange.Database.Start();
            return await RunAsync(action, again as Repeatable);
        }
    }

    protected override async Task<Result<KeptAnswer>> OnceAsync(ChangeUnit unit, string print) =>
        (await ActionCall.RunAsync(exchange, unit, _change!, _lexed!, _body, ODataAddresses.Relative, WriteAsync)).Is(
            out var given,
            out var fault
        )
            ? Sendable(ActionCall.Kept(print, given, _answer!.ContentType, exchange.Preferences))
            : fault;

    private Task WriteAsync(PreparedRequest prepared, QueryRun run, ISpelledRequest spelled, PayloadOutput output)
    {
        var links = new LinkBuilder(exchange.Root, (LexedRequest)spelled);
        return _answer switch
        {
            { Csv: { } form } => CsvWriter.For(prepared, form).WriteAsync(run, links, output, exchange.Cancellation),
            { IsLines: true } => JsonLinesWriter.For(prepared, _answer.Format).WriteAsync(run, links, output, exchange.Cancellation),
            _ => ODataJsonWriter.For(prepared, _answer!.Format).WriteAsync(run, links, output, exchange.Cancellation),
        };
    }
}
