using System.Net.Http.Headers;
using System.Security.Cryptography;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Changes;
using RapidGable.Model;
using RapidGable.Payloads.Json;
using RapidGable.Publishing;
using RapidGable.Service.Faces;
using RapidGable.Verification;

namespace RapidGable.Service.Trials;

/// <summary>
/// Writing, tried over HTTP against the real sources by somebody who may do all that the sets allow, and who takes away what they made.
/// </summary>
public static class WriteTrial
{
    private const string Role = "write-trial";

    /// <summary>The workspace with rules for the trial's own caller alone, and the key that they come with.</summary>
    public static (LoadedWorkspace Workspace, string Key, Caller Caller) Open(LoadedWorkspace workspace)
    {
        var grant = new Grant(AccessRule.ForRoles([Role]), Caller.Everything);
        var services = workspace.Services.Select(s =>
            s with
            {
                Model = s.Model.With([
                    .. s.Model.Sets.Select(e =>
                        e with
                        {
                            Rules = [grant],
                            Operations = e.Operations | SetOperations.Read,
                            RowRules = [.. e.RowRules.Where(r => r.Who is null)],
                        }
                    ),
                ]),
            }
        );
        return (
            workspace with
            {
                Services = [.. services],
            },
            Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(32)),
            Caller.WithRoles(Role) with
            {
                Name = Role,
            }
        );
    }

    /// <param name="address">Of the service that runs over the opened workspace.</param>
    public static async Task<ServiceReport> RunAsync(
        PublishedService service,
        HttpClient client,
        string address,
        string key,
        int seed,
        Action<string> progress,
        CancellationToken cancellation
    )
    {
        var probe = new Probe(client, key);
        var environment = new ChangeEnvironment(TimeProvider.System, Random.Shared, Guid.NewGuid);
        return await new WriteVerifier(
            service.Model,
            $"{address}{FaceTable.OData}{service.Model.Service}/",
            probe,
            async (set, entity) =>
            {
                if (JsonKey.Of(set, entity) is { } key)
                    await ChangeRunner.RemoveAsync(service, set, key, environment, cancellation);
            },
            seed,
            cancellation
        ).RunAsync(progress);
    }

    private sealed class Probe(HttpClient client, string key) : IChangeProbe
    {
        public async Task<ChangeResponse> SendAsync(
            string method,
            string url,
            string? body,
            string? ifMatch,
            CancellationToken cancellation
        )
        {
            using var request = new HttpRequestMessage(new HttpMethod(method), ProbeAddress.Of(url));
            request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", key);
            request.Headers.Add("OData-MaxVersion", "4.01");
            if (ifMatch is not null)
                request.Headers.TryAddWithoutValidation("If-Match", ifMatch);
            if (body is not null)
                request.Content = new StringContent(body, System.Text.Encoding.UTF8, "application/json");
            using var response = await client.SendAsync(request, cancellation);
            return new ChangeResponse(
                (int)response.StatusCode,
                response.Headers.Location?.OriginalString,
                response.Headers.ETag?.ToString(),
                response.Content.Headers.Allow.Count > 0 ? string.Join(", ", response.Content.Headers.Allow) : null,
                await response.Content.ReadAsByteArrayAsync(cancellation)
            );
        }
    }
}
