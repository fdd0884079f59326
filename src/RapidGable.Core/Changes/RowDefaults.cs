using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Changes;

/// <summary>What a row has where nothing is sent, and what it cannot be without.</summary>
internal static class RowDefaults
{
    /// <summary>The column is written, not made by the source or an expression.</summary>
    public static bool IsStored(Property property) => !property.IsComputed && property.Expression is null;

    /// <summary>A new entity has all that it cannot be without. What was read as a change may turn out to be one (M-25).</summary>
    public static void Require(EntitySet whole, SentEntity sent, List<ColumnValue> columns)
    {
        var faults = whole
            .Type.Properties.Concat(sent.Type?.Properties ?? [])
            .SelectMany(p => p.Leaves)
            .Where(p => SentMembers.NeedsValue(p) && columns.TrueForAll(c => c.Property.Column != p.Column))
            .Select(p => new RequestFault(400, "required", $"'{sent.Path}{p.Name}' is missing, and cannot be null.", sent.Path + p.Name))
            .ToList();
        if (faults.Count > 0)
            throw new FaultException(RequestFault.Of(faults));
    }

    /// <summary>What a replaced entity has where nothing is sent (M-17).</summary>
    public static IEnumerable<ColumnValue> Of(EntitySet whole, SentEntity sent, WriteAccess access)
    {
        foreach (
            var property in whole
                .Type.Properties.Concat(sent.Type?.Properties ?? [])
                .SelectMany(p => p.Leaves)
                .Where(p =>
                    IsStored(p)
                    && p.Maker is null
                    && p.Access == PropertyAccess.Full
                    && p.Type.Kind != EdmKind.Stream
                    && !access.Closed.Contains(p.Column)
                )
        )
        {
            // What a relation or the key is made of is not a value of its own.
            if (
                whole.Type.Key.Any(k => k.Column == property.Column)
                || property.Column == whole.Version?.Column
                || sent.Relations.Any(r => r.Navigation.Joins.Any(j => j.Own.Column == property.Column))
            )
                continue;
            var value =
                property.DefaultValue is { } literal ? DefaultOf(literal, property)
                : property.Type.IsCollection ? "[]"
                : null;
            if (value is not null || property.Nullable)
                yield return new ColumnValue(property, value);
        }
    }

    private static object? DefaultOf(string literal, Property property) =>
        property.StoredType.Kind == EdmKind.Boolean && literal is "0" or "1" ? literal == "1"
        : Lexer.Plain(literal, property.StoredType) is { } stored
            ? property.Conversion is { } conversion and not JsonConversion ? conversion.Decode(stored)
                : stored
        : null;
}
