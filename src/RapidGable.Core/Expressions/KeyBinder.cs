using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Expressions;

/// <summary>Key predicates -> bound keys.</summary>
internal static class KeyBinder
{
    public static string Example(EntitySet set) =>
        set.Type.Key.Length == 1 ? "…" : string.Join(",", set.Type.Key.Select(k => k.Name + "=…"));

    /// <param name="contained">The relation from the container, whose side of the key may be left out; null = the whole key is
    /// needed.</param>
    public static BoundKey Bind(ImmutableArray<KeyPartSyntax> parts, EntitySet set, string segment, NavigationProperty? contained = null)
    {
        var key = set.Type.Key;
        FaultException Wrong(string message) =>
            new(new RequestFault(400, "key", $"{message} The key of {set.Name} is written {segment}({Example(set)}).", "path"));
        if (parts.Length == 1 && parts[0].Name is null && key.Length == 1)
            return new BoundKey([(key[0], Value(key[0], parts[0].Value, Wrong))]);
        if (parts.FirstOrDefault(p => p.Name is null) is not null)
            throw Wrong(key.Length == 1 ? "There are more key values than key properties." : "Each part of this key needs its name.");
        // An alternate key is told by its names (Core.AlternateKeys).
        if (
            set.Type.AlternateKeys.FirstOrDefault(a =>
                a.Select(p => p.Name).Order().SequenceEqual(parts.Select(p => p.Name!.Text).Order())
            ) is
            { IsDefault: false } alternate
        )
            key = alternate;
        foreach (var unknown in parts.Where(p => key.All(k => k.Name != p.Name!.Text)))
            throw Wrong($"'{unknown.Name!.Text}' is not part of the key.");
        if (parts.Select(p => p.Name!.Text).Distinct().Count() < parts.Length)
            throw Wrong("A part of the key is given twice.");
        var bound = ImmutableArray.CreateBuilder<(Property, BoundLiteral)>();
        foreach (var property in key)
        {
            if (parts.FirstOrDefault(p => p.Name!.Text == property.Name) is { } part)
                bound.Add((property, Value(property, part.Value, Wrong)));
            else if (contained?.Joins.Any(j => j.Target.Column == property.Column) != true)
                throw Wrong($"The key part '{property.Name}' is missing.");
        }
        return new BoundKey(bound.ToImmutable());
    }

    /// <summary>
    /// The values of a key that are written as segments, one for each part in the order of the key (URL conventions 4.3.6).
    /// </summary>
    /// <param name="key">The properties that the segments stand for.</param>
    public static BoundKey OfSegments(IEnumerable<int> slots, ImmutableArray<Property> key) =>
        new([
            .. key.Zip(slots, (property, slot) =>
                (property, Value(property, new LiteralSyntax(slot, LiteralKind.Text, 0), _ => throw new InvalidOperationException()))
            ),
        ]);

    private static BoundLiteral Value(Property property, LiteralSyntax value, Func<string, FaultException> wrong)
    {
        return Fits(value, property.Type)
            ? new BoundLiteral(
                value.Slot,
                value.Kind,
                property.Type,
                property.Conversion is { Use: not ConvertedUse.Anything } conversion ? conversion : null
            )
            : throw wrong(
                $"'{property.Name}' is {property.Type.Name}, and the value given for it is {ExpressionBinder.TypeOf(value.Kind).Name}."
            );
    }

    /// <summary>Whether a literal can stand for a value of a type, by its form.</summary>
    public static bool Fits(LiteralSyntax value, EdmType type) =>
        value.Kind == LiteralKind.Text
        || ExpressionBinder.TypeOf(value.Kind).Kind == type.Kind
        || (type.IsIntegral && value.Kind == LiteralKind.Integer)
        || (type.Kind == EdmKind.Decimal && value.Kind is LiteralKind.Integer or LiteralKind.Decimal)
        || (type.IsFloating && value.Kind is LiteralKind.Integer or LiteralKind.Decimal or LiteralKind.Double)
        || (type.Kind is EdmKind.Duration or EdmKind.Enum && value.Kind == LiteralKind.String);
}
