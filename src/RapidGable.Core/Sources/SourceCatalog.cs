using System.Collections.Immutable;
using System.Text.Json.Serialization;
using RapidGable.Model;

namespace RapidGable.Sources;

/// <summary>What an object of a source is.</summary>
public enum SourceObjectKind
{
    Table,
    View,
    MaterializedView,

    /// <summary>A SELECT of a declaration.</summary>
    Query,
}

/// <summary>Words for kinds of objects.</summary>
public static class SourceObjectKinds
{
    /// <summary>The kind as people and declarations say it.</summary>
    public static string Word(this SourceObjectKind kind) =>
        kind switch
        {
            SourceObjectKind.Table => "table",
            SourceObjectKind.View => "view",
            SourceObjectKind.MaterializedView => "materialized-view",
            _ => "SELECT",
        };
}

/// <summary>What a source offers.</summary>
/// <param name="DefaultSchema">The schema that need not be named; null where the engine has none.</param>
public sealed record SourceCatalog(ImmutableArray<SourceObject> Objects, string? DefaultSchema = null)
{
    public ImmutableArray<SourceRoutine> Routines { get; init; } = [];

    /// <summary>Is told of each object that is looked up by its name; null = nobody is.</summary>
    internal Action<SourceObject>? Found { get; init; }

    /// <summary>The same, with what its source declares of values that no payload has a value for; null = nothing.</summary>
    public SourceCatalog With(UnrepresentableValues? declared) =>
        declared is not { } policy
            ? this
            : this with
            {
                Objects =
                [
                    .. Objects.Select(o =>
                        o with
                        {
                            Columns = [.. o.Columns.Select(c => c.MayBeUnrepresentable ? c with { Unrepresentable = policy } : c)],
                        }
                    ),
                ],
            };

    /// <summary>
    /// Finds an object by its full name, or by its name alone in the default schema, or where that is the only one of its name.
    /// </summary>
    public SourceObject? Find(string name)
    {
        var item = Objects.FirstOrDefault(o => o.FullName == name)
            ?? Objects.FirstOrDefault(o => o.Name == name && o.Schema == DefaultSchema)
            ?? (Objects.Where(o => o.Name == name).Take(2).ToList() is [var only] ? only : null);
        if (item is not null)
            Found?.Invoke(item);
        return item;
    }

    /// <summary>
    /// The routines that match a name, which may have a schema and a signature. More than one = the name is ambiguous.
    /// </summary>
    public ImmutableArray<SourceRoutine> FindRoutines(string name)
    {
        var own = Routines.Where(r => r.FullName == name || (r.Name == name && r.Schema == DefaultSchema)).ToImmutableArray();
        if (!own.IsEmpty)
            return own;
        var others = Routines.Where(r => r.Name == name || r.Signature == name || $"{r.Schema}.{r.Signature}" == name).ToImmutableArray();
        return others;
    }

    /// <summary>The name under which people find an object.</summary>
    public string ShortName(SourceObject item) => item.Schema == DefaultSchema ? item.Name : item.FullName;
}

/// <summary>A table or view with all that the catalog says of it.</summary>
/// <param name="Schema">Schema; null where the engine has none.</param>
/// <param name="PrimaryKey">Column names in key order; empty = none.</param>
/// <param name="UniqueKeys">Other unique column lists.</param>
public sealed record SourceObject(
    string? Schema,
    string Name,
    SourceObjectKind Kind,
    ImmutableArray<SourceColumn> Columns,
    ImmutableArray<string> PrimaryKey,
    ImmutableArray<ImmutableArray<string>> UniqueKeys,
    ImmutableArray<ForeignKey> ForeignKeys
)
{
    public string? Comment { get; init; }

    /// <summary>The SELECT itself, for a query.</summary>
    public string? Query { get; init; }

    /// <summary>Values for the parameters of <see cref="Query"/>, with which it can be looked at; empty = it has none.</summary>
    [JsonIgnore] // they are examples, and no fact of the catalog
    public ImmutableArray<StoredValue> Arguments { get; init; } = [];

    /// <summary>Column lists of the other indexes, whose first columns are found fast.</summary>
    public ImmutableArray<ImmutableArray<string>> Indexes { get; init; } = [];

    public ImmutableArray<TextIndex> TextIndexes { get; init; } = [];

    /// <summary>The conditions of CHECK constraints, as the engine spells them.</summary>
    public ImmutableArray<string> Checks { get; init; } = [];

    /// <summary>Schema and name.</summary>
    public string FullName => Schema is null ? Name : $"{Schema}.{Name}";

    /// <summary>As in <see cref="TableSource.RowId"/>.</summary>
    public string? RowId { get; init; }

    /// <summary>Why the object cannot be read at all; null = it can.</summary>
    public string? Fault { get; init; }

    /// <summary>What identifies a row by the catalog: the primary key, else a unique key without nulls; empty = nothing does.</summary>
    public ImmutableArray<string> NaturalKey =>
        !PrimaryKey.IsEmpty ? PrimaryKey
        : UniqueKeys.FirstOrDefault(IsWithoutNulls) is { IsDefault: false } unique ? unique
        : [];

    // The columns of a materialized view are never said to be without nulls; its unique index is there to identify its rows.
    private bool IsWithoutNulls(ImmutableArray<string> unique) =>
        Kind == SourceObjectKind.MaterializedView || unique.All(c => Column(c) is { Nullable: false });

    /// <summary>The column of a name, exactly as it is spelled; null = there is none.</summary>
    public SourceColumn? Column(string name) => Columns.FirstOrDefault(c => c.Name == name);
}

/// <summary>A column and the type it is published with.</summary>
/// <param name="DeclaredType">As the catalog spells it; empty = none stated.</param>
/// <param name="Type">The type it maps to; null when there is none.</param>
/// <param name="Reason">Why it maps so, or why it does not, in a few words.</param>
public sealed record SourceColumn(string Name, string DeclaredType, EdmType? Type, bool Nullable, string Reason)
{
    /// <summary>Whether the column can be part of a key; bytes can, as text.</summary>
    public bool MayBeKey => Type is { MayBeKey: true } or { Kind: EdmKind.Binary, IsCollection: false };

    public string? StorageForm { get; init; }

    /// <summary>As in <see cref="Property.Collation"/>.</summary>
    public string? Collation { get; init; }

    /// <summary>Whether the column can hold values that no payload has a value for.</summary>
    public bool MayBeUnrepresentable { get; init; }

    /// <summary>What the source says of such values.</summary>
    public UnrepresentableValues Unrepresentable { get; init; }

    public bool HasComputedDefault { get; init; }

    /// <summary>The source numbers its rows by the column: identity, sequence, auto-increment or a row's own number.</summary>
    public bool IsNumbered { get; init; }

    public bool IsComputed { get; init; }

    /// <summary>A constant default as a literal without quotes; null = none or not constant.</summary>
    public string? DefaultValue { get; init; }

    public string? MediaType { get; init; }

    public string? Comment { get; init; }

    /// <summary>The only values that the column takes, as the catalog lists them; empty = any.</summary>
    public ImmutableArray<string> AllowedValues { get; init; } = [];

    /// <summary>How the column is read as text where its type has no counterpart; null = it cannot be.</summary>
    public string? TextForm { get; init; }

    /// <summary>Name of a composite type, whose fields follow; null = none.</summary>
    public string? CompositeName { get; init; }

    public ImmutableArray<SourceColumn> Fields { get; init; } = [];
}

/// <summary>A function or procedure.</summary>
/// <param name="Kind"><c>function</c> or <c>procedure</c>.</param>
/// <param name="Returns">What it gives, as the catalog spells it; empty = nothing.</param>
public sealed record SourceRoutine(
    string? Schema,
    string Name,
    string Kind,
    ImmutableArray<RoutineParameter> Parameters,
    string Returns,
    string? Comment
)
{
    /// <summary>It may change something, as far as its own declaration says.</summary>
    public bool MayChange { get; init; } = true;

    /// <summary>A function that gives any number of rows.</summary>
    public bool GivesRows { get; init; }

    /// <summary>A function that gives no value at all.</summary>
    public bool GivesNothing { get; init; }

    /// <summary>It says that it ends transactions by itself.</summary>
    public bool Commits { get; init; }

    public bool IsProcedure => Kind == "procedure";

    /// <summary>Schema and name.</summary>
    public string FullName => Schema is null ? Name : $"{Schema}.{Name}";

    /// <summary>The name with the types of what it takes, which tells it from others of the same name.</summary>
    public string Signature => $"{Name}({string.Join(", ", Parameters.Where(p => p.IsTaken).Select(p => p.DeclaredType))})";
}

/// <summary>A parameter of a routine.</summary>
/// <param name="Direction"><c>in</c>, <c>out</c> or <c>inout</c>.</param>
public sealed record RoutineParameter(string Name, string DeclaredType, string Direction)
{
    /// <summary>Its type as that of a column; null = it has none here.</summary>
    public SourceColumn? Column { get; init; }

    /// <summary>The expression that stands for it when it is left out; null = it must be given.</summary>
    public string? Default { get; init; }

    /// <summary>Callers give it.</summary>
    public bool IsTaken => Direction != "out";

    /// <summary>It comes back.</summary>
    public bool IsGiven => Direction != "in";
}

/// <summary>A foreign key; column lists have the same length.</summary>
/// <param name="TargetObject">The target's <see cref="SourceObject.FullName"/>.</param>
public sealed record ForeignKey(
    ImmutableArray<string> Columns,
    string TargetObject,
    ImmutableArray<string> TargetColumns,
    string? OnDelete
);
