using System.Collections.Immutable;

namespace RapidGable.Model;

/// <summary>Whether calling an operation may change something.</summary>
public enum OperationKind
{
    /// <summary>It only reads, and may be called by GET.</summary>
    Function,

    /// <summary>It may change something, and is called by POST alone.</summary>
    Action,
}

/// <summary>A value that a caller gives to an operation.</summary>
/// <param name="Nullable">Null may be given.</param>
public sealed record OperationParameter(string Name, EdmType Type, bool Nullable)
{
    public string? Description { get; init; }

    /// <summary>Taken when none is given, in the form of the type's literal without quotes; null = one must be given.</summary>
    public string? DefaultValue { get; init; }
}

/// <summary>Something that a service does when it is called by its name.</summary>
/// <param name="Name">Unique among the operations and sets of a service.</param>
/// <param name="Rows">The rows that it gives, as a set that further options apply to; null = it gives no rows.</param>
public sealed record Operation(string Name, OperationKind Kind, EntitySet? Rows)
{
    /// <summary>In the order in which they are declared.</summary>
    public ImmutableArray<OperationParameter> Parameters { get; init; } = [];

    /// <summary>The type of the single value that it gives; null = it gives rows, or nothing.</summary>
    public EdmType? Value { get; init; }

    public string? Description { get; init; }

    /// <summary>Who may call it, and so know of it; rows without a key go by the rules of their set instead.</summary>
    public AccessRule Who { get; init; } = AccessRule.Nobody;

    /// <summary>Filters, orders and pages may follow the call.</summary>
    public bool IsComposable => Kind == OperationKind.Function && Rows is not null;

    /// <summary>It can be called by its name alone, so that the service document lists it.</summary>
    public bool IsInServiceDocument => Kind == OperationKind.Function && Parameters.IsEmpty;

    /// <summary>Rows without a key, which are a function without parameters (CSDL 12).</summary>
    public static Operation OfRows(EntitySet unkeyed) =>
        new(unkeyed.Name, OperationKind.Function, unkeyed) { Description = unkeyed.Type.Description };
}
