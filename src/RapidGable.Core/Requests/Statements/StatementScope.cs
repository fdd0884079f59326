using RapidGable.Model;

namespace RapidGable.Requests.Statements;

/// <summary>The tables whose columns a term can name: those of its SELECT, and of the ones around it.</summary>
/// <param name="outer">Of the SELECT around; null = there is none.</param>
internal sealed class StatementScope(StatementScope? outer)
{
    private readonly List<(StatementName Name, StatementTable Table)> _tables = [];

    public StatementScope? Outer => outer;

    /// <summary>The tables of its own SELECT, in the order in which they are named.</summary>
    public IEnumerable<StatementTable> Tables => _tables.Select(t => t.Table);

    /// <summary>Whether aggregates may stand where a term is bound.</summary>
    public bool TakesAggregates { get; set; }

    /// <summary>Whether a term of the SELECT has an aggregate.</summary>
    public bool HasAggregates { get; set; }

    public bool Owns(StatementTable table) => _tables.Exists(t => t.Table == table);

    /// <summary>Adds a table; false when its name is taken.</summary>
    public bool Add(StatementName name, StatementTable table)
    {
        if (_tables.Exists(t => Names.Same(t.Name.Text, name)))
            return false;
        _tables.Add((name, table));
        return true;
    }

    /// <summary>The table of a name, in the innermost SELECT that has one; null = there is none.</summary>
    public StatementTable? Find(StatementName name) =>
        Names.Find(_tables, t => t.Name.Text, name) is { Table: { } found } ? found : outer?.Find(name);

    /// <summary>The names of all tables that can be named.</summary>
    public IEnumerable<string> TableNames => _tables.Select(t => t.Name.Text).Concat(outer?.TableNames ?? []);
}

/// <summary>How names of a statement are looked up: as they are written first, then whatever the case of their letters.</summary>
internal static class Names
{
    public static bool Same(string name, StatementName written) =>
        string.Equals(name, written.Text, written.IsQuoted ? StringComparison.Ordinal : StringComparison.OrdinalIgnoreCase);

    /// <summary>What a name means; the default value = nothing, or, where the case of letters decides, several things.</summary>
    public static T? Find<T>(IEnumerable<T> items, Func<T, string> nameOf, StatementName written)
    {
        var exact = items.Where(i => nameOf(i) == written.Text).Take(1).ToList();
        if (exact.Count == 1)
            return exact[0];
        var alike = items.Where(i => Same(nameOf(i), written)).Take(2).ToList();
        return alike.Count == 1 ? alike[0] : default;
    }

    /// <summary>Whether a property can be a column of a statement: a plain value of the entity's own table.</summary>
    public static bool IsColumn(Property property) =>
        property
            is {
                IsGroup: false,
                Via: null,
                PresenceColumn: null,
                Type: { IsCollection: false, Kind: not (EdmKind.Complex or EdmKind.Stream) }
            };
}
