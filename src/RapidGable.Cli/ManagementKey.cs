using System.Net;
using System.Net.Http.Headers;

namespace RapidGable.Cli;

/// <summary>
/// What commands send to a running service: the administrator's key in the variable GABLE_KEY, or without one the token of the link in
/// the file console-link of the folder they run in.
/// </summary>
internal static class ManagementKey
{
    public static void AddTo(HttpRequestMessage request)
    {
        if (Environment.GetEnvironmentVariable("GABLE_KEY") is { Length: > 0 } key || (key = FromLink()) is not null)
            request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", key);
    }

    private static string? FromLink()
    {
        try
        {
            return File.Exists("console-link") && File.ReadAllText("console-link").Trim().Split("#link=") is [_, var token] ? token : null;
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException)
        {
            return null;
        }
    }

    /// <summary>What to do about a refusal.</summary>
    public static string Advice(HttpStatusCode status) =>
        status == HttpStatusCode.Unauthorized
            ? "set GABLE_KEY to a key that 'gable api-key make WORKSPACE NAME --administrator' gives; as long as there is no "
                + "administrator, run it in the workspace's folder, where the file console-link lies."
            : "its management interface answers administrators only.";
}
