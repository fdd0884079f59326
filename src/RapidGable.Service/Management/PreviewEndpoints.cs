using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;
using Microsoft.Net.Http.Headers;
using RapidGable.Service.Auditing;
using RapidGable.Service.Identity;
using RapidGable.Service.Trials;

namespace RapidGable.Service.Management;

/// <summary>
/// The draft at addresses of its own below <c>/manage/preview</c>, for administrators: <c>/manage/preview/rest/rivers/Stations</c> is what
/// <c>/rest/rivers/Stations</c> will be. It reads only.
/// </summary>
internal static class PreviewEndpoints
{
    /// <summary>The header that names the caller: a user, or roles joined by commas; anonymous without it.</summary>
    public const string AsHeader = "Gable-As";

    /// <summary>Headers of a request that the draft gets.</summary>
    private static readonly string[] Passed =
    [
        "Accept",
        "Prefer",
        "OData-Version",
        "OData-MaxVersion",
        "If-None-Match",
        "If-Match",
        "Accept-Language",
    ];

    private static readonly HttpClient Client = new(new SocketsHttpHandler { AllowAutoRedirect = false });

    public static void Map(RouteGroupBuilder manage) =>
        manage
            .Needing(ManagementRights.Write)
            .Map("/preview/{**path}", (HttpContext context, DraftPreview preview, IAccountStore accounts, AuditLog audit) =>
                AnswerAsync(context, preview, accounts, audit)
            );

    private static async Task<IResult> AnswerAsync(HttpContext context, DraftPreview preview, IAccountStore accounts, AuditLog audit)
    {
        if (!HttpMethods.IsGet(context.Request.Method) && !HttpMethods.IsHead(context.Request.Method))
        {
            context.Response.Headers.Allow = "GET, HEAD";
            return ManagementInterface.Problem(405, "method", "The preview reads only: it stands over the real databases.");
        }
        var (path, query) = RawTarget.Of(context);
        // What the routing decoded may be spelled in another way.
        if (!path.StartsWith(DraftPreview.Prefix + "/", StringComparison.Ordinal))
            return ManagementInterface.Problem(404, "not-found", $"Addresses of the preview start with {DraftPreview.Prefix}/.");
        var who = context.Request.Headers[AsHeader].FirstOrDefault();
        string? key;
        try
        {
            key = preview.KeyOf(accounts.Current, who);
        }
        catch (InvalidDataException exception)
        {
            return ManagementInterface.Problem(400, "caller", exception.Message);
        }
        audit.Managed(context, AccountEndpoints.AdministratorOf(context), $"looked at the draft as {who ?? NamedCaller.Anonymous}");
        var (address, faults) = await preview.StartAsync(context.RequestAborted);
        if (address is null)
            return ManagementInterface.Problem(
                409,
                "draft-faults",
                "The draft has faults and cannot be previewed: "
                    + string.Join(" ", faults.Take(3).Select(f => $"{f.Location}: {f.Message}"))
            );
        using var request = new HttpRequestMessage(
            new HttpMethod(context.Request.Method),
            address + path[DraftPreview.Prefix.Length..] + (query.Length > 0 ? "?" + query : "")
        );
        // Links lead back to here.
        request.Headers.Host = context.Request.Host.Value;
        foreach (var name in Passed.Where(n => context.Request.Headers.ContainsKey(n)))
            request.Headers.TryAddWithoutValidation(name, context.Request.Headers[name].ToString());
        request.Headers.TryAddWithoutValidation(TrialSecret.Header, preview.Secret);
        if (key is not null)
            request.Headers.TryAddWithoutValidation(HeaderNames.Authorization, "Bearer " + key);
        using var answer = await Client.SendAsync(request, HttpCompletionOption.ResponseHeadersRead, context.RequestAborted);
        context.Response.StatusCode = (int)answer.StatusCode;
        foreach (
            var (name, values) in answer.Headers.Concat(answer.Content.Headers).Where(h => h.Key is not ("Transfer-Encoding" or "Date"))
        )
            context.Response.Headers[name] = values.ToArray();
        context.Response.Headers.CacheControl = "no-store";
        await answer.Content.CopyToAsync(context.Response.Body, context.RequestAborted);
        return Results.Empty;
    }
}
