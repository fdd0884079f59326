using System.Collections.Immutable;

namespace RapidGable.Model;

/// <summary>The operations that a declaration may allow on a set.</summary>
[Flags]
public enum SetOperations
{
    None = 0,
    Read = 1,
    Create = 2,
    Update = 4,
    Delete = 8,

    /// <summary>To call an action, which may change something.</summary>
    Call = 16,
}

/// <summary>A term of the order in which a set's entities come when none is asked for.</summary>
public sealed record OrderTerm(Property Property, bool Descending);

/// <summary>How changes of a set are found.</summary>
/// <param name="Stamp">Grows with every change of a row; visible or not.</param>
/// <param name="Log">Where deleted rows leave their keys; null = deletions are not told.</param>
public sealed record ChangeTracking(Property Stamp, DeletionLog? Log);

/// <param name="Key">Columns that hold the key of the deleted row, in the order of the set's key.</param>
/// <param name="Stamp">Grows with every deletion.</param>
public sealed record DeletionLog(TableSource Source, ImmutableArray<Property> Key, Property Stamp);

/// <summary>A published collection of entities, read from one table or view.</summary>
public sealed record EntitySet(string Name, EntityType Type, RowSource Source)
{
    /// <summary>Rows in a page when nothing is asked for; at least 1.</summary>
    public int PageSize { get; init; } = RequestLimits.StandardPage;

    /// <summary>The largest page that a caller may ask for; at least <see cref="PageSize"/>.</summary>
    public int LargestPage { get; init; } = RequestLimits.StandardLargestPage;

    /// <summary>Rows that one answer may hold at most, expanded ones among them; null = any number.</summary>
    public int? LargestCost { get; init; }

    public SetOperations Operations { get; init; } = SetOperations.Read;

    /// <summary>Who may do what with it; empty = nobody anything.</summary>
    public ImmutableArray<Grant> Rules { get; init; } = [];

    /// <summary>The order when none is asked for; the key follows.</summary>
    public ImmutableArray<OrderTerm> DefaultOrder { get; init; } = [];

    /// <summary>
    /// The column that changes with every change of a row, visible or not; its value is the entity's ETag. Null = entities have none.
    /// </summary>
    public Property? Version { get; init; }

    /// <summary>The entity's ETag is made of all values of its row, since no column changes with every change.</summary>
    public bool IsVersionedByRow { get; init; }

    /// <summary>Changes and deletions must say which state they are about (<c>If-Match</c>).</summary>
    public bool RequiresVersion { get; init; }

    /// <summary>Whether entities have an ETag.</summary>
    public bool HasVersion => Version is not null || IsVersionedByRow;

    /// <summary>What written rows must be beyond the rules of single values.</summary>
    public ImmutableArray<RowRule> RowRules { get; init; } = [];

    /// <summary>The changes that statements of the publisher carry out; others are done by our own.</summary>
    public ImmutableDictionary<SetOperations, WriteCall> Writes { get; init; } = ImmutableDictionary<SetOperations, WriteCall>.Empty;

    /// <summary>Where changes are noted; null = nowhere.</summary>
    public ChangeLog? Log { get; init; }

    /// <summary>How callers learn what has changed; null = they do not.</summary>
    public ChangeTracking? Changes { get; init; }

    /// <summary>The set is read with a filter, a search or over a relation only, never as a whole.</summary>
    public bool RequiresFilter { get; init; }

    /// <summary>
    /// The text properties that <c>$search</c> looks at; null = every one that is open to filters and stored as text; empty = none.
    /// </summary>
    public ImmutableArray<Property>? SearchedProperties { get; init; }

    /// <summary>The source's own index that <c>$search</c> asks; null = texts are looked through.</summary>
    public TextIndex? SearchIndex { get; init; }

    /// <summary>Whether <c>$search</c> has anything to look at.</summary>
    public bool IsSearchable => SearchIndex is not null || !SearchProperties.IsEmpty;

    /// <summary>The text properties that <c>$search</c> looks at.</summary>
    public ImmutableArray<Property> SearchProperties =>
        SearchedProperties
        ??
        [
            .. Type
                .Properties.SelectMany(p => p.Leaves)
                .Where(p => p is { Type: { Kind: EdmKind.String, IsCollection: false }, Conversion: null, IsFilterable: true }),
        ];

    public string? Description { get; init; }

    /// <summary>Made by a request, and only there.</summary>
    public bool IsTransient { get; init; }

    /// <summary>The entities of one derived type, as a set whose type has all their properties.</summary>
    public EntitySet Of(DerivedType derived) =>
        this with
        {
            Type = new EntityType(
                derived.Name,
                [.. Type.Properties, .. derived.Properties],
                Type.Hidden,
                Type.Key,
                Type.Navigations,
                Type.Description
            )
            {
                AlternateKeys = Type.AlternateKeys,
            },
        };

    /// <summary>Rows without a key, which are paged by their number.</summary>
    public bool IsUnkeyed => Type.Key.IsEmpty;

    /// <summary>For a query: what its callers give, those that they must give first. Others are taken from the caller.</summary>
    public ImmutableArray<OperationParameter> Parameters { get; init; } = [];

    /// <summary>For a query: how much it gives.</summary>
    public QueryResult Gives { get; init; }

    /// <summary>The rows of a query of the declaration.</summary>
    public bool IsQuery { get; init; }

    /// <summary>
    /// How a query is carried out that no other statement can read from. Null = its rows are read like those of a table.
    /// </summary>
    public CallSteps? Call { get; init; }

    /// <summary>It may change something, so that it is called by POST alone.</summary>
    public bool IsAction => Call is { MayChange: true };

    /// <summary>There are rows of its type in answers.</summary>
    public bool GivesRows => Gives != QueryResult.Nothing;

    /// <summary>
    /// The set whose entities a query gives; both have the same entity type. Null = the query has a type of its own.
    /// </summary>
    public string? EntitiesOf { get; init; }

    /// <summary>For such a query: its columns that hold the key of the entities, in the order of the key.</summary>
    public ImmutableArray<string> OfKey { get; init; } = [];

    /// <summary>For a query that is asked of an entity: how it belongs to that. Null = it stands by itself.</summary>
    public OperationBinding? Binding { get; init; }

    /// <summary>What a caller must be allowed, to know of it.</summary>
    public SetOperations Use => IsAction ? SetOperations.Call : SetOperations.Read;

    /// <summary>The group that a query belongs to; null = none.</summary>
    public QueryGroup? Group { get; init; }

    /// <summary>The set will not stay; null = it will.</summary>
    public Deprecation? Deprecation { get; init; }

    /// <summary>What a query gives depends on who calls it, beyond the rules.</summary>
    public bool TakesFromCaller { get; init; }

    /// <summary>Published as an operation that returns a complex type, a collection of it, or a single value.</summary>
    public bool IsFunction => IsUnkeyed || IsQuery;

    /// <summary>Entities are part of those of another set and are reached over it only; null = a set of its own.</summary>
    public string? ContainedIn { get; init; }
}
