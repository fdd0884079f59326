using System.Collections.Immutable;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Changes;

/// <summary>What a body may hold of an entity, and what it must hold: the same for every format.</summary>
/// <param name="set">As the caller may address it.</param>
/// <param name="allowed">What they may write of it; null = nothing.</param>
/// <param name="derived">The derived type of the entity; null = the set's own.</param>
/// <param name="use">What the entity is for.</param>
internal sealed class SentMembers(EntitySet set, WriteAccess? allowed, DerivedType? derived, SentFor use)
{
    /// <summary>The set with what may be written and not read.</summary>
    public EntitySet Whole { get; } = allowed?.Set ?? set;

    /// <summary>A property that may stand in the body; null = there is none for the caller.</summary>
    public Property? Find(string name)
    {
        var property = Whole.Type.FindProperty(name) ?? derived?.Properties.FirstOrDefault(p => p.Name == name);
        return property is not null && (IsSeen(property) || allowed?.Closed.Contains(property.Column) == false) ? property : null;
    }

    private bool IsSeen(Property property) =>
        set.Type.FindProperty(property.Name) is not null || set.Type.Derived.Any(d => d.Properties.Any(p => p.Name == property.Name));

    /// <summary>Computed, so that what is sent does not matter (M-05).</summary>
    public bool IsComputed(string name) => set.Type.FindProperty(name) is { Expression: not null };

    public bool IsKey(Property property) => Whole.Type.Key.Contains(property);

    /// <summary>Rules keep the column from the caller.</summary>
    public bool IsClosed(Property property) => allowed?.Closed.Contains(property.Column) == true && IsWritten(property, use);

    /// <summary>What is never written, or not now, is passed over in bodies (M-05, M-18).</summary>
    public static bool IsWritten(Property property, SentFor use) =>
        ColumnAccesses.IsWritten(property, use == SentFor.Create ? SetOperations.Create : SetOperations.Update);

    /// <summary>Whether the value of a property is taken from the body.</summary>
    public bool IsTaken(Property property) =>
        IsWritten(property, use) && property.Column != Whole.Version?.Column && (use == SentFor.Create || !IsKey(property));

    /// <summary>What is wrong with a value that has the type of its property; null = nothing.</summary>
    public static RequestFault? Broken(Property property, object? value, string path) =>
        value is null || property.Rules.Fault(value) is not { } fault
            ? null
            : new RequestFault(400, "rule-broken", property.Rules.Message is null ? $"'{path}' {fault}." : fault, path);

    /// <summary>A discriminator that says another type than the body; null = there is none.</summary>
    public RequestFault? Contradiction(IEnumerable<SentValue> values) =>
        derived is { Discriminator: { } mark }
        && values.FirstOrDefault(v => v.Property.Column == mark.Column) is { } told
        && (told.Value is null || !derived.Values.Contains(told.Value))
            ? new RequestFault(400, "contradiction", $"'{told.Path}' says another type than {derived.Name}.", told.Path)
            : null;

    /// <summary>What a new or replaced entity cannot be without, and is not given (M-04, M-21).</summary>
    /// <param name="given">Columns that the address gives.</param>
    /// <param name="path">Where the entity stands in the body, with a slash at its end.</param>
    public IEnumerable<RequestFault> Missing(
        IReadOnlyCollection<SentValue> values,
        IReadOnlyCollection<SentRelation> relations,
        IReadOnlyCollection<string> given,
        string path
    )
    {
        foreach (var (property, name) in Leaves())
        {
            var isRelated = relations.Any(r =>
                !r.Navigation.IsHeldByTarget && !r.Items.IsEmpty && r.Navigation.Joins.Any(j => j.Own.Column == property.Column)
            );
            var isGiven = isRelated || given.Contains(property.Column) || values.Any(v => v.Property.Column == property.Column);
            var isAsked = use == SentFor.Create || (!IsKey(property) && IsWritten(property, use));
            if (!isGiven && isAsked && NeedsValue(property) && property.Column != Whole.Version?.Column)
                yield return new RequestFault(400, "required", $"'{path}{name}' is missing, and cannot be null.", path + name);
        }
    }

    private IEnumerable<(Property Property, string Name)> Leaves() =>
        from property in Whole.Type.Properties.Concat(derived?.Properties ?? [])
        from leaf in property.IsGroup ? property.Members : [property]
        select (leaf, ReferenceEquals(leaf, property) ? leaf.Name : $"{property.Name}/{leaf.Name}");

    /// <summary>Whether a new entity needs the value from its caller, since nobody else gives it.</summary>
    public static bool NeedsValue(Property property) =>
        property
            is {
                Nullable: false,
                IsComputed: false,
                HasComputedDefault: false,
                DefaultValue: null,
                Maker: null,
                Expression: null,
                Type.IsCollection: false
            }
        && property.Type.Kind != EdmKind.Stream
        && property.Access != PropertyAccess.ReadOnly;
}
