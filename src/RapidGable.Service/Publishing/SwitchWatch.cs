using Microsoft.Extensions.Hosting;
using Microsoft.Extensions.Logging;
using RapidGable.Service.State;

namespace RapidGable.Service.Publishing;

/// <summary>Takes switches within a second, whoever uses them.</summary>
internal sealed class SwitchWatch(ServiceRegistry registry, SwitchBoard board, TimeProvider time, ILogger<SwitchWatch> log)
    : BackgroundService
{
    private static readonly TimeSpan Look = TimeSpan.FromSeconds(1);

    protected override async Task ExecuteAsync(CancellationToken stoppingToken)
    {
        while (!stoppingToken.IsCancellationRequested)
        {
            try
            {
                Take();
                await Task.Delay(Look, time, stoppingToken);
            }
            catch (OperationCanceledException) when (stoppingToken.IsCancellationRequested)
            {
                return;
            }
        }
    }

    /// <summary>Takes the switches as they are now.</summary>
    public void Take()
    {
        try
        {
            var version = board.Version;
            if (version == registry.SwitchVersion)
                return;
            var off = board.Read();
            registry.TakeSwitches(off, version);
            foreach (var one in off.Where(o => !o.IsKnown(registry.Workspace.FindService(o.Service)?.Model)))
                log.LogWarning("Switches: {Target} is switched off, and there is no such thing", one.Target);
        }
        catch (StateException exception)
        {
            log.LogError("The switches stay as they are: {Message}", exception.Message);
        }
    }
}
