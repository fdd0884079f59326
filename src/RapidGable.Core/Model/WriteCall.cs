using System.Collections.Immutable;

namespace RapidGable.Model;

/// <summary>
/// The statements by which a publisher carries out one kind of change of a set. Their parameters are the columns of the entity, by the
/// placeholders of these.
/// </summary>
/// <param name="Statements">In their order; for a creation the last one gives the key of the new entity.</param>
public sealed record WriteCall(ImmutableArray<QuerySource> Statements)
{
    /// <summary>The columns that the statements take, each once.</summary>
    public IEnumerable<string> Columns => Statements.SelectMany(s => s.Parameters).Select(p => p.Placeholder).Distinct();
}
