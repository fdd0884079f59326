using System.Collections.Immutable;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Sources;

namespace RapidGable.Payloads;

/// <summary>Keys of entities as OData writes them in addresses (URL conventions 4.3.1).</summary>
internal static class KeyPredicate
{
    /// <summary>
    /// The canonical address of an entity, relative to the service root: <c>Sensors(station_id=1,sensor_no=2)</c>, percent-encoded.
    /// </summary>
    public static string EntityId(EntityShape entity, IRowCursor row) =>
        entity.Container is not { } container
            ? entity.Set.Name + Of(entity.Key, row)
            : $"{ContainerId(container, row)}/{Uri.EscapeDataString(container.Navigation.Name)}{Of(entity.Key, row)}";

    /// <summary>
    /// The address of the entity that a contained one is part of. Its key's literals follow the names of the container's key.
    /// </summary>
    private static string ContainerId(ContainerShape container, IRowCursor row) =>
        container.Set.Name
        + (
            container.Key.Length == 1
                ? $"({Literal(container.Key[0], row)})"
                : $"({string.Join(',', container.Key.Select((k, i) => $"{container.Set.Type.Key[i].Name}={Literal(k, row)}"))})"
        );

    private static string Of(ImmutableArray<ShapeCell> key, IRowCursor row) =>
        key.Length == 1 ? $"({Literal(key[0], row)})" : $"({string.Join(',', key.Select(k => $"{k.Property.Name}={Literal(k, row)}"))})";

    private static string Literal(ShapeCell cell, IRowCursor row) => Literal(CellText.Raw(cell, row), cell.Property.Type);

    private static string Literal(string text, EdmType type) =>
        type.Kind switch
        {
            EdmKind.String => $"'{Uri.EscapeDataString(text.Replace("'", "''", StringComparison.Ordinal))}'",
            EdmKind.Duration => $"duration'{text}'",
            EdmKind.Enum => $"{type.Name}'{text}'",
            _ => Uri.EscapeDataString(text),
        };

    /// <summary>A key predicate from published values, encoded.</summary>
    public static string Of(ImmutableArray<(Property Property, object Value)> key) =>
        key.Length == 1
            ? $"({Literal(key[0].Value, key[0].Property)})"
            : $"({string.Join(',', key.Select(k => $"{k.Property.Name}={Literal(k.Value, k.Property)}"))})";

    private static string Literal(object value, Property property) => Literal(CellText.Raw(value, property.Type), property.Type);
}
