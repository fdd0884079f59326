using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;
using RapidGable.Service.Publishing;
using RapidGable.Service.State;
using RapidGable.Sources;

namespace RapidGable.Service.Revisions;

/// <summary>
/// Serves what is published: takes a new revision within a second, whoever published it, and looks now and then whether the databases
/// still fit.
/// </summary>
internal sealed class RevisionWatch(
    ServiceRegistry registry,
    RevisionArchive archive,
    RevisionReader reader,
    TimeProvider time,
    ILogger<RevisionWatch> log
) : BackgroundService
{
    private static readonly TimeSpan Look = TimeSpan.FromSeconds(1);

    /// <summary>Between two looks at the databases where the workspace says nothing.</summary>
    private static readonly TimeSpan DriftLook = TimeSpan.FromMinutes(1);

    /// <summary>Every request that fails reports it, and the next look would find the same.</summary>
    private static readonly TimeSpan Rest = TimeSpan.FromSeconds(10);

    // Whoever publishes writes the revision first and the mark then, and may be killed in between; so both are looked at.
    private (string? Mark, int Number) _taken;

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        // What was published while the service started is taken, too.
        _taken = archive.NewestNumber is var served && served == registry.Workspace.Revision ? (archive.Version, served) : default;
        var looked = DateTimeOffset.MinValue;
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                var isReported = await registry.WaitForChangeAsync(Look, time, stoppingToken);
                if ((archive.Version, archive.NewestNumber) is var newest && newest != _taken)
                {
                    _taken = newest;
                    await registry.RefreshAsync(time, log, stoppingToken);
                    looked = DateTimeOffset.MinValue;
                }
                var interval = registry.Workspace.Declaration.RefreshSeconds is { } s ? TimeSpan.FromSeconds(s) : DriftLook;
                if (time.GetUtcNow() - looked >= (isReported && interval > Rest ? Rest : interval))
                {
                    looked = time.GetUtcNow();
                    await LookForDriftAsync(stoppingToken);
                }
            }
            catch (OperationCanceledException) when (stoppingToken.IsCancellationRequested)
            {
                return;
            }
            catch (Exception exception)
            {
                log.LogError(exception, "The newest revision cannot be taken; the last good state is kept");
            }
        }
    }

    private async Task LookForDriftAsync(CancellationToken cancellation)
    {
        try
        {
            var content = archive.Read(registry.Workspace.Revision!.Value);
            var found = await DriftCheck.RunAsync(reader, content, cancellation);
            foreach (var finding in found.Except(registry.Drift))
                log.LogWarning(
                    "Drift: {Service}: {Text}. Affected: {Affected}",
                    finding.Service ?? "the workspace",
                    finding.Text,
                    finding.Affected.IsEmpty ? "nobody that is known" : string.Join(", ", finding.Affected)
                );
            if (found.IsEmpty && !registry.Drift.IsEmpty)
                log.LogInformation("Drift: the databases fit revision {Revision} again", registry.Workspace.Revision);
            registry.TakeDrift(found);
        }
        catch (Exception exception) when (exception is SourceException or StateException)
        {
            log.LogWarning("Whether the databases fit cannot be told: {Message}", exception.Message);
        }
    }
}
