using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Http.Features;

namespace RapidGable.Service;

/// <summary>The address of a request as the client sent it, before anything decodes it.</summary>
internal static class RawTarget
{
    /// <summary>The path from its first slash, and the query without its mark; empty = none.</summary>
    public static (string Path, string Query) Of(HttpContext context)
    {
        var target = context.Features.Get<IHttpRequestFeature>()!.RawTarget;
        if (!target.StartsWith('/') && Uri.TryCreate(target, UriKind.Absolute, out var absolute))
            target = target[(target.IndexOf(absolute.Authority, StringComparison.OrdinalIgnoreCase) + absolute.Authority.Length)..];
        var mark = target.IndexOf('?');
        return mark < 0 ? (target, "") : (target[..mark], target[(mark + 1)..]);
    }
}
