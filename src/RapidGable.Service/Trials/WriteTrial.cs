using System.Net.Http.Headers;
using System.Security.Cryptography;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Changes;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Payloads.Json;
using RapidGable.Publishing;
using RapidGable.Requests.Rest;
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
                Model = s
                    .Model.With([
                        .. s.Model.Sets.Select(e =>
                            e with
                            {
                                Rules = [grant],
                                Operations = e.IsAction ? e.Operations : e.Operations | SetOperations.Read,
                                RowRules = [.. e.RowRules.Where(r => r.Who is null)],
                            }
                        ),
                    ])
                    .Sending(s.Model.Sql is { } sql ? sql with { Who = grant.Who } : null),
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
                Attributes = Caller.AttributesOf(Taken(workspace)),
            }
        );
    }

    /// <summary>A value for each attribute that an action takes from its caller.</summary>
    private static IEnumerable<(string, string)> Taken(LoadedWorkspace workspace) =>
        workspace
            .Services.SelectMany(s => s.Model.Sets.Where(e => e.IsAction))
            .SelectMany(a => a.Call!.Before.Append((QuerySource)a.Source))
            .SelectMany(s => s.Parameters)
            .Where(p => p.TakenFrom is not (null or "user" or "roles"))
            .Select(p => (p.TakenFrom!, p.Sample))
            .Distinct();

    /// <summary>Writing over the OData face.</summary>
    /// <param name="address">Of the service that runs over the opened workspace.</param>
    public static Task<ServiceReport> RunAsync(
        PublishedService service,
        HttpClient client,
        string address,
        string key,
        int seed,
        Action<string> progress,
        CancellationToken cancellation
    ) =>
        RunAsync(
            service.On("odata"),
            new WriteVerifierOf(WrittenFace.OData, $"{address}{FaceTable.OData}{service.Model.Service}/"),
            client,
            key,
            seed,
            progress,
            cancellation
        );

    /// <summary>Writing over the plain REST face.</summary>
    /// <param name="address">As in <see cref="RunAsync(PublishedService, HttpClient, string, string, int, Action{string},
    /// CancellationToken)"/>.</param>
    public static Task<ServiceReport> RunRestAsync(
        PublishedService service,
        HttpClient client,
        string address,
        string key,
        int seed,
        Action<string> progress,
        CancellationToken cancellation
    )
    {
        var shown = service.On("rest");
        var paths = new RestPaths(shown.Model);
        var addresses = new RestAddresses(paths, _ => null);
        var face = new WrittenFace(
            "writing, plain REST",
            s => paths.Of(s.Name),
            s => addresses.Of(new EntityAddress(s, [.. s.Type.Key.Select(k => SampleKey.Of(k.Type))], null)),
            s => $"{paths.Of(s.Name)}?limit=20&format=json{(s.RequiresFilter ? $"&{s.Type.Key[0].Name}=!null" : "")}",
            a =>
            {
                var (path, others) = paths.SampleOf(a);
                return new SpelledCall(path, others);
            },
            422
        );
        var root = address + service.Model.Faces.Rest.BaseOf(service.Model.Service);
        return RunAsync(shown, new WriteVerifierOf(face, root), client, key, seed, progress, cancellation);
    }

    private sealed record WriteVerifierOf(WrittenFace Face, string Root);

    private static async Task<ServiceReport> RunAsync(
        PublishedService service,
        WriteVerifierOf face,
        HttpClient client,
        string key,
        int seed,
        Action<string> progress,
        CancellationToken cancellation
    )
    {
        var probe = new Probe(client, key);
        var environment = new ChangeEnvironment(TimeProvider.System, Random.Shared, Guid.NewGuid);
        return await new WriteVerifier(
            service.ModelFor(Caller.WithRoles(Role)),
            face.Root,
            probe,
            face.Face,
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
                TagOf(response),
                response.Content.Headers.Allow.Count > 0 ? string.Join(", ", response.Content.Headers.Allow) : null,
                await response.Content.ReadAsByteArrayAsync(cancellation)
            );
        }

        /// <summary>The tag of the row's state; a weak one of plain REST is of the bytes alone.</summary>
        private static string? TagOf(HttpResponseMessage response) =>
            response.Headers.ETag is { IsWeak: true } && !response.Headers.Contains("OData-Version")
                ? null
                : response.Headers.ETag?.ToString();
    }
}
