using System.Security.Cryptography;
using System.Text;
using Microsoft.AspNetCore.Http;
using RapidGable.Changes;
using RapidGable.Expressions;

namespace RapidGable.Service.Faces.Rest;

/// <summary>
/// Entity tags of the plain REST face (RFC 9110, 8.8.3 and 13.1). A tag is strong: it holds the state of the row, then what makes this
/// representation of it another than the usual one, and the encoding. Changes look at the state alone.
/// </summary>
internal static class RestTags
{
    private const char Separator = ';';

    /// <summary>The tag of a representation.</summary>
    /// <param name="state">The tag of the row's state, as the core makes it: weak.</param>
    /// <param name="variant">What makes the representation another than the usual one; empty = it is that.</param>
    public static string Of(string state, string variant)
    {
        var plain = Plain(state)[..^1];
        return variant.Length == 0
            ? plain + "\""
            : $"{plain}{Separator}{Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(variant)).AsSpan(0, 4))}\"";
    }

    /// <summary>Lets an answer that is compressed on its way have a tag of its own.</summary>
    public static void FollowEncoding(HttpContext context) =>
        context.Response.OnStarting(() =>
        {
            var headers = context.Response.Headers;
            if (headers.ContentEncoding.ToString() is { Length: > 0 } encoding && headers.ETag.ToString() is ['"', .., '"'] tag)
                headers.ETag = $"{tag[..^1]}{Separator}{encoding}\"";
            return Task.CompletedTask;
        });

    /// <summary>What a change asks of the state that it finds; the fault is about a header that cannot be read.</summary>
    public static Result<Preconditions> Conditions(HttpRequest request)
    {
        var (match, wrong) = Validators.Tags(request.Headers.IfMatch, "If-Match");
        var (noneMatch, alsoWrong) = Validators.Tags(request.Headers.IfNoneMatch, "If-None-Match");
        return (wrong ?? alsoWrong) is { } fault
            ? fault
            : new Preconditions(
                // The comparison is strong: a weak tag is never that of the entity.
                match is { } tags
                    ? [.. tags.Select(t => IsWeak(t) ? "\"\u0001\"" : State(t))]
                    : null,
                noneMatch is { } others ? [.. others.Select(State)] : null
            );
    }

    /// <summary>Sets the tag of an answer and looks at <c>If-None-Match</c>, whose comparison is weak.</summary>
    public static (bool IsSame, RequestFault? Fault) Check(HttpContext context, string tag)
    {
        context.Response.Headers.ETag = tag;
        var (tags, fault) = Validators.Tags(context.Request.Headers.IfNoneMatch, "If-None-Match");
        return (tags is { } known && known.Any(t => t == "*" || WithoutEncoding(Plain(t)) == Plain(tag)), fault);
    }

    private static string WithoutEncoding(string tag) =>
        tag.LastIndexOf(Separator) is > 0 and var at && tag[(at + 1)..^1] is "gzip" or "br" or "deflate" ? tag[..at] + "\"" : tag;

    private static bool IsWeak(string tag) => tag.StartsWith("W/", StringComparison.Ordinal);

    private static string Plain(string tag) => IsWeak(tag) ? tag[2..] : tag;

    private static string State(string tag) =>
        tag == "*" ? tag
        : Plain(tag) is var plain && plain.IndexOf(Separator) is > 0 and var at ? plain[..at] + "\""
        : plain;
}
