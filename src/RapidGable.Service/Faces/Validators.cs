using System.Security.Cryptography;
using Microsoft.AspNetCore.Http;
using Microsoft.Net.Http.Headers;
using RapidGable.Expressions;

namespace RapidGable.Service.Faces;

/// <summary>Entity tags (RFC 9110 8.8.3, 13.1).</summary>
internal static class Validators
{
    /// <summary>A weak tag that changes with the bytes.</summary>
    public static string Of(byte[] content) => $"W/\"{Convert.ToHexStringLower(SHA256.HashData(content).AsSpan(0, 8))}\"";

    /// <summary>The tags of a header as they are written, <c>*</c> among them; null = the header is not there.</summary>
    /// <returns>A fault when it is no list of tags.</returns>
    public static (System.Collections.Immutable.ImmutableArray<string>? Tags, RequestFault? Fault) Tags(
        Microsoft.Extensions.Primitives.StringValues header,
        string name
    )
    {
        if (header.Count == 0)
            return (null, null);
        return EntityTagHeaderValue.TryParseStrictList([.. header.OfType<string>()], out var tags)
            ? ([.. tags.Select(t => t.ToString())], null)
            : (null, new RequestFault(400, "etag", $"The {name} header is not a list of entity tags in double quotes.", name));
    }

    /// <summary>Sets the tag and looks at <c>If-None-Match</c>, whose comparison is weak.</summary>
    /// <returns>Whether the caller has the same already, so that 304 is the answer; a fault when the header cannot be read.</returns>
    public static (bool IsSame, RequestFault? Fault) Check(HttpContext context, string tag)
    {
        context.Response.Headers.ETag = tag;
        var header = context.Request.Headers.IfNoneMatch;
        if (header.Count == 0)
            return (false, null);
        if (!EntityTagHeaderValue.TryParseStrictList([.. header.OfType<string>()], out var tags))
            return (
                false,
                new RequestFault(400, "etag", "The If-None-Match header is not a list of entity tags in double quotes.", "If-None-Match")
            );
        var own = EntityTagHeaderValue.Parse(tag);
        return (tags.Any(t => t.Tag == "*" || t.Compare(own, useStrongComparison: false)), null);
    }
}
