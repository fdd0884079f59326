namespace RapidGable.Service.Management.Contracts;

/// <summary>The services that a caller knows.</summary>
public sealed record ServiceList(IEnumerable<ServiceSummary> Services);

/// <summary>A published service.</summary>
/// <param name="Sets">How many sets the caller may know of.</param>
/// <param name="Faces">By the name of a face: the address of the service there.</param>
/// <param name="Endpoints">What the caller may do something with, on all faces.</param>
public sealed record ServiceSummary(
    string Name,
    string Title,
    string Revision,
    int Sets,
    IReadOnlyDictionary<string, string> Faces,
    IEnumerable<EndpointInfo> Endpoints,
    ServiceAboutInfo About
);

/// <summary>What a service says of itself; what is missing is not said.</summary>
/// <param name="Deprecated">That it will not stay, in words; missing = it will.</param>
public sealed record ServiceAboutInfo(
    string? Version,
    string? Description,
    string? Owner,
    string? Contact,
    string? Licence,
    string? Terms,
    IEnumerable<string> Tags,
    string? Deprecated
);

/// <summary>A set on one face.</summary>
/// <param name="Url">Its address.</param>
/// <param name="Operations">What the caller may do there.</param>
public sealed record EndpointInfo(string Face, string Set, string Url, IEnumerable<string> Operations);

/// <summary>All of a published service.</summary>
/// <param name="Sources">Names of the sources that its sets are over.</param>
/// <param name="Faces">As in a summary.</param>
/// <param name="Inferences">What nobody wrote, with the reasons.</param>
/// <param name="Sql">Who may send statements over its sets, in words.</param>
public sealed record ServiceDetails(
    string Name,
    string Title,
    string Revision,
    string Namespace,
    IEnumerable<string> Sources,
    IReadOnlyDictionary<string, string> Faces,
    IEnumerable<SetInfo> Sets,
    IEnumerable<InferenceInfo> Inferences,
    string? Sql
);

/// <summary>Something that was inferred.</summary>
public sealed record InferenceInfo(string Subject, string Value, string Reason);

/// <summary>An entity set.</summary>
/// <param name="Type">Name of its entity type.</param>
/// <param name="From">The table, view or SELECT that it is over.</param>
/// <param name="Kind">A set of its own, one that is reached over its container, or rows without a key.</param>
/// <param name="Order">Terms of the order without a wish.</param>
/// <param name="Allow">Operations that are open to rules.</param>
/// <param name="IsReadable">Whether anonymous callers read it.</param>
/// <param name="Hidden">Columns that are not published.</param>
/// <param name="Searched">Properties that a search looks at.</param>
/// <param name="Version">The column of the entity tag, or 'row' for the whole row.</param>
/// <param name="Changes">The column by which changes are followed.</param>
/// <param name="Valid">What written rows must be.</param>
/// <param name="Query">For a query with a name; missing = it is none.</param>
public sealed record SetInfo(
    string Name,
    string Type,
    string Source,
    string From,
    IEnumerable<string> Key,
    int PageSize,
    int LargestPage,
    [property: OneOf("set", "function", "action", "contained")] string Kind,
    string? ContainedIn,
    string? Description,
    IEnumerable<string> Order,
    IEnumerable<string> Allow,
    SetRules Rules,
    bool IsReadable,
    IEnumerable<PropertyInfo> Properties,
    IEnumerable<string> Hidden,
    IEnumerable<string> Searched,
    bool RequiresFilter,
    string? Version,
    string? Changes,
    IEnumerable<RowRuleInfo> Valid,
    IEnumerable<DerivedTypeInfo> Derived,
    IEnumerable<NavigationInfo> Navigations,
    QueryInfo? Query
);

/// <summary>What makes a set a query.</summary>
/// <param name="Gives">Rows, one row at most, one value, or nothing.</param>
/// <param name="Parameters">What callers give.</param>
/// <param name="Examples">A value for each of them, to try the query with.</param>
/// <param name="TakesFromCaller">Some values are those of the caller, who cannot set them.</param>
/// <param name="Statement">The SELECT, or the statements of an action, as it is declared.</param>
/// <param name="Group">Title of the group that it belongs to; missing = none.</param>
public sealed record QueryInfo(
    [property: OneOf("rows", "row", "value", "nothing")] string Gives,
    IEnumerable<PropertyInfo> Parameters,
    IReadOnlyDictionary<string, string> Examples,
    bool TakesFromCaller,
    string Statement,
    string? Group
);

/// <summary>The access rules of a set, in words.</summary>
/// <param name="Read">Who may read it, or call it.</param>
/// <param name="All">Each rule.</param>
public sealed record SetRules(string Read, IEnumerable<string> All);

/// <summary>What written rows must be: a condition, or columns whose values no two rows share.</summary>
/// <param name="On">The operation that it is about; missing = both.</param>
/// <param name="Who">The callers that it is about; missing = all.</param>
public sealed record RowRuleInfo(
    string? Condition,
    IEnumerable<string> Unique,
    [property: OneOf("create", "update")] string? On,
    string? Who,
    string? Message
);

/// <summary>A type that derives from that of the set.</summary>
/// <param name="Values">Values of the discriminator that mean this type.</param>
public sealed record DerivedTypeInfo(
    string Name,
    string? Table,
    string? Discriminator,
    IEnumerable<object> Values,
    IEnumerable<PropertyInfo> Properties
);

/// <summary>A navigation property.</summary>
/// <param name="Target">Name of the set that it leads to.</param>
/// <param name="Through">The link table.</param>
public sealed record NavigationInfo(
    string Name,
    string Target,
    bool IsCollection,
    bool Nullable,
    string? Partner,
    bool IsContained,
    bool IsRemote,
    string? Through,
    IEnumerable<JoinInfo> Joins
);

/// <summary>A property of the entity and the one of the related entity that it equals.</summary>
public sealed record JoinInfo(string Own, string Target);

/// <summary>A property of an entity type.</summary>
/// <param name="Facets">The type with its facets.</param>
/// <param name="Conversion">How it becomes what is stored.</param>
/// <param name="Write">When callers may write it.</param>
/// <param name="Made">How the service or the database makes its value.</param>
/// <param name="Expression">What it is computed by.</param>
/// <param name="Members">Parts of a complex value that is made of columns.</param>
public sealed record PropertyInfo(
    string Name,
    string Type,
    string Facets,
    bool Nullable,
    string Column,
    bool IsKey,
    bool IsFilterable,
    bool IsSortable,
    string? Conversion,
    IEnumerable<string>? EnumMembers,
    [property: OneOf("always", "create", "never")] string Write,
    bool IsRequired,
    string? DefaultValue,
    string? Made,
    string? Expression,
    MeasureInfo? Measure,
    int? MaxLength,
    int? Scale,
    IEnumerable<string>? Values,
    ValueRuleInfo? Rules,
    IEnumerable<PropertyInfo>? Members,
    string? Description
);

/// <summary>What a value is measured in: a unit or currency, or the path to the text that says so.</summary>
public sealed record MeasureInfo(string? Text, string? Path);

/// <summary>What a written value must be.</summary>
public sealed record ValueRuleInfo(string? Minimum, string? Maximum, int? MinLength, int? MaxLength, string? Pattern, string? Message);
