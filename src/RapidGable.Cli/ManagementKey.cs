using System.Net;
using System.Net.Http.Headers;

namespace RapidGable.Cli;

/// <summary>The administrator's key that commands send to a running service, from the variable GABLE_KEY.</summary>
internal static class ManagementKey
{
    public static void AddTo(HttpRequestMessage request)
    {
        if (Environment.GetEnvironmentVariable("GABLE_KEY") is { Length: > 0 } key)
            request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", key);
    }

    /// <summary>What to do about a refusal.</summary>
    public static string Advice(HttpStatusCode status) => status == HttpStatusCode.Unauthorized
        ? "set GABLE_KEY to a key that 'gable api-key make WORKSPACE NAME --administrator' gives."
        : "its management interface answers administrators, and without any, who works on the service's own machine.";
}
