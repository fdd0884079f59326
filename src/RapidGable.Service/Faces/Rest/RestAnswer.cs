using Microsoft.AspNetCore.Http;
using Microsoft.Net.Http.Headers;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.Rest;

namespace RapidGable.Service.Faces.Rest;

/// <summary>Runs a reading request of the plain REST face and writes its answer.</summary>
internal sealed class RestAnswer(RestExchange exchange, TimeProvider time)
{
    // Rows of a page that gets a tag of its bytes; a larger one is sent while it is read.
    private const int TaggedRows = 5_000;

    public async Task<RequestFault?> WriteAsync(RestRequest read, PreparedRequest prepared)
    {
        var request = prepared.Request;
        var isStream = request.Path.Kind == ResourceKind.RawValue;
        if (!RestExchange.IsResource(request.Path))
            return RequestFault.NotFound(
                $"'{request.Path.Property?.Name}' has no address of its own; ask for it with fields={request.Path.Property?.Name}.",
                "path"
            );
        RestFormat? format = null;
        RequestFault? fault;
        if (
            !isStream
            && !RestFormat
                .Of(read.Format, exchange.Request.Headers.Accept, exchange.UsualFormat(request.Path.Target))
                .Is(out format, out fault)
        )
            return fault;
        if (
            !QueryValues
                .Make(request, read, read.PageSize, time.GetUtcNow().UtcDateTime, exchange.Caller, limitsRelated: false)
                .Is(out var values, out fault)
        )
            return fault;
        exchange.Database.Start();
        var started = await QueryRun.StartAsync(prepared, values.With(exchange.Allowance), exchange.Cancellation);
        exchange.Database.Stop();
        if (!started.Is(out var run, out fault))
            return fault;
        await using (run)
        {
            if (Missing(request, run) is { } missing)
                return missing;
            SetCaching(request.Path);
            return isStream ? await StreamAsync(run, request.Path.Property!) : await RowsAsync(read, prepared, format!, run);
        }
    }

    /// <summary>404 when there is nothing to write; null when there is.</summary>
    public static RequestFault? Missing(BoundRequest request, QueryRun run)
    {
        if (!run.ParentExists || (request.Path.Kind != ResourceKind.Collection && !run.HasRow))
            return RequestFault.NotFound("There is no such row.", "path");
        return request.Path.Kind == ResourceKind.RawValue && run.Rows.IsNull(run.Query.Shape.Value!.Column)
            ? RequestFault.NotFound($"'{request.Path.Property!.Name}' has no content.", "path")
            : null;
    }

    /// <summary>What caches may do (RFC 9111): nothing of what is for one caller, and little of the rest unless it is declared.</summary>
    private void SetCaching(BoundPath path)
    {
        if (exchange.Caller.IsSignedIn)
            return;
        var sets = path.Hops.Select(h => h.Target).Prepend(path.Root!);
        var seconds = sets.Select(s => exchange.Shape.Of(s.Name).CacheSeconds)
            .Aggregate((a, b) => a is null || b is null ? null : Math.Min(a.Value, b.Value));
        exchange.Response.Headers.CacheControl = seconds is { } age ? $"public, max-age={age}" : "no-cache";
    }

    private async Task<RequestFault?> StreamAsync(QueryRun run, Property property)
    {
        var type = RawValueWriter.KeptMediaType(run) ?? RawValueWriter.MediaType(property);
        await StreamContent.SendAsync(exchange.Context, type, RawValueWriter.Value(run));
        return null;
    }

    private async Task<RequestFault?> RowsAsync(RestRequest read, PreparedRequest prepared, RestFormat format, QueryRun run)
    {
        var request = prepared.Request;
        var isEntity = request.Path.Kind == ResourceKind.Entity;
        format = Preferred(format);
        RestTags.FollowEncoding(exchange.Context);
        var hasTag = request.Expand.IsEmpty && isEntity && RawValueWriter.ETag(run) is not null;
        if (hasTag)
        {
            var (isSame, wrong) = RestTags.Check(exchange.Context, RestTags.Of(RawValueWriter.ETag(run)!, Variant(read, format)));
            if (wrong is not null)
                return wrong;
            if (isSame)
            {
                exchange.Response.StatusCode = StatusCodes.Status304NotModified;
                return null;
            }
        }
        if (format.FileEnding is { } ending)
            exchange.Response.Headers.ContentDisposition = $"attachment; filename=\"{FileName(request.Path)}{ending}\"";
        var links = new RestLinks(exchange.Root, read, exchange.Paths);
        return await ListAnswer.WriteAsync(
            exchange,
            run,
            format.ContentType,
            format.WriterFor(prepared, exchange.Shape.HasBareLists),
            links,
            !hasTag && run.Values.PageRows <= TaggedRows,
            next => TellLinks(read, format, isEntity, links, next)
        );
    }

    private static string FileName(BoundPath path) =>
        new([.. (path.Hops.IsEmpty ? path.Root!.Name : path.Hops[^1].Navigation.Name).Select(c => char.IsAsciiLetterOrDigit(c) ? c : '_')]);

    private RestFormat Preferred(RestFormat format)
    {
        if (!exchange.Preferences.OmitNulls || format.Kind is not (RestFormatKind.Json or RestFormatKind.JsonLines))
            return format;
        exchange.Preferences.Apply("omit-values");
        exchange.Response.Headers["Preference-Applied"] = exchange.Preferences.Applied;
        return format with { OmitsNulls = true };
    }

    /// <summary>What makes a representation another than that of all values as JSON.</summary>
    private static string Variant(RestRequest read, RestFormat format)
    {
        var fields = read.Address.Options.FirstOrDefault(o => o.Name == RestParameters.Fields)?.Value ?? "";
        return format is { Kind: RestFormatKind.Json, OmitsNulls: false } && fields.Length == 0
            ? ""
            : $"{format.Kind} {format.Csv} {format.OmitsNulls} {fields}";
    }

    private void TellLinks(RestRequest read, RestFormat format, bool isEntity, RestLinks links, string? next)
    {
        void Tell(string address, string relation) =>
            exchange.Response.Headers.Append(HeaderNames.Link, $"<{address}>; rel=\"{relation}\"");
        if (next is not null)
            Tell(next, "next");
        if (read.Position is not null)
            Tell(links.First(), "first");
        if (format.Kind == RestFormatKind.Xml)
            Tell(exchange.Root + RestDocuments.XsdPath, "describedby");
        else if (!isEntity)
            Tell(exchange.Root + RestDocuments.OpenApiPath, "describedby");
    }
}
