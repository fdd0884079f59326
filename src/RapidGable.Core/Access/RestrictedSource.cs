using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Access;

/// <summary>
/// The rows and values of a set that the rules leave to some callers, wherever a statement reads the set.
/// </summary>
/// <param name="Model">The whole model, which the conditions are bound to.</param>
/// <param name="Set">The set in it.</param>
/// <param name="Allowing">A row is seen when it fulfils one of these.</param>
/// <param name="Denying">And none of these.</param>
/// <param name="Covered">Columns whose values are seen only in rows that fulfil one of the given rules; without one they are null.</param>
public sealed class RestrictedSource(
    EntityModel model,
    EntitySet set,
    ImmutableArray<BoundRule> allowing,
    ImmutableArray<BoundRule> denying,
    ImmutableArray<(string Column, ImmutableArray<BoundRule> ShownBy)> covered
) : RowSource(set.Source.Source)
{
    /// <summary>The rows that are restricted; no restriction stands on another.</summary>
    public StoredRows Rows { get; } = (StoredRows)set.Source;

    public EntityModel Model => model;

    public EntitySet Set => set;

    public ImmutableArray<BoundRule> Allowing => allowing;

    public ImmutableArray<BoundRule> Denying => denying;

    public ImmutableArray<(string Column, ImmutableArray<BoundRule> ShownBy)> Covered => covered;

    /// <summary>The same rows with all of their values.</summary>
    public RestrictedSource RowsOnly => covered.IsEmpty ? this : new RestrictedSource(model, set, allowing, denying, []);

    /// <summary>All columns that a statement may read of the table.</summary>
    public IEnumerable<string> Columns =>
        set
            .Type.Properties.SelectMany(p => p.Leaves)
            .Concat(set.Type.Hidden)
            .Concat(set.Type.Key)
            .Concat(set.Type.Derived.SelectMany(d => d.Properties.Where(p => p.Via is null).Append(d.Discriminator)).OfType<Property>())
            .Concat(set.Type.Navigations.SelectMany(n => n.Joins.Select(j => j.Own)))
            .Append(set.Version)
            .OfType<Property>()
            .SelectMany(p => new[] { p.Column, p.MediaTypeColumn })
            .OfType<string>()
            .Distinct();

    public override string ToString() => Rows.ToString();
}
