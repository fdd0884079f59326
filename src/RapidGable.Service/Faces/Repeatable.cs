using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using Microsoft.AspNetCore.Http;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Service.Faces;

/// <summary>A request that may be sent again (OASIS Repeatable Requests 1.0).</summary>
/// <param name="Id">Of the caller and the request together, so that nobody meets the answers of others.</param>
/// <param name="Print">What tells another request with the same id.</param>
internal sealed record Repeatable(string Id, string Print)
{
    /// <summary>What the headers of a request say; null = it is not repeatable.</summary>
    public static Result<object> Of(HttpContext context, string service, Caller caller, byte[] body, TimeProvider time)
    {
        var (id, sent) = (context.Request.Headers[RepeatHeaders.Id].ToString(), context.Request.Headers[RepeatHeaders.Sent].ToString());
        if (id.Length == 0 && sent.Length == 0)
            return Result<object>.Of("");
        if (id.Length is 0 or > 100 || id.Any(c => !char.IsAsciiLetterOrDigit(c) && c is not ('-' or '_' or '.' or ':')))
            return new RequestFault(
                400,
                "repeatability",
                $"{RepeatHeaders.Id} is an id of at most 100 letters, digits and '-', such as a uuid.",
                RepeatHeaders.Id
            );
        if (!DateTimeOffset.TryParseExact(sent, "r", CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal, out var first))
            return new RequestFault(
                400,
                "repeatability",
                $"{RepeatHeaders.Sent} is the time of the first try, such as Wed, 01 May 2024 12:00:00 GMT.",
                RepeatHeaders.Sent
            );
        if (first < time.GetUtcNow() - TimeSpan.FromHours(Limits.RepeatHours))
        {
            context.Response.Headers[RepeatHeaders.Result] = "rejected";
            return new RequestFault(
                412,
                "repeatability",
                $"A request is known for {Limits.RepeatHours} hours, and this one was first sent before that.",
                RepeatHeaders.Sent
            );
        }
        return Result<object>.Of(Of(context, service, caller, body, id));
    }

    /// <summary>What the header <c>Idempotency-Key</c> of a request says; null = it is not repeatable.</summary>
    public static Result<object> OfKey(HttpContext context, string service, Caller caller, byte[] body)
    {
        var key = context.Request.Headers[Rest.RestHeaders.IdempotencyKey].ToString().Trim();
        if (key.Length == 0)
            return Result<object>.Of("");
        // The draft has a text in double quotes; many clients send it without.
        if (key is ['"', .. var inner, '"'])
            key = inner;
        if (key.Length is 0 or > 255 || key.Any(c => c is < ' ' or > '~' or '"' or '\\'))
            return new RequestFault(
                400,
                "repeatability",
                $"{Rest.RestHeaders.IdempotencyKey} is a text of at most 255 characters, such as a uuid.",
                Rest.RestHeaders.IdempotencyKey
            );
        return Result<object>.Of(Of(context, service, caller, body, "key-" + Hash(Encoding.UTF8.GetBytes(key), 16)));
    }

    private static Repeatable Of(HttpContext context, string service, Caller caller, byte[] body, string id)
    {
        var (path, query) = RawTarget.Of(context);
        var print = Hash([.. Encoding.UTF8.GetBytes($"{context.Request.Method} {path}?{query}\n"), .. body], 16);
        var whose = Hash(Encoding.UTF8.GetBytes($"{service}\n{caller.Identity}"), 8);
        return new Repeatable($"{whose}-{id}", print);
    }

    private static string Hash(byte[] bytes, int length) => Convert.ToHexStringLower(SHA256.HashData(bytes).AsSpan(0, length));
}
