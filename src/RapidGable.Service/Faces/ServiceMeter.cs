using System.Diagnostics.Metrics;
using RapidGable.Service.Publishing;
using RapidGable.Service.Traffic;

namespace RapidGable.Service.Faces;

/// <summary>What is measured of services; <c>/metrics</c> and a collector read it.</summary>
internal sealed class ServiceMeter : IDisposable
{
    /// <summary>The meter's name; several services in one process have names of their own, so that their numbers stay apart.</summary>
    public const string UsualName = "RapidGable";

    private readonly Meter _meter;
    private readonly ServiceRegistry _registry;
    private readonly Counter<long> _requests;

    public ServiceMeter(string name, ServiceRegistry registry, Allowances allowances)
    {
        _meter = new Meter(name);
        _registry = registry;
        _requests = _meter.CreateCounter<long>("gable.requests", description: "Requests answered.");
        _meter.CreateObservableGauge("gable.cached_plans", CachedPlans, description: "Plans kept for request shapes.");
        var memory = allowances.Process;
        _meter.CreateObservableGauge("gable.memory", () => memory.Used, "By", "What requests, kept answers and plans hold.");
        _meter.CreateObservableGauge("gable.memory.peak", () => memory.Peak, "By", "The most that they have held.");
        _meter.CreateObservableGauge("gable.memory.limit", () => memory.Most, "By", "The most that they may hold.");
    }

    /// <summary>Counts an answer; one about a service that is not there makes no series of its own.</summary>
    public void Count(string service, int status)
    {
        if (_registry.Find(service) is not null)
            _requests.Add(1, new("service", service), new("status", status));
    }

    private IEnumerable<Measurement<int>> CachedPlans() =>
        _registry.All.Select(s => new Measurement<int>(s.CachedPlans, new KeyValuePair<string, object?>("service", s.Model.Service)));

    public void Dispose() => _meter.Dispose();
}
