using Microsoft.AspNetCore.Http;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Payloads.Json;
using RapidGable.Payloads.Plain;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.Rest;

namespace RapidGable.Service.Faces.Rest;

/// <summary>Statements over the sets of a service, for callers who may send them; for others there is no such path.</summary>
internal sealed class RestSql(RestExchange exchange, TimeProvider time)
{
    /// <summary>Whether an address takes statements.</summary>
    public static bool Is(RequestAddress address) => address.Segments is [{ Text: SqlAccess.Path }];

    public async Task<RequestFault?> AnswerAsync(RequestAddress address)
    {
        if (!HttpMethods.IsPost(exchange.Request.Method))
            return FacePipeline.Refused(exchange, "POST, OPTIONS", "A statement is sent by POST.");
        var asked = address.Options.FirstOrDefault(o => o.Name == RestParameters.Format)?.Value;
        if (
            !RestFormat.Of(asked, exchange.Request.Headers.Accept, exchange.Shape.Format ?? "json").Is(out var format, out var fault)
            || !(await Bodies.ReadAsync(exchange)).Is(out var bytes, out fault)
            || !Sent(bytes, address).Is(out var sent, out fault)
            || !exchange
                .Service.PrepareSql(sent.Text, sent.Arguments, exchange.Caller, new StepBudget { Cancellation = exchange.Cancellation })
                .Is(out var statement, out fault)
        )
            return fault;
        var values = PreparedStatement.ValuesOf(exchange.Caller, time.GetUtcNow().UtcDateTime, exchange.Allowance);
        exchange.Database.Start();
        var started = await QueryRun.StartAsync(statement.Prepared, values, exchange.Cancellation);
        exchange.Database.Stop();
        if (!started.Is(out var run, out fault))
            return fault;
        await using (run)
        {
            if (statement.Fault(run) is { } tooMany)
                return tooMany;
            exchange.Response.Headers.CacheControl = "no-store";
            if (format.FileEnding is { } ending)
                exchange.Response.Headers.ContentDisposition = $"attachment; filename=\"result{ending}\"";
            return await ListAnswer.WriteAsync(exchange, run, format.ContentType, WriterFor(format, statement.Prepared), new NoLinks());
        }
    }

    private static IListWriter WriterFor(RestFormat format, PreparedRequest prepared) =>
        format.Kind == RestFormatKind.Json
            ? PlainJsonWriter.For(prepared, PlainJsonLayout.Described, omitsNulls: false)
            : format.WriterFor(prepared, hasBareLists: false);

    private Result<SentStatement> Sent(byte[] body, RequestAddress address)
    {
        if (!StreamContent.TypeOf(exchange.Request).Is(out var type, out var fault))
            return fault;
        var others = address.Options.Where(o => o.Name != RestParameters.Format).ToList();
        if (type.MediaType.Equals(SentStatement.MediaType, StringComparison.OrdinalIgnoreCase))
            return SentStatement.Plain(body, others.Select(o => KeyValuePair.Create(o.Name, o.Value)));
        if (others is [var option, ..])
            return new RequestFault(
                400,
                "parameter-not-here",
                $"'{option.Name}' stands in the body, under 'parameters'; only {RestParameters.Format} stands here.",
                option.Name
            );
        return type.MediaType.Equals("application/json", StringComparison.OrdinalIgnoreCase)
            ? SentStatement.Json(body)
            : new RequestFault(
                415,
                "content-type",
                $"A statement is sent as application/json or {SentStatement.MediaType}, not {type.MediaType}.",
                "Content-Type"
            );
    }

    /// <summary>All rows come in one answer.</summary>
    private sealed class NoLinks : ILinks
    {
        public string Of(Continuation continuation, QueryValues values) =>
            throw new InvalidOperationException("The rows of a statement do not go on elsewhere.");
    }
}
