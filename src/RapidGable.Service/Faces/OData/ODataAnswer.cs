using System.Text;
using Microsoft.AspNetCore.Http;
using RapidGable.Expressions;
using RapidGable.Metadata;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Payloads.Flat;
using RapidGable.Payloads.Json;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.OData;

namespace RapidGable.Service.Faces.OData;

/// <summary>Runs a prepared reading request and writes its answer: headers, status and body.</summary>
internal sealed class ODataAnswer(ODataExchange exchange, TimeProvider time)
{
    public async Task<RequestFault?> WriteAsync(LexedRequest lexed, PreparedRequest prepared)
    {
        return prepared.Request.Path.Kind switch
        {
            ResourceKind.ServiceDocument => await DocumentAsync(lexed, BodyKind.Json, (f, _) =>
                ServiceDocumentWriter.Write(prepared.Model, f, exchange.Root)
            ),
            ResourceKind.Metadata => await DocumentAsync(lexed, BodyKind.MetadataXml, (f, type) =>
                (byte[])
                    prepared.Derived.GetOrAdd($"csdl {f.Version} {type}", _ =>
                        type == "application/json"
                            ? CsdlJsonWriter.Write(CsdlXmlWriter.Write(prepared.Model, f.Version))
                            : CsdlXmlWriter.Write(prepared.Model, f.Version)
                    )
            ),
            _ => await DataAsync(lexed, prepared),
        };
    }

    private async Task<RequestFault?> DocumentAsync(LexedRequest lexed, BodyKind kind, Func<PayloadFormat, string, byte[]> write)
    {
        if (
            !Negotiation
                .Content(kind, exchange.Version, exchange.Request.Headers.Accept, lexed.Format, "")
                .Is(out var negotiated, out var fault)
        )
            return fault;
        var content = write(negotiated.Format, negotiated.ContentType.Split(';')[0]);
        var (isSame, wrong) = Validators.Check(exchange.Context, Validators.Of(content));
        if (wrong is not null)
            return wrong;
        if (isSame)
            exchange.Response.StatusCode = StatusCodes.Status304NotModified;
        else
            await Bodies.SendAsync(exchange.Context, negotiated.ContentType, content);
        return null;
    }

    private async Task<RequestFault?> DataAsync(LexedRequest lexed, PreparedRequest prepared)
    {
        var request = prepared.Request;
        var tracks = exchange.Preferences.TrackChanges && request.CanTrack && !request.IsDelta;
        if (
            !Negotiated(lexed, request).Is(out var negotiated, out var fault)
            || !QueryValues
                .Make(request, lexed, exchange.Preferences.MaxPageSize, time.GetUtcNow().UtcDateTime, exchange.Caller)
                .Is(out var values, out fault)
            || !(await StartAsync(prepared, values, tracks && negotiated.Csv is null)).Is(out var run, out fault)
        )
            return fault;
        await using (run)
            return await RowsAsync(lexed, prepared, negotiated, run, tracks && negotiated.Csv is null);
    }

    /// <summary>The format of the answer, as far as it is known before there is a row.</summary>
    private Result<Negotiated> Negotiated(LexedRequest lexed, BoundRequest request)
    {
        var (kind, property) = (request.Path.Kind, request.Path.Property);
        var rawType = kind == ResourceKind.RawValue ? RawValueWriter.MediaType(property!) : "text/plain";
        // A count is plain text whatever is accepted (Protocol 11.2.10); a stream's type may be known only with its row.
        var accept = IsCount(kind) || property?.MediaTypeColumn is not null ? default : exchange.Request.Headers.Accept;
        var format = IsCount(kind) ? null : lexed.Format;
        if (!Negotiation.Content(BodyKindOf(kind), exchange.Version, accept, format, rawType).Is(out var negotiated, out var fault))
            return fault;
        if (negotiated.Csv is not null && (request.Path.IsReference || request.AllExpands.Any(e => e.Kind == ExpandKind.References)))
            return RequestFault.NotImplemented("References are not written as CSV.", "$format");
        return request.IsDelta && !negotiated.Format.HasContext
            ? new RequestFault(
                406,
                "not-acceptable",
                "Changes need their control information; ask for them with metadata=minimal.",
                "Accept"
            )
            : negotiated;
    }

    private async Task<Result<QueryRun>> StartAsync(PreparedRequest prepared, QueryValues values, bool tracks)
    {
        exchange.Database.Start();
        var within = InnerExchange.UnitOf(exchange.Context) is { } unit
            ? await unit.ReadingAsync(prepared.Source, exchange.Cancellation)
            : null;
        var started = await QueryRun.StartAsync(prepared, values.With(exchange.Allowance), exchange.Cancellation, tracks, within);
        exchange.Database.Stop();
        return started;
    }

    private async Task<RequestFault?> RowsAsync(
        LexedRequest lexed,
        PreparedRequest prepared,
        Negotiated negotiated,
        QueryRun run,
        bool tracks
    )
    {
        var request = prepared.Request;
        var kind = request.Path.Kind;
        if (Missing(request, run) is { } missing)
            return missing.Status == StatusCodes.Status204NoContent ? Ended(StatusCodes.Status204NoContent) : missing;
        if (BodyKindOf(kind) == BodyKind.Raw && RawValueWriter.KeptMediaType(run) is { } kept)
        {
            var accept = exchange.Request.Headers.Accept;
            if (!Negotiation.Content(BodyKind.Raw, exchange.Version, accept, lexed.Format, kept).Is(out var known, out var fault))
                return fault;
            negotiated = known;
        }
        if (request.Path.Property?.Type.Kind == EdmKind.Stream)
        {
            await StreamContent.SendAsync(exchange.Context, negotiated.ContentType, RawValueWriter.Value(run));
            return null;
        }
        if (run.HasRow && kind is ResourceKind.Entity && RawValueWriter.ETag(run) is { } tag)
        {
            var (isSame, wrong) = Validators.Check(exchange.Context, tag);
            if (wrong is not null)
                return wrong;
            if (isSame)
                return Ended(StatusCodes.Status304NotModified);
        }
        var format = Preferred(negotiated.Format, request, tracks);
        if (BodyKindOf(kind) == BodyKind.Raw)
            await Bodies.SendAsync(
                exchange.Context,
                negotiated.ContentType,
                IsCount(kind) ? CountOf(run, kind) : RawValueWriter.Value(run)
            );
        else
            await StreamAsync(lexed, prepared, negotiated with { Format = format }, run);
        return null;
    }

    /// <summary>An answer without a body.</summary>
    private RequestFault? Ended(int status)
    {
        exchange.Response.StatusCode = status;
        return null;
    }

    /// <summary>The format with what the caller prefers, and the header that says which preferences were met.</summary>
    private PayloadFormat Preferred(PayloadFormat format, BoundRequest request, bool tracks)
    {
        var preferences = exchange.Preferences;
        if (preferences.MaxPageSize is not null && request.Path.Kind == ResourceKind.Collection)
            preferences.Apply("maxpagesize");
        if (tracks)
            preferences.Apply("track-changes");
        if (preferences.OmitNulls && BodyKindOf(request.Path.Kind) != BodyKind.Raw && !request.IsDelta)
        {
            preferences.Apply("omit-values");
            format = format with { OmitsNulls = true };
        }
        if (preferences.Applied is { } applied)
            exchange.Response.Headers["Preference-Applied"] = applied;
        return format;
    }

    private static byte[] CountOf(QueryRun run, ResourceKind kind)
    {
        var column = kind == ResourceKind.Count ? 0 : run.Query.Shape.Value!.Column;
        return Encoding.UTF8.GetBytes(run.IsZero ? "0" : run.Rows.GetInt64(column).ToString());
    }

    private static bool IsCount(ResourceKind kind) => kind is ResourceKind.Count or ResourceKind.ValueCount;

    private static BodyKind BodyKindOf(ResourceKind kind) =>
        IsCount(kind) || kind == ResourceKind.RawValue ? BodyKind.Raw
        : kind == ResourceKind.Collection ? BodyKind.List
        : BodyKind.Json;

    /// <summary>404 or 204 when there is nothing to write; null when there is.</summary>
    internal static RequestFault? Missing(BoundRequest request, QueryRun run)
    {
        var notFound = RequestFault.NotFound("There is no such entity.", "path");
        var noContent = new RequestFault(StatusCodes.Status204NoContent, "", "");
        if (!run.ParentExists)
            return notFound;
        switch (request.Path.Kind)
        {
            case ResourceKind.Collection or ResourceKind.Count:
                return null;
            case ResourceKind.Entity when !run.HasRow:
                return request.Path.Hops is [.., { Key: null }] || IsEmptyResult(request.Path, run) ? noContent : notFound;
            case ResourceKind.PropertyValue
            or ResourceKind.RawValue
                when run is { HasRow: true, Query.Shape.Value: { Column: >= 0, Property.Type.IsCollection: false } cell }
                    && run.Rows.IsNull(cell.Column):
                return noContent;
            default:
                return run.HasRow ? null
                    : IsEmptyResult(request.Path, run) ? noContent
                    : notFound;
        }
    }

    /// <summary>A function has given nothing, which is a result (Protocol 11.5.4.2).</summary>
    private static bool IsEmptyResult(BoundPath path, QueryRun run) =>
        !run.HasRow
        && path is { Root.IsQuery: true, Hops.IsEmpty: true }
        && (path.Property is null || path.Root.Gives == QueryResult.Value);

    /// <summary>Writes the answer while its rows are read.</summary>
    private async Task StreamAsync(LexedRequest lexed, PreparedRequest prepared, Negotiated negotiated, QueryRun run)
    {
        var links = new LinkBuilder(exchange.Root, lexed);
        if (negotiated.Csv is { } form)
        {
            await ListAnswer.WriteAsync(exchange, run, negotiated.ContentType, CsvWriter.For(prepared, form), links);
            return;
        }
        IPayloadWriter writer = negotiated.IsLines
            ? JsonLinesWriter.For(prepared, negotiated.Format)
            : ODataJsonWriter.For(prepared, negotiated.Format);
        var answer = new StreamedAnswer(exchange, run, negotiated.ContentType);
        await answer.WriteAsync(output => writer.WriteAsync(run, links, output, exchange.Cancellation));
    }
}
