using System.Collections.Concurrent;
using RapidGable.Model;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>A request that is ready to run.</summary>
/// <param name="Request">The bound tree, without values.</param>
/// <param name="Query">Null for the service and metadata documents.</param>
/// <param name="Source">Where the query runs; null as <paramref name="Query"/>.</param>
/// <param name="Model">The part of the model that the caller may know of.</param>
/// <param name="Sources">All sources of the service, for relations that lead from one into another.</param>
public sealed record PreparedRequest(
    BoundRequest Request,
    CompiledQuery? Query,
    ISource? Source,
    EntityModel Model,
    IReadOnlyDictionary<string, ISource> Sources
)
{
    /// <summary>The entity that an operation is asked of, which must be there; null = of none.</summary>
    public PreparedRequest? Entity { get; init; }

    /// <summary>It is a caller's own statement.</summary>
    public bool IsStatement { get; init; }

    /// <summary>Seconds after which a shape counts as heavy work.</summary>
    public const double HeavySeconds = 1;

    private volatile bool _wasSlow;

    /// <summary>What it will make the database work.</summary>
    public WorkClass Work =>
        _wasSlow || IsStatement || Request.Apply is not null ? WorkClass.Heavy
        : Request.Path is { Kind: ResourceKind.Entity or ResourceKind.PropertyValue or ResourceKind.RawValue, Hops.IsEmpty: true }
        && Request.Expand.IsEmpty
            ? WorkClass.Short
        : WorkClass.Usual;

    /// <summary>Takes how long the database took for a request of this shape.</summary>
    public void Took(double seconds) => _wasSlow = seconds > HeavySeconds;

    /// <summary>What a face derives from the shape and wants to keep with it, such as its writers.</summary>
    public ConcurrentDictionary<string, object> Derived { get; } = new();
}

/// <summary>A request that changes something, bound.</summary>
/// <param name="Model">What the caller may address.</param>
/// <param name="Visible">What the caller may read.</param>
public sealed record PreparedChange(BoundRequest Request, EntityModel Model, EntityModel Visible)
{
    /// <summary>How the entities of its path, and of parts of it, are found.</summary>
    internal ConcurrentDictionary<string, PreparedRequest> Located { get; } = new();
}
