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
        var headers = exchange.Request.Headers;
        var kind = prepared.Request.Path.Kind;
        var isCount = kind is ResourceKind.Count or ResourceKind.ValueCount;
        var isRaw = isCount || kind == ResourceKind.RawValue;
        var property = prepared.Request.Path.Property;
        var rawType = kind == ResourceKind.RawValue ? RawValueWriter.MediaType(property!) : "text/plain";
        // A count is plain text whatever is accepted (Protocol 11.2.10); a stream's type may be known only with its row.
        var accept = isCount || property?.MediaTypeColumn is not null ? default : headers.Accept;
        if (
            !Negotiation
                .Content(BodyKindOf(kind, isRaw), exchange.Version, accept, isCount ? null : lexed.Format, rawType)
                .Is(out var negotiated, out var fault)
        )
            return fault;
        var preferences = exchange.Preferences;
        var tracks = preferences.TrackChanges && prepared.Request.CanTrack && !prepared.Request.IsDelta;
        if (prepared.Request.IsDelta && !negotiated.Format.HasContext)
            return new RequestFault(
                406,
                "not-acceptable",
                "Changes need their control information; ask for them with metadata=minimal.",
                "Accept"
            );
        if (
            !QueryValues
                .Make(prepared.Request, lexed, preferences.MaxPageSize, time.GetUtcNow().UtcDateTime, exchange.Caller)
                .Is(out var values, out fault)
        )
            return fault;
        exchange.Database.Start();
        var within = InnerExchange.UnitOf(exchange.Context) is { } unit
            ? await unit.ReadingAsync(prepared.Source, exchange.Cancellation)
            : null;
        var started = await QueryRun.StartAsync(prepared, values.With(exchange.Allowance), exchange.Cancellation, tracks, within);
        exchange.Database.Stop();
        if (!started.Is(out var run, out fault))
            return fault;
        await using (run)
        {
            if (Missing(prepared.Request, run) is { } missing)
            {
                if (missing.Status != StatusCodes.Status204NoContent)
                    return missing;
                exchange.Response.StatusCode = StatusCodes.Status204NoContent;
                return null;
            }
            if (
                isRaw
                && RawValueWriter.KeptMediaType(run) is { } kept
                && !Negotiation.Content(BodyKind.Raw, exchange.Version, headers.Accept, lexed.Format, kept).Is(out negotiated, out fault)
            )
                return fault;
            if (property?.Type.Kind == EdmKind.Stream)
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
                {
                    exchange.Response.StatusCode = StatusCodes.Status304NotModified;
                    return null;
                }
            }
            var format = negotiated.Format;
            if (preferences.MaxPageSize is not null && kind == ResourceKind.Collection)
                preferences.Apply("maxpagesize");
            if (tracks)
                preferences.Apply("track-changes");
            if (preferences.OmitNulls && !isRaw && !prepared.Request.IsDelta)
            {
                preferences.Apply("omit-values");
                format = format with { OmitsNulls = true };
            }
            if (preferences.Applied is { } applied)
                exchange.Response.Headers["Preference-Applied"] = applied;
            if (isRaw)
                await SendAsync(
                    exchange.Context,
                    negotiated.ContentType,
                    isCount
                        ? Encoding.UTF8.GetBytes(
                            run.IsZero ? "0" : run.Rows.GetInt64(kind == ResourceKind.Count ? 0 : run.Query.Shape.Value!.Column).ToString()
                        )
                        : RawValueWriter.Value(run)
                );
            else
                await StreamAsync(lexed, prepared, negotiated with { Format = format }, run);
        }
        return null;
    }

    private static BodyKind BodyKindOf(ResourceKind kind, bool isRaw) =>
        isRaw ? BodyKind.Raw
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
