using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Http.Features;
using Microsoft.Extensions.Logging;
using Microsoft.Net.Http.Headers;
using RapidGable.Access;
using RapidGable.Metadata;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Service;

/// <summary>The OData 4.0 and 4.01 face: <c>/odata/{service}/…</c>.</summary>
internal sealed class ODataFace(ServiceRegistry registry, RequestCounters counters, TimeProvider time, ILogger<ODataFace> log)
{
    public const string Prefix = "/odata/";
    private const string ReadMethods = "GET, HEAD, OPTIONS";

    public async Task HandleAsync(HttpContext context)
    {
        var response = context.Response;
        var (path, query) = RawTarget(context);
        var rest = path[Prefix.Length..];
        var slash = rest.IndexOf('/');
        var name = slash < 0 ? rest : rest[..slash];
        var caller = Caller.Anonymous;
        response.Headers["OData-Version"] = "4.0";
        response.Headers.Vary = "Accept, OData-MaxVersion, Prefer";
        if (!Negotiation.TryVersion(context.Request.Headers, out var version, out var fault))
        {
            await FailAsync(context, fault!);
            return;
        }
        response.Headers["OData-Version"] = version == ODataVersion.V40 ? "4.0" : "4.01";
        if (context.Request.Headers.ContainsKey("OData-Isolation") || context.Request.Headers.ContainsKey("Isolation"))
        {
            await FailAsync(context, new RequestFault(412, "isolation", "Pages from one snapshot are not offered; ask without the isolation header.", "OData-Isolation"));
            return;
        }
        if (registry.Find(name) is not { } service || service.ModelFor(caller).Sets.IsEmpty)
        {
            await FailAsync(context, RequestFault.NotFound($"There is no service '{Uri.UnescapeDataString(name)}'."));
            return;
        }
        if (slash < 0)
        {
            response.Redirect($"{Prefix}{name}/{(query.Length > 0 ? "?" + query : "")}", permanent: true);
            return;
        }
        var exchange = new Exchange(context, service, caller, version, $"{context.Request.Scheme}://{context.Request.Host}{Prefix}{name}/");
        try
        {
            if (await AnswerAsync(exchange, rest[(slash + 1)..], query) is { } refusal)
                await FailAsync(context, refusal);
        }
        catch (OperationCanceledException) when (context.RequestAborted.IsCancellationRequested)
        {
            log.LogDebug("The caller went away.");
        }
        catch (SourceException exception)
        {
            log.LogError("{Kind} at a source of {Service}: {Message}", exception.Kind, name, exception.Message);
            await FailAsync(context, Faults.From(exception));
        }
        catch (Exception exception) when (exception is not OperationCanceledException)
        {
            log.LogError(exception, "A request failed");
            await FailAsync(context, Faults.Internal);
        }
        finally
        {
            counters.Count(name, response.StatusCode);
        }
    }

    private sealed record Exchange(HttpContext Context, PublishedService Service, Caller Caller, ODataVersion Version, string Root)
    {
        public CancellationToken Cancellation => Context.RequestAborted;
    }

    /// <summary>The path and query as the client sent them, before anything decodes them.</summary>
    internal static (string Path, string Query) RawTarget(HttpContext context)
    {
        var target = context.Features.Get<IHttpRequestFeature>()!.RawTarget;
        if (!target.StartsWith('/') && Uri.TryCreate(target, UriKind.Absolute, out var absolute))
            target = target[(target.IndexOf(absolute.Authority, StringComparison.OrdinalIgnoreCase) + absolute.Authority.Length)..];
        var mark = target.IndexOf('?');
        return mark < 0 ? (target, "") : (target[..mark], target[(mark + 1)..]);
    }

    private async Task<RequestFault?> AnswerAsync(Exchange exchange, string path, string query)
    {
        var method = exchange.Context.Request.Method;
        var isRead = HttpMethods.IsGet(method) || HttpMethods.IsHead(method);
        if (!RequestAddress.Read(path, isRead ? query : "").Is(out var address, out var fault)
            || !LexedRequest.Read(address).Is(out var lexed, out fault)
            || !exchange.Service.Prepare(lexed, exchange.Caller).Is(out var prepared, out fault))
            return fault;
        if (!isRead)
        {
            exchange.Context.Response.Headers.Allow = ReadMethods;
            if (!HttpMethods.IsOptions(method) && IsDeclared(method, prepared.Request.Path))
                return RequestFault.NotImplemented($"{method} is declared for this resource, and is not carried out by this version.");
            if (!HttpMethods.IsOptions(method))
                return new RequestFault(405, "method", $"{method} is not allowed here; this resource can be read only.");
            exchange.Context.Response.StatusCode = StatusCodes.Status204NoContent;
            return null;
        }
        return prepared.Request.Path.Kind switch
        {
            ResourceKind.ServiceDocument => await DocumentAsync(exchange, lexed, BodyKind.Json, f => ServiceDocumentWriter.Write(prepared.Model, f, exchange.Root)),
            ResourceKind.Metadata => await DocumentAsync(exchange, lexed, BodyKind.MetadataXml, f =>
                (byte[])prepared.Derived.GetOrAdd($"csdl {f.Version}", _ => CsdlXmlWriter.Write(prepared.Model, f.Version))),
            _ => await DataAsync(exchange, address, lexed, prepared),
        };
    }

    /// <summary>Whether the declaration allows what a writing method does.</summary>
    private static bool IsDeclared(string method, BoundPath path)
    {
        var operation = method.ToUpperInvariant() switch { "POST" => SetOperations.Create, "PATCH" or "PUT" => SetOperations.Update, "DELETE" => SetOperations.Delete, _ => SetOperations.None };
        return operation != SetOperations.None && path.Root is not null && path.Target.Operations.HasFlag(operation);
    }

    private static async Task<RequestFault?> DocumentAsync(Exchange exchange, LexedRequest lexed, BodyKind kind, Func<PayloadFormat, byte[]> write)
    {
        if (!Negotiation.Content(kind, exchange.Version, exchange.Context.Request.Headers.Accept, lexed.Format, "").Is(out var negotiated, out var fault))
            return fault;
        await SendAsync(exchange.Context, negotiated.ContentType, write(negotiated.Format));
        return null;
    }

    private async Task<RequestFault?> DataAsync(Exchange exchange, RequestAddress address, LexedRequest lexed, PreparedRequest prepared)
    {
        var headers = exchange.Context.Request.Headers;
        var kind = prepared.Request.Path.Kind;
        var isRaw = kind is ResourceKind.RawValue or ResourceKind.Count;
        var property = prepared.Request.Path.Property;
        var rawType = kind == ResourceKind.RawValue ? RawValueWriter.MediaType(property!) : "text/plain";
        // A count is plain text whatever is accepted (Protocol 11.2.10); a stream's type may be known only with its row.
        var accept = kind == ResourceKind.Count || property?.MediaTypeColumn is not null ? default : headers.Accept;
        if (!Negotiation.Content(isRaw ? BodyKind.Raw : BodyKind.Json, exchange.Version, accept, kind == ResourceKind.Count ? null : lexed.Format, rawType).Is(out var negotiated, out var fault))
            return fault;
        var page = Negotiation.MaxPageSize(headers);
        if (!QueryValues.Make(prepared.Request, lexed, page?.Rows, time.GetUtcNow().UtcDateTime).Is(out var values, out fault)
            || !(await QueryRun.StartAsync(prepared, values, exchange.Cancellation)).Is(out var run, out fault))
            return fault;
        await using (run)
        {
            if (Missing(prepared.Request, run) is { } missing)
            {
                if (missing.Status != StatusCodes.Status204NoContent)
                    return missing;
                exchange.Context.Response.StatusCode = StatusCodes.Status204NoContent;
                return null;
            }
            if (isRaw && RawValueWriter.KeptMediaType(run) is { } kept && !Negotiation.Content(BodyKind.Raw, exchange.Version, headers.Accept, lexed.Format, kept).Is(out negotiated, out fault))
                return fault;
            if (page is { } asked && kind == ResourceKind.Collection)
                exchange.Context.Response.Headers["Preference-Applied"] = asked.Echo;
            if (isRaw)
                await SendAsync(exchange.Context, negotiated.ContentType, kind == ResourceKind.Count ? System.Text.Encoding.UTF8.GetBytes(run.IsZero ? "0" : run.Rows.GetInt64(0).ToString()) : RawValueWriter.Value(run));
            else
                await StreamAsync(exchange, address, prepared, negotiated, run);
        }
        return null;
    }

    /// <summary>404 or 204 when there is nothing to write; null when there is.</summary>
    private static RequestFault? Missing(BoundRequest request, QueryRun run)
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
            case ResourceKind.PropertyValue or ResourceKind.RawValue when run is { HasRow: true, Query.Shape.Value: { Column: >= 0, Property.Type.IsCollection: false } cell } && run.Rows.IsNull(cell.Column):
                return noContent;
            default:
                return run.HasRow ? null : notFound;
        }
    }

    private static async Task StreamAsync(Exchange exchange, RequestAddress address, PreparedRequest prepared, Negotiated negotiated, QueryRun run)
    {
        var response = exchange.Context.Response;
        using var output = new PayloadOutput((bytes, cancellation) =>
        {
            if (!response.HasStarted)
                response.ContentType = negotiated.ContentType;
            return response.Body.WriteAsync(bytes, cancellation);
        });
        var writer = ODataJsonWriter.For(prepared, negotiated.Format);
        await writer.WriteAsync(run, new LinkBuilder(exchange.Root, address), output, exchange.Cancellation);
    }

    private static async Task SendAsync(HttpContext context, string contentType, byte[] body)
    {
        context.Response.ContentType = contentType;
        context.Response.ContentLength = body.Length;
        await context.Response.Body.WriteAsync(body, context.RequestAborted);
    }

    private static async Task FailAsync(HttpContext context, RequestFault fault)
    {
        if (context.Response.HasStarted)
        {
            // Half an answer must not look like a whole one (Protocol 8.3.1).
            context.Abort();
            return;
        }
        context.Response.StatusCode = fault.Status;
        if (fault.Code == "source-busy")
            context.Response.Headers[HeaderNames.RetryAfter] = "1";
        context.Response.Headers.Remove("Preference-Applied");
        await SendAsync(context, "application/json", ErrorJsonWriter.Write(fault));
    }
}
