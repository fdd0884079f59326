using System.Security.Cryptography;
using Microsoft.AspNetCore.Http;
using Microsoft.Net.Http.Headers;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Queries;
using RapidGable.Service.Traffic;

namespace RapidGable.Service.Faces;

/// <summary>
/// An answer in a format without room for what is said of a list as a whole: the link to the next page stands in a header (RFC 8288),
/// and the number of all rows, too. Where a next page is possible, the answer is kept until its end is known.
/// </summary>
internal static class ListAnswer
{
    /// <summary>The header that holds the number of all rows.</summary>
    public const string TotalHeader = "Total-Count";

    /// <summary>Writes the rows, and the headers that tell where they go on.</summary>
    /// <param name="hasTag">An answer that is in memory as a whole gets an entity tag of its bytes, and 304 when the caller has it.</param>
    public static async Task<RequestFault?> WriteAsync(
        Exchange exchange,
        QueryRun run,
        string contentType,
        IListWriter writer,
        ILinks links,
        bool hasTag = false,
        Action<string?>? whenKnown = null
    )
    {
        var response = exchange.Response;
        if (run.Count is { } total)
            response.Headers[TotalHeader] = total.ToString(System.Globalization.CultureInfo.InvariantCulture);
        if (run.Values.FetchRows <= run.Values.PageRows && !hasTag)
        {
            whenKnown?.Invoke(null);
            await new StreamedAnswer(exchange, run, contentType).WriteAsync(output =>
                writer.WriteAsync(run, links, output, exchange.Cancellation)
            );
            return null;
        }
        await using var spooled = new SpooledAnswer(exchange.Allowance, Limits.WholeAnswerBytes);
        using var output = new PayloadOutput(spooled.KeepAsync);
        var next = await writer.WriteAsync(run, links, output, exchange.Cancellation);
        var link = next is null ? null : links.Of(next, run.Values);
        await run.DisposeAsync();
        if (whenKnown is not null)
            whenKnown(link);
        else if (link is not null)
            response.Headers.Append(HeaderNames.Link, $"<{link}>; rel=\"next\"");
        if (hasTag && spooled.IsInMemory)
        {
            var (isSame, wrong) = Validators.Check(exchange.Context, TagOf(spooled));
            if (wrong is not null)
                return wrong;
            if (isSame)
            {
                response.StatusCode = StatusCodes.Status304NotModified;
                return null;
            }
        }
        response.ContentType = contentType;
        response.ContentLength = spooled.Length;
        var delivery = new Delivery(exchange.Context, exchange.Traffic, () => false);
        await spooled.SendAsync(delivery.SendAsync, exchange.Cancellation);
        return null;
    }

    /// <summary>A weak tag that changes with the bytes.</summary>
    private static string TagOf(SpooledAnswer answer)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        answer.Look(bytes => hash.AppendData(bytes));
        return $"W/\"{Convert.ToHexStringLower(hash.GetHashAndReset().AsSpan(0, 8))}\"";
    }
}
