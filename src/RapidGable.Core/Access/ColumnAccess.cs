using RapidGable.Model;

namespace RapidGable.Access;

/// <summary>Whether a column takes a value from a caller.</summary>
public enum ColumnAccess
{
    /// <summary>It does.</summary>
    Open,

    /// <summary>Rules keep it from this caller.</summary>
    Closed,

    /// <summary>
    /// Nobody gives it a value, or not by this operation: it is computed, made by the service, or fixed once the entity is there.
    /// </summary>
    Fixed,
}

/// <summary>
/// The one place that decides which columns an operation writes, whichever way a value comes: by itself, by a relation, or by an address.
/// </summary>
public static class ColumnAccesses
{
    /// <summary>What an operation may do with a column.</summary>
    public static ColumnAccess Of(this WriteAccess access, Property property) =>
        access.Closed.Contains(property.Column) ? ColumnAccess.Closed
        : IsWritten(property, access.Set, access.Operation) ? ColumnAccess.Open
        : ColumnAccess.Fixed;

    /// <summary>Whether any caller may give the value; that of a key is given once.</summary>
    /// <param name="whole">The set whose property it is.</param>
    public static bool IsWritten(Property property, EntitySet whole, SetOperations operation) =>
        IsWritten(property, operation)
        && (operation == SetOperations.Create || property.Via is not null || whole.Type.Key.All(k => k.Column != property.Column));

    /// <summary>The same, whatever the key is.</summary>
    public static bool IsWritten(Property property, SetOperations operation) =>
        property is { IsComputed: false, Expression: null }
        && (property.Access == PropertyAccess.Full || (property.Access != PropertyAccess.ReadOnly && operation == SetOperations.Create))
        && property.Maker is null or { IsDefault: true, AtUpdate: false };
}
