using System.Collections.Frozen;
using Microsoft.AspNetCore.Http;
using Microsoft.Net.Http.Headers;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Service.Faces;

/// <summary>The content of streams, as callers get and send it.</summary>
internal static class StreamContent
{
    private const string Unknown = "application/octet-stream";

    /// <summary>Images that are no documents: a browser may show them where it finds them.</summary>
    private static readonly FrozenSet<string> ShownImages = FrozenSet.Create(
        StringComparer.Ordinal,
        "image/png",
        "image/jpeg",
        "image/gif",
        "image/webp",
        "image/avif",
        "image/bmp"
    );

    /// <summary>Sends a stream with its own tag, whole or in the asked range (RFC 9110 14).</summary>
    public static async Task SendAsync(HttpContext context, string contentType, byte[] content)
    {
        var type = MediaTypeHeaderValue.TryParse(contentType, out var known) ? known.MediaType.ToString().ToLowerInvariant() : "";
        if (type.Length == 0)
            contentType = Unknown;
        // A browser that shows it beside the console must have nothing to run.
        if (!ShownImages.Contains(type))
            context.Response.Headers.ContentDisposition = "attachment";
        var tag = new EntityTagHeaderValue(Validators.Of(content)[2..]);
        await Results.Bytes(content, contentType, enableRangeProcessing: true, entityTag: tag).ExecuteAsync(context);
    }

    /// <summary>The media type that a property's content has to have, when this is not it; null = it is.</summary>
    public static string? NotTaken(Property property, MediaTypeHeaderValue type)
    {
        bool Is(string other) => type.MediaType.Equals(other, StringComparison.OrdinalIgnoreCase);
        var wanted =
            property is { MediaType: { } fixedType, MediaTypeColumn: null } ? fixedType
            : property.Type.Kind == EdmKind.Binary ? "application/octet-stream"
            : "text/plain";
        var isTaken =
            property.MediaTypeColumn is not null || Is(wanted) || (property.Type.Kind == EdmKind.Stream && Is("application/octet-stream"));
        return isTaken ? null : wanted;
    }

    /// <summary>The media type of a body; the fault is 415.</summary>
    public static Result<MediaTypeHeaderValue> TypeOf(HttpRequest request) =>
        MediaTypeHeaderValue.TryParse(request.ContentType, out var type)
            ? type
            : new RequestFault(
                415,
                "content-type",
                request.ContentType is null ? "Say with Content-Type what the body is." : $"'{request.ContentType}' is not a media type.",
                "Content-Type"
            );
}
