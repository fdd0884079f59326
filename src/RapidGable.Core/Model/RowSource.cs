using System.Collections.Immutable;

namespace RapidGable.Model;

/// <summary>
/// Where rows come from. The kinds are few and closed: a table, a SELECT, one empty row, the part of them that a caller may see, and that
/// with computed values. None can be copied into another, so that what a caller may not see stays out of reach.
/// </summary>
public abstract class RowSource
{
    private protected RowSource(string source) => Source = source;

    /// <summary>The source's name in the workspace: that of its file without the ending.</summary>
    public string Source { get; }

    /// <summary>The name in words for people.</summary>
    public abstract override string ToString();
}

/// <summary>Rows as the source holds them, with nothing taken away.</summary>
public abstract class StoredRows : RowSource
{
    private protected StoredRows(string source)
        : base(source) { }
}

/// <summary>A table or a view.</summary>
/// <param name="source">As in <see cref="RowSource.Source"/>.</param>
/// <param name="schema">Schema in the source; null where the engine has none.</param>
/// <param name="name">Exactly as the catalog spells it.</param>
public sealed class TableSource(string source, string? schema, string name) : StoredRows(source), IEquatable<TableSource>
{
    public string? Schema => schema;

    public string Name => name;

    /// <summary>
    /// A column that the engine keeps by itself and that finds a row fastest; null = there is none. Only the engine reads it.
    /// </summary>
    public string? RowId { get; init; }

    public bool Equals(TableSource? other) => other is not null && (Source, schema, name) == (other.Source, other.Schema, other.Name);

    public override bool Equals(object? obj) => Equals(obj as TableSource);

    public override int GetHashCode() => HashCode.Combine(Source, schema, name);

    public override string ToString() => schema is null ? name : $"{schema}.{name}";
}

/// <summary>A SELECT of the declaration.</summary>
/// <param name="source">As in <see cref="RowSource.Source"/>.</param>
/// <param name="select">The statement, as it is declared.</param>
public sealed class QuerySource(string source, string select) : StoredRows(source)
{
    public string Select => select;

    /// <summary>The statement without its parameters: what stands before, between and behind them.</summary>
    public ImmutableArray<string> Pieces { get; init; } = [select];

    /// <summary>The parameter between each two pieces, in the order of the statement; one may stand several times.</summary>
    public ImmutableArray<OperationParameter> Parameters { get; init; } = [];

    public override string ToString() => "a SELECT";
}

/// <summary>One row without columns, which other tables are joined to.</summary>
/// <param name="source">As in <see cref="RowSource.Source"/>.</param>
public sealed class SingleRow(string source) : StoredRows(source)
{
    public override string ToString() => "one row";
}
