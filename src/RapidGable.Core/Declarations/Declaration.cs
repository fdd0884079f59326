using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Declarations;

/// <summary>A value together with the place where it is written.</summary>
public sealed record Located<T>(T Value, SourceLocation Location);

/// <summary>The texts that hold everything, read.</summary>
/// <param name="Folder">Where file names in them start.</param>
public sealed record WorkspaceDeclaration(
    string Folder,
    string Title,
    ImmutableArray<SourceDeclaration> Sources,
    ImmutableArray<ServiceDeclaration> Services
)
{
    /// <summary>Seconds between two looks at the catalogs while the workspace is served; null = only at start and when asked.</summary>
    public int? RefreshSeconds { get; init; }

    /// <summary>The naming policy of services that say none.</summary>
    public NamingPolicy Names { get; init; }

    /// <summary>What stands on the faces that are named; of any other face everything.</summary>
    public ImmutableArray<FacePatterns> Faces { get; init; } = [];

    public SignInDeclaration SignIn { get; init; } = SignInDeclaration.AccountsOnly;

    public TransportDeclaration Transport { get; init; } = TransportDeclaration.Plain;

    public TrafficDeclaration Traffic { get; init; } = TrafficDeclaration.Free;

    public AuditDeclaration Audit { get; init; } = AuditDeclaration.Standard;

    public RevisionsDeclaration Revisions { get; init; } = RevisionsDeclaration.Standard;

    public StateDeclaration State { get; init; } = StateDeclaration.Standard;

    public ImmutableArray<AccessCheckDeclaration> Checks { get; init; } = [];

    /// <summary>Requests that are kept, in the order of their files.</summary>
    public ImmutableArray<KeptRequest> Requests { get; init; } = [];

    /// <summary>Answers that are kept as examples.</summary>
    public ImmutableArray<KeptExample> Examples { get; init; } = [];

    /// <summary>What was read.</summary>
    public WorkspaceTexts Texts { get; init; } =
        new("", ImmutableSortedDictionary<string, ImmutableArray<byte>>.Empty.WithComparers(StringComparer.Ordinal));
}

/// <summary>One database connection.</summary>
/// <param name="Name">The file's name without its ending.</param>
/// <param name="Engine">The engine's name, such as <c>sqlite</c>.</param>
/// <param name="Settings">What the engine needs, with references to variables already resolved.</param>
/// <param name="Location">Of the file.</param>
public sealed record SourceDeclaration(
    string Name,
    Located<string> Engine,
    ImmutableDictionary<string, Located<SettingText>> Settings,
    SourceLocation Location
)
{
    /// <summary>What people call it; null = by its name.</summary>
    public string? Title { get; init; }

    /// <summary>What it holds, for people; null = nothing is said.</summary>
    public string? Description { get; init; }

    /// <summary>Which of its schemas and objects are on offer.</summary>
    public OfferDeclaration Offer { get; init; } = OfferDeclaration.Everything;

    /// <summary>No set of the source may allow changes; so it is until the file says otherwise.</summary>
    public bool IsReadOnly { get; init; } = true;

    /// <summary>The table that keeps the answers of repeatable requests; null = they are kept in memory.</summary>
    public Located<string>? Repeats { get; init; }

    /// <summary>What becomes of values that no payload has a value for; null = nothing is declared.</summary>
    public UnrepresentableValues? Unrepresentable { get; init; }
}

/// <summary>
/// What of a source is on offer; patterns hold <c>*</c> and <c>?</c> and are held against names with and without their schema.
/// </summary>
/// <param name="Schemas">Empty = all.</param>
/// <param name="Kinds">Words such as <c>table</c>; empty = all.</param>
/// <param name="Include">Empty = all.</param>
public sealed record OfferDeclaration(
    ImmutableArray<Located<string>> Schemas,
    ImmutableArray<Located<string>> Kinds,
    ImmutableArray<Located<string>> Include,
    ImmutableArray<Located<string>> Exclude
)
{
    public static readonly OfferDeclaration Everything = new([], [], [], []);
}

/// <summary>What one service publishes.</summary>
public sealed record ServiceDeclaration(
    string Name,
    string Title,
    Located<string> Source,
    string Namespace,
    ImmutableArray<SetDeclaration> Sets,
    SourceLocation Location
)
{
    public NamingPolicy Names { get; init; }

    /// <summary>The faces that it stands on; null = the workspace says it.</summary>
    public ImmutableArray<Located<string>>? Faces { get; init; }

    /// <summary>What the workspace says of faces.</summary>
    public ImmutableArray<FacePatterns> FacePatterns { get; init; } = [];

    /// <summary>How it stands on the plain REST face.</summary>
    public RestDeclaration Rest { get; init; } = RestDeclaration.None;

    /// <summary>What requests are held to; the workspace says it.</summary>
    public RequestLimits Limits { get; init; } = RequestLimits.Standard;

    /// <summary>Who may send statements over its sets; null = nobody.</summary>
    public Located<SqlAccess>? Sql { get; init; }

    /// <summary>Who may open the page for its consumers; null = nobody.</summary>
    public AccessRule? Handover { get; init; }

    /// <summary>Where it says that no row changes without a line in the audit log; null = it does not.</summary>
    public SourceLocation? RequiresAudit { get; init; }

    /// <summary>It is a version of another service; null = it is none.</summary>
    public Located<ServiceVersion>? VersionOf { get; init; }

    /// <summary>What it says of itself.</summary>
    public ServiceAbout About { get; init; } = ServiceAbout.None;

    /// <summary>It will not stay; null = it will.</summary>
    public Deprecation? Deprecation { get; init; }

    /// <summary>The names that stand in the file itself.</summary>
    public ImmutableArray<string> Written { get; init; } = [];

    /// <summary>The names that stand below <c>rest</c> in the file.</summary>
    public ImmutableArray<string> WrittenRest { get; init; } = [];

    /// <summary>Enumerations and complex types that properties name.</summary>
    public ImmutableArray<TypeDeclaration> Types { get; init; } = [];
}

/// <summary>A type that the properties of a service share: an enumeration if it has members, else a complex type.</summary>
public sealed record TypeDeclaration(Located<string> Name)
{
    public string? Description { get; init; }

    /// <summary>Name -> stored value.</summary>
    public ImmutableArray<(Located<string> Name, Located<string> Stored)> Members { get; init; } = [];

    public ImmutableArray<MemberDeclaration> Properties { get; init; } = [];

    /// <summary>Values may hold members that are not declared.</summary>
    public bool IsOpen { get; init; }

    /// <summary>The primitive type that it is a name for; null = it is another kind.</summary>
    public Located<string>? Base { get; init; }

    public bool IsEnum => !Members.IsEmpty;
}

/// <summary>A property of a declared complex type.</summary>
/// <param name="From">Its name in the JSON text.</param>
public sealed record MemberDeclaration(Located<string> Name, Located<string> Type, string From, bool IsRequired);

/// <summary>What is said of one column.</summary>
public sealed record ColumnDeclaration(Located<string> Column)
{
    /// <summary>A type's name, of the standard or of the service; null = the column's own.</summary>
    public Located<string>? Type { get; init; }

    /// <summary>How a date or time is written.</summary>
    public Located<string>? Format { get; init; }

    /// <summary>What a number counts.</summary>
    public Located<string>? Unit { get; init; }

    /// <summary>It will not stay; null = it will.</summary>
    public Deprecation? Deprecation { get; init; }

    /// <summary>What people measure a number in, or where that stands.</summary>
    public Located<string>? MeasuredIn { get; init; }

    /// <summary>What becomes of values that no payload has a value for; null = what the source says.</summary>
    public Located<UnrepresentableValues>? Unrepresentable { get; init; }

    /// <summary>The code of an amount's currency, or where it stands.</summary>
    public Located<string>? Currency { get; init; }

    public Located<string>? True { get; init; }

    public Located<string>? False { get; init; }

    /// <summary>The content is fetched by itself and stands in no payload.</summary>
    public bool IsStream { get; init; }

    /// <summary>Media type of the content.</summary>
    public Located<string>? MediaType { get; init; }

    /// <summary>For a stream: the column that holds the media type of each.</summary>
    public Located<string>? MediaTypeColumn { get; init; }

    public Located<string>? Name { get; init; }

    public Located<string>? Description { get; init; }

    public bool IsFilterable { get; init; } = true;

    public bool IsSortable { get; init; } = true;

    /// <summary>No row holds a null there, whatever the catalog says.</summary>
    public bool IsRequired { get; init; }

    public PropertyAccess Access { get; init; } = PropertyAccess.Full;

    /// <summary>How a new entity gets its value, whatever is sent; null = nothing is made.</summary>
    public Located<string>? Generate { get; init; }

    /// <summary>The same, also when an entity changes.</summary>
    public Located<string>? Regenerate { get; init; }

    /// <summary>How a new entity gets its value when none is sent.</summary>
    public Located<string>? Default { get; init; }

    public Located<string>? Minimum { get; init; }

    public Located<string>? Maximum { get; init; }

    public int? MinLength { get; init; }

    public int? MaxLength { get; init; }

    public Located<string>? Pattern { get; init; }

    public ImmutableArray<Located<string>> Values { get; init; } = [];

    /// <summary>Set and property that must hold the value, as <c>Set/property</c>.</summary>
    public Located<string>? Exists { get; init; }

    /// <summary>Its values may refer to entities that the caller may not read.</summary>
    public bool RefersToAll { get; init; }

    /// <summary>No other row has the value.</summary>
    public bool IsUnique { get; init; }

    public Located<string>? Message { get; init; }
}

/// <summary>What written rows must be.</summary>
/// <param name="On">The operations that it is about.</param>
public sealed record RowRuleDeclaration(SetOperations On, SourceLocation Location)
{
    public Located<string>? Where { get; init; }

    public ImmutableArray<Located<string>> Unique { get; init; } = [];

    public AccessRule? Who { get; init; }

    /// <summary>The column that the fault is told of.</summary>
    public Located<string>? Column { get; init; }

    public Located<string>? Message { get; init; }
}

/// <summary>A table that takes notes of changes.</summary>
/// <param name="Columns">What is noted -> the column that takes it.</param>
public sealed record LogDeclaration(Located<string> Table, ImmutableArray<(Located<string> What, Located<string> Column)> Columns);

/// <summary>Columns that become one complex value.</summary>
/// <param name="Type">Name of the complex type; null = made from the group's name.</param>
public sealed record GroupDeclaration(Located<string> Name, Located<string>? Type, ImmutableArray<Located<string>> Columns);

/// <summary>A way from a set to another.</summary>
/// <param name="To">Name of the other set.</param>
public sealed record RelationDeclaration(Located<string> Name, Located<string> To)
{
    /// <summary>Own column -> column of the other; empty = by the foreign key between them.</summary>
    public ImmutableArray<(Located<string> Own, Located<string> Target)> On { get; init; } = [];

    /// <summary>Name of the way back; null = made by the rule.</summary>
    public Located<string>? Back { get; init; }

    public bool HasBack { get; init; } = true;

    /// <summary>The table between the two.</summary>
    public Located<string>? Through { get; init; }

    public bool IsContained { get; init; }
}

/// <summary>How callers learn what has changed since they last asked.</summary>
/// <param name="Stamp">The column that grows with every change.</param>
/// <param name="Log">The table that deleted rows leave their keys in; null = deletions are not told.</param>
/// <param name="LogStamp">Its column that grows with every deletion.</param>
public sealed record ChangesDeclaration(Located<string> Stamp, Located<string>? Log, Located<string>? LogStamp);

/// <summary>A type that derives from a set's own.</summary>
/// <param name="When">Values of the set's discriminator.</param>
/// <param name="Columns">Columns of the set's table that only this type has.</param>
/// <param name="From">A table with rows for this type only; null = there is none.</param>
/// <param name="Hide">Columns of that table that callers never see.</param>
public sealed record DerivedDeclaration(
    Located<string> Name,
    ImmutableArray<Located<string>> When,
    ImmutableArray<Located<string>> Columns,
    Located<string>? From,
    ImmutableArray<Located<string>> Hide
);

/// <summary>A rule of a set or a service; see <see cref="Grant"/>.</summary>
public sealed record RuleDeclaration(AccessRule Who, SetOperations May, SourceLocation Location)
{
    public bool Denies { get; init; }

    public Located<string>? Rows { get; init; }

    public ImmutableArray<Located<string>> Hide { get; init; } = [];

    public ImmutableArray<Located<string>> Mask { get; init; } = [];

    public Located<string>? WithCheck { get; init; }

    public int? LargestPage { get; init; }

    public int? LargestCost { get; init; }

    /// <summary>The rule as the model has it, without what it inherits.</summary>
    public Grant ToGrant() =>
        new(Who, May)
        {
            Denies = Denies,
            Rows = Rows?.Value,
            Hide = [.. Hide.Select(h => h.Value)],
            Mask = [.. Mask.Select(m => m.Value)],
            WithCheck = WithCheck?.Value,
            LargestPage = LargestPage,
            LargestCost = LargestCost,
            Place = $"{Location.File}:{Location.Line}",
        };
}

/// <summary>One entity set; everything but the object's name may be left to the catalog.</summary>
public sealed record SetDeclaration(Located<string> From, SourceLocation Location)
{
    /// <summary>The source that holds the object.</summary>
    public required Located<string> Source { get; init; }

    /// <summary>The names that stand in the set itself.</summary>
    public ImmutableArray<string> Written { get; init; } = [];

    /// <summary>The faces that it stands on; null = those of the service.</summary>
    public ImmutableArray<Located<string>>? Faces { get; init; }

    /// <summary>How it stands on the plain REST face.</summary>
    public RestSetDeclaration Rest { get; init; } = RestSetDeclaration.None;

    /// <summary>A SELECT that stands for the table or view; null = <see cref="From"/> names it.</summary>
    public Located<string>? Select { get; init; }

    /// <summary>What carries out changes, where it is not the service itself.</summary>
    public ImmutableArray<WriteDeclaration> Writes { get; init; } = [];

    /// <summary>For a query with a name; null = it is a set.</summary>
    public QueryDeclaration? Query { get; init; }

    public Located<string>? Description { get; init; }

    /// <summary>It will not stay; null = it will.</summary>
    public Deprecation? Deprecation { get; init; }

    /// <summary>What is said of single columns.</summary>
    public ImmutableArray<ColumnDeclaration> Columns { get; init; } = [];

    /// <summary>The only columns that callers see, in this order; empty = all but the hidden ones.</summary>
    public ImmutableArray<Located<string>> Show { get; init; } = [];

    public ImmutableArray<GroupDeclaration> Groups { get; init; } = [];

    public ImmutableArray<RelationDeclaration> Relations { get; init; } = [];

    /// <summary>Columns of the default order.</summary>
    public ImmutableArray<(Located<string> Column, bool Descending)> Order { get; init; } = [];

    /// <summary>Columns that are searched; null = every text column that callers see; empty = none.</summary>
    public ImmutableArray<Located<string>>? Search { get; init; }

    /// <summary>The full-text index that is asked instead; null = none.</summary>
    public Located<string>? SearchIndex { get; init; }

    /// <summary>The column that changes with every change of a row.</summary>
    public Located<string>? Version { get; init; }

    /// <summary>Changes must say which state they are about.</summary>
    public bool RequiresVersion { get; init; }

    /// <summary>What written rows must be.</summary>
    public ImmutableArray<RowRuleDeclaration> RowRules { get; init; } = [];

    /// <summary>Where changes are noted; null = nowhere.</summary>
    public LogDeclaration? Log { get; init; }

    /// <summary>Read-only properties: name and expression.</summary>
    public ImmutableArray<(Located<string> Name, Located<string> Expression)> Computed { get; init; } = [];

    /// <summary>The column that tells an entity's type; null = none.</summary>
    public Located<string>? Discriminator { get; init; }

    public ImmutableArray<DerivedDeclaration> Derived { get; init; } = [];

    /// <summary>How changes are told; null = they are not.</summary>
    public ChangesDeclaration? Changes { get; init; }

    /// <summary>The set is read with a filter only, never as a whole.</summary>
    public bool RequiresFilter { get; init; }

    /// <summary>Callers choose keys that the database would number; else it makes them whatever is sent.</summary>
    public bool HasCallerKeys { get; init; }

    /// <summary>Published without a key, as a collection that is only read.</summary>
    public bool IsKeyless { get; init; }

    /// <summary>Public name; null = from the object's name.</summary>
    public Located<string>? Name { get; init; }

    /// <summary>Name of the entity type; null = from the object's name.</summary>
    public Located<string>? TypeName { get; init; }

    /// <summary>Columns of the key; empty = from the catalog.</summary>
    public ImmutableArray<Located<string>> Key { get; init; } = [];

    /// <summary>Columns that callers never see.</summary>
    public ImmutableArray<Located<string>> Hide { get; init; } = [];

    /// <summary>Column name -> public name.</summary>
    public ImmutableArray<(Located<string> Column, Located<string> Name)> Rename { get; init; } = [];

    /// <summary>Rows in a page; null = the service's or the built-in default.</summary>
    public int? Page { get; init; }

    /// <summary>The largest page a caller may ask for.</summary>
    public int? LargestPage { get; init; }

    public SetOperations Operations { get; init; } = SetOperations.Read;

    /// <summary>Who may do what; empty when neither the set nor the service says, and then nobody may anything.</summary>
    public ImmutableArray<RuleDeclaration> Rules { get; init; } = [];
}
