using System.Collections.Concurrent;
using System.Text;
using RapidGable.Service.Publishing;
using RapidGable.Sources;

namespace RapidGable.Service.Faces;

/// <summary>Requests by service and status, for <c>/metrics</c> in the text exposition format.</summary>
internal sealed class RequestCounters
{
    private readonly ConcurrentDictionary<(string Service, int Status), long> _requests = new();

    public void Count(string service, int status) => _requests.AddOrUpdate((service, status), 1, (_, n) => n + 1);

    public string Write(ServiceRegistry registry, ByteBudget memory)
    {
        var text = new StringBuilder("# HELP gable_requests_total Requests answered.\n# TYPE gable_requests_total counter\n");
        foreach (
            var ((service, status), count) in _requests
                .Where(r => registry.Find(r.Key.Service) is not null)
                .OrderBy(r => r.Key.Service, StringComparer.Ordinal)
                .ThenBy(r => r.Key.Status)
        )
            text.Append($"gable_requests_total{{service=\"{service}\",status=\"{status}\"}} {count}\n");
        text.Append("# HELP gable_cached_plans Plans kept for request shapes.\n# TYPE gable_cached_plans gauge\n");
        foreach (var service in registry.All)
            text.Append($"gable_cached_plans{{service=\"{service.Model.Service}\"}} {service.CachedPlans}\n");
        text.Append(
            $"# HELP gable_memory_bytes Bytes that requests, kept answers and plans hold.\n# TYPE gable_memory_bytes "
                + $"gauge\ngable_memory_bytes {memory.Used}\n"
        );
        text.Append(
            $"# HELP gable_memory_peak_bytes The most that they have held.\n# TYPE gable_memory_peak_bytes "
                + $"gauge\ngable_memory_peak_bytes {memory.Peak}\n"
        );
        text.Append(
            $"# HELP gable_memory_limit_bytes The most that they may hold.\n# TYPE gable_memory_limit_bytes "
                + $"gauge\ngable_memory_limit_bytes {memory.Most}\n"
        );
        return text.ToString();
    }
}
