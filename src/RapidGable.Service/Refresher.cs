using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;

namespace RapidGable.Service;

/// <summary>Looks at files and catalogs at the interval that the workspace sets.</summary>
internal sealed class Refresher(ServiceRegistry registry, TimeProvider time, ILogger<Refresher> log) : BackgroundService
{
    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        while (!stoppingToken.IsCancellationRequested)
        {
            // The interval itself may change with a refresh; without one there is nothing to wait for but the end.
            var seconds = registry.Workspace.Declaration.RefreshSeconds;
            try
            {
                await Task.Delay(seconds is { } number ? TimeSpan.FromSeconds(number) : Timeout.InfiniteTimeSpan, time, stoppingToken);
                await registry.RefreshAsync(time, log, stoppingToken);
            }
            catch (OperationCanceledException)
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
