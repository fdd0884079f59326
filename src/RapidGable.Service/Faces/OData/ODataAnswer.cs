using System.Text;
using Microsoft.AspNetCore.Http;
using Microsoft.Net.Http.Headers;
using RapidGable.Expressions;
using RapidGable.Metadata;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Payloads.Json;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.OData;
using RapidGable.Service.Traffic;

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
            await SendAsync(exchange.Context, negotiated.ContentType, content);
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
            || !(await StartAsync(prepared, values, tracks)).Is(out var run, out fault)
        )
            return fault;
        await using (run)
            return await RowsAsync(lexed, prepared, negotiated, run, tracks);
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
            await SendStreamAsync(negotiated.ContentType, RawValueWriter.Value(run));
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
            await SendAsync(exchange.Context, negotiated.ContentType, IsCount(kind) ? CountOf(run, kind) : RawValueWriter.Value(run));
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
                return request.Path.Hops is [.., { Key: null }] ? noContent : notFound;
            case ResourceKind.PropertyValue
            or ResourceKind.RawValue
                when run is { HasRow: true, Query.Shape.Value: { Column: >= 0, Property.Type.IsCollection: false } cell }
                    && run.Rows.IsNull(cell.Column):
                return noContent;
            default:
                return run.HasRow ? null : notFound;
        }
    }

    /// <summary>A stream with its own tag, whole or in the asked range (RFC 9110 14).</summary>
    private async Task SendStreamAsync(string contentType, byte[] content)
    {
        var tag = new EntityTagHeaderValue(Validators.Of(content)[2..]);
        await Results.Bytes(content, contentType, enableRangeProcessing: true, entityTag: tag).ExecuteAsync(exchange.Context);
    }

    /// <summary>
    /// Writes the answer. One that is not large is made whole first, and the session given back, so that a caller who takes it slowly
    /// keeps nobody waiting.
    /// </summary>
    private async Task StreamAsync(LexedRequest lexed, PreparedRequest prepared, Negotiated negotiated, QueryRun run)
    {
        var response = exchange.Response;
        var isInner = InnerExchange.Is(exchange.Context);
        var delivery = new Delivery(exchange.Context, exchange.Traffic, () => run.IsAwaited);
        using var held = new HeldAnswer(exchange.Allowance, Limits.WholeAnswerBytes);
        var isOnePiece = false;
        using var output = new PayloadOutput(SendPieceAsync, length =>
        {
            isOnePiece = true;
            response.ContentLength = length;
        });
        IPayloadWriter writer = negotiated.IsLines
            ? JsonLinesWriter.For(prepared, negotiated.Format)
            : ODataJsonWriter.For(prepared, negotiated.Format);
        await writer.WriteAsync(run, new LinkBuilder(exchange.Root, lexed), output, exchange.Cancellation);
        if (held.Length == 0)
        {
            // Of nothing, too, it is said what it is.
            if (!response.HasStarted)
                response.ContentType = negotiated.ContentType;
            return;
        }
        await run.DisposeAsync();
        response.ContentType = negotiated.ContentType;
        response.ContentLength = held.Length;
        await held.SendAsync(delivery.SendAsync);

        async ValueTask SendPieceAsync(ReadOnlyMemory<byte> piece, CancellationToken cancellation)
        {
            if (isOnePiece)
                await run.DisposeAsync();
            else if (!isInner && !response.HasStarted && held.TryKeep(piece))
                return;
            if (!response.HasStarted)
                response.ContentType = negotiated.ContentType;
            await held.SendAsync(delivery.SendAsync);
            await delivery.SendAsync(piece);
        }
    }

    internal static async Task SendAsync(HttpContext context, string contentType, byte[] body)
    {
        context.Response.ContentType = contentType;
        context.Response.ContentLength = body.Length;
        await context.Response.Body.WriteAsync(body, context.RequestAborted);
    }
}
