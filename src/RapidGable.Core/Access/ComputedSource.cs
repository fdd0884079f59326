using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Access;

/// <summary>
/// A set's rows with values that are computed from them and from what they lead to. They are computed from what the caller may see
/// alone, so
/// that nothing is told that could not be asked for.
/// </summary>
/// <param name="Model">What the caller may see, without computed values.</param>
/// <param name="Rows">The set's own rows as the caller sees them.</param>
/// <param name="Values">Each value with the column that stands for it.</param>
public sealed class ComputedSource(EntityModel model, RowSource rows, ImmutableArray<(string Column, BoundRule Value)> values)
    : RowSource(rows.Source)
{
    public EntityModel Model => model;

    public RowSource Rows => rows;

    public ImmutableArray<(string Column, BoundRule Value)> Values => values;

    public override string ToString() => rows.ToString();
}
