using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;

namespace RapidGable.Service.Publishing;

/// <summary>
/// Looks at files and catalogs at the interval that the workspace sets, when a database turns out to have changed, and again and
/// again while something does not fit.
/// </summary>
internal sealed class Refresher(ServiceRegistry registry, TimeProvider time, ILogger<Refresher> log) : BackgroundService
{
    /// <summary>How long a problem rests before it is looked at again, and the least time between two looks.</summary>
    private static readonly TimeSpan Rest = TimeSpan.FromSeconds(10);

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        while (!stoppingToken.IsCancellationRequested)
        {
            // The interval itself may change with a refresh; without one there is nothing to wait for but a problem.
            TimeSpan? interval = registry.Workspace.Declaration.RefreshSeconds is { } seconds ? TimeSpan.FromSeconds(seconds) : null;
            var wait = registry.HasProblem && (interval is null || interval > Rest) ? Rest : interval;
            try
            {
                var isReported = await registry.WaitForChangeAsync(wait, time, stoppingToken);
                await registry.RefreshAsync(time, log, stoppingToken);
                // Every request that fails reports it, and the next look would find the same.
                if (isReported)
                    await Task.Delay(Rest, time, stoppingToken);
            }
            catch (OperationCanceledException) when (stoppingToken.IsCancellationRequested)
            {
                return;
            }
            catch (Exception exception)
            {
                log.LogError(exception, "A refresh failed; the last good state is kept");
            }
        }
    }
}
