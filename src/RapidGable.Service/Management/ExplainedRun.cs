using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Payloads;
using RapidGable.Payloads.Json;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Requests;

namespace RapidGable.Service.Management;

/// <summary>Runs a request for its developer: its payload is written and thrown away.</summary>
public static class ExplainedRun
{
    /// <exception cref="Sources.SourceException">When a source fails.</exception>
    public static Task<Result<ExplainedRequest>> OfAsync(
        PublishedService service,
        string path,
        string query,
        Caller caller,
        DateTime now,
        CancellationToken cancellation
    ) =>
        service.ExplainRunAsync(
            path,
            query,
            caller,
            now,
            async (prepared, run, address) =>
            {
                var bytes = 0L;
                if (
                    prepared.Request.Path.Kind is ResourceKind.Count or ResourceKind.ValueCount or ResourceKind.RawValue
                    || (!run.HasRow && prepared.Request.Path.Kind != ResourceKind.Collection)
                )
                    return bytes;
                using var output = new PayloadOutput(
                    (b, _) =>
                    {
                        bytes += b.Length;
                        return default;
                    }
                );
                await ODataJsonWriter
                    .For(prepared, new PayloadFormat(ODataVersion.V40, MetadataLevel.Minimal, false))
                    .WriteAsync(run, new LinkBuilder("http://localhost/", address), output, cancellation);
                return bytes;
            },
            cancellation
        );
}
