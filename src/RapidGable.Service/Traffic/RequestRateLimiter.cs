using System.Threading.RateLimiting;
using Microsoft.AspNetCore.Http;
using Microsoft.Net.Http.Headers;
using RapidGable.Access;
using RapidGable.Declarations;
using RapidGable.Expressions;
using RapidGable.Service.Auditing;
using RapidGable.Service.Publishing;

namespace RapidGable.Service.Traffic;

/// <summary>
/// Lets each caller send only so many requests in a minute, and at once, as the workspace declares. Anonymous callers are told apart by
/// their addresses.
/// </summary>
internal sealed class RequestRateLimiter(ServiceRegistry registry, TrafficHistory history, AuditLog audit) : IDisposable
{
    private sealed record Limiters(
        TrafficDeclaration Declared,
        PartitionedRateLimiter<string>? PerMinute,
        PartitionedRateLimiter<string>? AtOnce
    ) : IDisposable
    {
        public void Dispose()
        {
            PerMinute?.Dispose();
            AtOnce?.Dispose();
        }
    }

    private readonly Lock _making = new();
    private Limiters? _limiters;

    /// <summary>A pass that is given back when the request ends; with a fault it is none.</summary>
    public IDisposable? Enter(HttpContext context, Caller caller, out RequestFault? fault)
    {
        fault = null;
        var declared = registry.Workspace.Declaration.Traffic;
        if (declared is { RequestsPerMinute: null, RequestsAtOnce: null })
            return null;
        var limiters = LimitersOf(declared);
        var who = Allowances.Who(context, caller);
        if (limiters.PerMinute is { } perMinute && perMinute.AttemptAcquire(who) is { IsAcquired: false } late)
        {
            context.Response.Headers[HeaderNames.RetryAfter] =
                $"{Math.Max(1, Math.Ceiling(late.TryGetMetadata(MetadataName.RetryAfter, out var wait) ? wait.TotalSeconds : 1)):0}";
            fault = new RequestFault(429, "too-many", $"More than {declared.RequestsPerMinute} requests in a minute. Wait a while.");
        }
        // A request inside of another runs on the pass of that one.
        var pass = fault is null && !InnerMark.IsOn(context) ? limiters.AtOnce?.AttemptAcquire(who) : null;
        if (pass is { IsAcquired: false })
        {
            context.Response.Headers[HeaderNames.RetryAfter] = "1";
            fault = new RequestFault(
                429,
                "too-many",
                $"More than {declared.RequestsAtOnce} requests at once. Wait until one of them has ended."
            );
        }
        history.CountCaller(who, isLimited: fault is not null);
        if (fault is not null)
            audit.Refused(context, AuditEvents.Limited, caller.Name, fault.Status, fault.Code, fault.Message);
        return pass;
    }

    private Limiters LimitersOf(TrafficDeclaration declared)
    {
        if (_limiters is { } known && known.Declared == declared)
            return known;
        lock (_making)
        {
            // Requests that hold a pass of former limiters give it back to those.
            return _limiters is { } made && made.Declared == declared ? made : _limiters = Make(declared);
        }
    }

    private static Limiters Make(TrafficDeclaration declared)
    {
        PartitionedRateLimiter<string>? perMinute = null,
            atOnce = null;
        if (declared.RequestsPerMinute is { } rate)
        {
            var bucket = new TokenBucketRateLimiterOptions
            {
                TokenLimit = rate,
                TokensPerPeriod = Math.Max(1, rate / 60),
                ReplenishmentPeriod = TimeSpan.FromSeconds(Math.Max(1, 60.0 / rate)),
                QueueLimit = 0,
                AutoReplenishment = true,
            };
            perMinute = PartitionedRateLimiter.Create<string, string>(who => RateLimitPartition.GetTokenBucketLimiter(who, _ => bucket));
        }
        if (declared.RequestsAtOnce is { } most)
            atOnce = PartitionedRateLimiter.Create<string, string>(who =>
                RateLimitPartition.GetConcurrencyLimiter(who, _ => new ConcurrencyLimiterOptions { PermitLimit = most, QueueLimit = 0 })
            );
        return new Limiters(declared, perMinute, atOnce);
    }

    public void Dispose() => _limiters?.Dispose();
}
