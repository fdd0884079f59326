using System.Collections.Frozen;
using System.Collections.Immutable;

namespace RapidGable.Model;

/// <summary>A structural property and the column it is read from.</summary>
/// <param name="Name">Public name, a simple identifier.</param>
/// <param name="Type">Type with facets.</param>
/// <param name="Nullable">Whether a value may be null.</param>
/// <param name="Column">The column's name in the source, exactly as the catalog spells it.</param>
/// <param name="StorageForm">How the engine stores the value where one type has several forms; only the engine reads it.</param>
public sealed record Property(string Name, EdmType Type, bool Nullable, string Column, string? StorageForm = null)
{
    /// <summary>How the engine compares texts of the column, where two columns may differ in that; null = it makes no difference.</summary>
    public string? Collation { get; init; }

    public string? Description { get; init; }

    /// <summary>The name under which its type is published, or the type of its items; null = the type's own.</summary>
    public TypeDefinition? Definition { get; init; }

    /// <summary>The name of its type with the namespace, as documents have it.</summary>
    public string TypeName =>
        Definition is not { } definition ? Type.Name
        : Type.IsCollection ? $"Collection({definition.QualifiedName})"
        : definition.QualifiedName;

    /// <summary>The property will not stay; null = it will.</summary>
    public Deprecation? Deprecation { get; init; }

    /// <summary>The source fills the value when none is sent (<c>Core.ComputedDefaultValue</c>).</summary>
    public bool HasComputedDefault { get; init; }

    /// <summary>The source always makes the value (<c>Core.Computed</c>).</summary>
    public bool IsComputed { get; init; }

    /// <summary>A constant default in the form of the type's literal without quotes; null = none.</summary>
    public string? DefaultValue { get; init; }

    /// <summary>Media type of the content (<c>Core.MediaType</c>); null = plain value.</summary>
    public string? MediaType { get; init; }

    /// <summary>For a stream: the column that holds the media type of each; null = <see cref="MediaType"/> for all.</summary>
    public string? MediaTypeColumn { get; init; }

    /// <summary>How stored values become published ones and back; null = they are the same.</summary>
    public ValueConversion? Conversion { get; init; }

    /// <summary>For a complex value that is made of columns: its members; empty = the property has a column of its own.</summary>
    public ImmutableArray<Property> Members { get; init; } = [];

    /// <summary>Whether it may be used in <c>$filter</c>.</summary>
    public bool IsFilterable { get; init; } = true;

    /// <summary>Whether it may be used in <c>$orderby</c>.</summary>
    public bool IsSortable { get; init; } = true;

    /// <summary>Not declared by the type: made by the request, so its type stands beside its value (JSON format 4.5.3).</summary>
    public bool IsDynamic { get; init; }

    /// <summary>Of a property that a request computes: how large its expression is; null = it is a plain value.</summary>
    public PropertySize? Size { get; init; }

    /// <summary>
    /// For a property of a derived type with a table of its own: the way to that table's row; null = the entity's own table.
    /// </summary>
    public NavigationProperty? Via { get; init; }

    public PropertyAccess Access { get; init; } = PropertyAccess.Full;

    /// <summary>The only values that the source takes; empty = not known (<c>Validation.AllowedValues</c>).</summary>
    public ImmutableArray<string> AllowedValues { get; init; } = [];

    /// <summary>The type in which the column's values are read and compared.</summary>
    public EdmType StoredType => Conversion?.Stored ?? Type;

    /// <summary>What written values must be beyond their type.</summary>
    public ValueRules Rules { get; init; } = ValueRules.None;

    /// <summary>Its values may refer to entities that the caller may not read; else such an entity counts as missing.</summary>
    public bool RefersToAll { get; init; }

    /// <summary>The type of the column as the catalog spells it; empty = not known.</summary>
    public string DeclaredType { get; init; } = "";

    /// <summary>What becomes of values that no payload has a value for.</summary>
    public UnrepresentableValues Unrepresentable { get; init; }

    /// <summary>Whether such a value is served as null.</summary>
    public bool ServesUnrepresentableAsNull =>
        Nullable && Unrepresentable is UnrepresentableValues.Undeclared or UnrepresentableValues.Null;

    /// <summary>Whether the column is part of a foreign key, to a published table or not.</summary>
    public bool IsForeignKey { get; init; }

    /// <summary>What the source's own checks say of single values: a help for who makes values up, and no rule of the service.</summary>
    public ValueRules SourceChecks { get; init; } = ValueRules.None;

    /// <summary>What a number is measured in; null = not declared.</summary>
    public Measure? Measure { get; init; }

    /// <summary>How the service makes the value; null = callers or the source give it.</summary>
    public ValueMaker? Maker { get; init; }

    /// <summary>What a read-only value is computed from, as an expression of the filter language; null = the column holds it.</summary>
    public string? Expression { get; init; }

    /// <summary>Column that says whether a row has the property at all: 0 = it has not; null = every row has.</summary>
    public string? PresenceColumn { get; init; }

    /// <summary>The properties that have columns: itself, or its members.</summary>
    public IEnumerable<Property> Leaves => Members.IsEmpty ? [this] : Members.SelectMany(m => m.Leaves);

    public bool IsGroup => !Members.IsEmpty;
}

/// <summary>How large the expression is that a property stands for.</summary>
/// <param name="Parts">Operators, calls, values, with those of computed values that it names.</param>
/// <param name="Texts">Texts that are put together in one of its values at most.</param>
public sealed record PropertySize(long Parts, long Texts);

/// <summary>The unit of measure or the currency of a number (Measures vocabulary).</summary>
/// <param name="Text">The unit as people write it, a currency's code of ISO 4217, or the path from the entity to the text property that
/// holds it.</param>
public sealed record Measure(string Text, bool IsPath, bool IsCurrency)
{
    public override string ToString() => IsPath ? "= " + Text : Text;
}

/// <summary>What a caller may do with a property, where entities may be written at all.</summary>
public enum PropertyAccess
{
    /// <summary>Sent with a new entity and changed later.</summary>
    Full,

    /// <summary>Sent with a new entity and never changed (<c>Core.Immutable</c>).</summary>
    CreateOnly,

    /// <summary>Never sent (<c>Core.Permissions</c> Read).</summary>
    ReadOnly,
}

/// <summary>One pair of columns that ties two sets together; either may be hidden from callers.</summary>
public sealed record JoinPair(Property Own, Property Target);

/// <summary>A way from an entity to related ones (CSDL 8).</summary>
/// <param name="Name">Public name.</param>
/// <param name="TargetSet">The set in which related entities are found.</param>
/// <param name="IsCollection">Many related entities, or at most one.</param>
/// <param name="Nullable">For a single-valued one: whether there may be none. False for collections.</param>
/// <param name="Joins">The column pairs, in the order of the foreign key.</param>
/// <param name="Partner">The navigation property that leads back; null = none.</param>
public sealed record NavigationProperty(
    string Name,
    string TargetSet,
    bool IsCollection,
    bool Nullable,
    ImmutableArray<JoinPair> Joins,
    string? Partner = null
)
{
    /// <summary>What the source does to related rows when this entity is deleted, as a CSDL action name; null = not stated.</summary>
    public string? OnDelete { get; init; }

    /// <summary>The table between the two sides of a many-to-many relation; null = the sides refer to each other.</summary>
    public LinkTable? Link { get; init; }

    /// <summary>Related entities are part of this one and have no set of their own (CSDL 8.4).</summary>
    public bool IsContained { get; init; }

    /// <summary>The target is in another source, so no statement can join the two.</summary>
    public bool IsRemote { get; init; }

    /// <summary>The related entities hold what ties them to this one; false = this one holds it, or a link table does.</summary>
    public bool IsHeldByTarget { get; init; }
}

/// <summary>Rows that each tie one entity of one set to one of another.</summary>
/// <param name="Own">Columns of the entity, and of the table that refer to it.</param>
/// <param name="Target">Columns of the table, and of the target that they refer to.</param>
public sealed record LinkTable(
    TableSource Source,
    ImmutableArray<(Property Own, string Link)> Own,
    ImmutableArray<(string Link, Property Target)> Target
)
{
    /// <summary>A column that needs a value that no link has, so that none can be made; null = they can.</summary>
    public string? Needs { get; init; }
}

/// <summary>A type of entities: visible and hidden properties, key, navigation (CSDL 6).</summary>
public sealed class EntityType
{
    private readonly FrozenDictionary<string, Property> _properties;
    private readonly FrozenDictionary<string, NavigationProperty> _navigations;

    /// <param name="key">Empty for rows of an unkeyed collection, whose type is a complex one.</param>
    public EntityType(
        string name,
        ImmutableArray<Property> properties,
        ImmutableArray<Property> hidden,
        ImmutableArray<Property> key,
        ImmutableArray<NavigationProperty> navigations,
        string? description = null
    )
    {
        Name = name;
        Properties = properties;
        Hidden = hidden;
        Key = key;
        Navigations = navigations;
        Description = description;
        _properties = properties.ToFrozenDictionary(p => p.Name, StringComparer.Ordinal);
        _navigations = navigations.ToFrozenDictionary(n => n.Name, StringComparer.Ordinal);
    }

    public string Name { get; }

    /// <summary>What callers see, in the order of the declaration or the table.</summary>
    public ImmutableArray<Property> Properties { get; }

    /// <summary>Columns that callers never see but that joins may need.</summary>
    public ImmutableArray<Property> Hidden { get; }

    /// <summary>The key's properties in declared order; always visible, never null.</summary>
    public ImmutableArray<Property> Key { get; }

    public ImmutableArray<NavigationProperty> Navigations { get; }

    /// <summary>Other property lists that identify an entity, each never null (<c>Core.AlternateKeys</c>).</summary>
    public ImmutableArray<ImmutableArray<Property>> AlternateKeys { get; init; } = [];

    /// <summary>The types that derive from this one (CSDL 6.2); an entity is of one of them, or of this type itself.</summary>
    public ImmutableArray<DerivedType> Derived { get; init; } = [];

    public string? Description { get; }

    /// <summary>The property of a name; null = there is none. Names are case-sensitive.</summary>
    public Property? FindProperty(string name) => _properties.GetValueOrDefault(name);

    /// <summary>The navigation property of a name; null = there is none. Names are case-sensitive.</summary>
    public NavigationProperty? FindNavigation(string name) => _navigations.GetValueOrDefault(name);

    /// <summary>All names a path may continue with: properties, then navigation properties.</summary>
    public IEnumerable<string> MemberNames => Properties.Select(p => p.Name).Concat(Navigations.Select(n => n.Name));

    internal EntityType With(ImmutableArray<NavigationProperty> navigations) =>
        new(Name, Properties, Hidden, Key, navigations, Description) { AlternateKeys = AlternateKeys, Derived = Derived };

    internal EntityType With(ImmutableArray<Property> properties) =>
        new(Name, properties, Hidden, Key, Navigations, Description) { AlternateKeys = AlternateKeys, Derived = Derived };
}

/// <summary>A type whose entities have more properties than those of the set's own type.</summary>
/// <param name="Properties">What it adds.</param>
/// <param name="Discriminator">Column of the set's table that tells the type; null = a row in <paramref name="Table"/> does.</param>
/// <param name="Values">Values of the discriminator: long or string.</param>
/// <param name="Table">The way to the row of the type's own table; null = it has none.</param>
/// <param name="Rows">The rows of that table.</param>
public sealed record DerivedType(
    string Name,
    ImmutableArray<Property> Properties,
    Property? Discriminator,
    ImmutableArray<object> Values,
    NavigationProperty? Table,
    EntitySet? Rows
);

/// <summary>An index of the source by the words of texts.</summary>
/// <param name="Columns">Whose texts it holds.</param>
public sealed record TextIndex(string Name, ImmutableArray<string> Columns)
{
    /// <summary>What the engine needs to ask it; nobody else reads it.</summary>
    public string? Form { get; init; }

    /// <summary>How words are taken apart, by the engine's name for it; null = it has no choice, or its usual one.</summary>
    public string? Language { get; init; }
}

/// <summary>One published service: a container of entity sets over one schema. Immutable.</summary>
public sealed class EntityModel
{
    private readonly FrozenDictionary<string, EntitySet> _sets;
    private EntityModel? _stored;

    /// <summary>The only copy: everything but the sets is the other's.</summary>
    private EntityModel(EntityModel other, ImmutableArray<EntitySet> sets)
        : this(other.Service, other.Title, other.Namespace, sets)
    {
        Limits = other.Limits;
        Repeats = other.Repeats;
        Faces = other.Faces;
        DeclaredOperations = other.DeclaredOperations;
        Sql = other.Sql;
        Handover = other.Handover;
        RequiresAudit = other.RequiresAudit;
        About = other.About;
        Deprecation = other.Deprecation;
        VersionOf = other.VersionOf;
    }

    /// <param name="sets">In the order of the declaration; contained and unkeyed ones among them.</param>
    public EntityModel(string service, string title, string schemaNamespace, ImmutableArray<EntitySet> sets)
    {
        Service = service;
        Title = title;
        Namespace = schemaNamespace;
        Sets = sets;
        _sets = sets.Concat(sets.SelectMany(s => s.Type.Derived).Select(d => d.Rows).OfType<EntitySet>())
            .ToFrozenDictionary(s => s.Name, StringComparer.Ordinal);
    }

    /// <summary>The name in addresses: <c>/odata/{service}/</c>.</summary>
    public string Service { get; }

    public string Title { get; }

    /// <summary>Namespace of all types of the service.</summary>
    public string Namespace { get; }

    public string ContainerName => "Container";

    public ImmutableArray<EntitySet> Sets { get; }

    /// <summary>Functions and actions that are declared as such.</summary>
    public ImmutableArray<Operation> DeclaredOperations { get; private init; } = [];

    /// <summary>Functions and actions: those of queries and of rows without a key first, in the order of the sets.</summary>
    public IEnumerable<Operation> Operations =>
        Sets.Where(s => s is { IsFunction: true, ContainedIn: null }).Select(Operation.OfRows).Concat(DeclaredOperations);

    /// <summary>The operation of a name; null = there is none.</summary>
    public Operation? FindOperation(string name) =>
        _sets.GetValueOrDefault(name) is { IsFunction: true, ContainedIn: null, IsTransient: false } rows ? Operation.OfRows(rows)
        : DeclaredOperations.IsEmpty ? null
        : DeclaredOperations.FirstOrDefault(o => o.Name == name);

    /// <summary>The operation that is asked of the entities of a set, by its name with the namespace; null = there is none.</summary>
    public Operation? FindBound(string set, string name) =>
        Sets.FirstOrDefault(s => s.Binding is { } binding && binding.Set == set && binding.Name == name) is { } rows
            ? Operation.OfRows(rows)
            : null;

    /// <summary>The set of a name, contained ones among them; null = there is none.</summary>
    public EntitySet? FindSet(string name) => _sets.GetValueOrDefault(name) is { IsTransient: false } set ? set : null;

    /// <summary>The enumerations and complex types that the properties of the sets use, each once, in the order of their use.</summary>
    public IEnumerable<EdmType> DeclaredTypes =>
        Sets.SelectMany(s => s.Type.Properties.Concat(s.Type.Derived.SelectMany(d => d.Properties)))
            .SelectMany(p => Used(p.Type))
            .DistinctBy(t => (object?)t.Enum ?? t.Complex!.Name);

    /// <summary>The names for primitive types that properties and parameters use, each once.</summary>
    public IEnumerable<TypeDefinition> Definitions =>
        Sets.SelectMany(s => s.Type.Properties.Concat(s.Type.Derived.SelectMany(d => d.Properties)))
            .SelectMany(Parts)
            .Select(p => p.Definition)
            .Concat(Operations.SelectMany(o => o.Given).Select(p => p.Definition))
            .OfType<TypeDefinition>()
            .DistinctBy(d => d.Name);

    private static IEnumerable<Property> Parts(Property property) =>
        property.Members.Concat(property.Type.Complex?.Properties ?? []).SelectMany(Parts).Prepend(property);

    private static IEnumerable<EdmType> Used(EdmType type) =>
        type.Complex is { } complex ? complex.Properties.SelectMany(p => Used(p.Type)).Append(type)
        : type.Enum is null ? []
        : [type];

    /// <summary>The set in which the related entities of a navigation property are found.</summary>
    public EntitySet Target(NavigationProperty navigation) => _sets[navigation.TargetSet];

    /// <summary>What requests are held to.</summary>
    public RequestLimits Limits { get; init; } = RequestLimits.Standard;

    /// <summary>Who may send statements over its sets; null = nobody.</summary>
    public SqlAccess? Sql { get; init; }

    /// <summary>Who may open the page for its consumers; null = nobody.</summary>
    public AccessRule? Handover { get; init; }

    /// <summary>Changes are refused while the audit log cannot be written.</summary>
    public bool RequiresAudit { get; init; }

    /// <summary>What the service says of itself.</summary>
    public ServiceAbout About { get; init; } = ServiceAbout.None;

    /// <summary>The service will not stay; null = it will.</summary>
    public Deprecation? Deprecation { get; init; }

    /// <summary>It is a version of another service; null = it is none.</summary>
    public ServiceVersion? VersionOf { get; init; }

    /// <summary>How the service stands on its faces.</summary>
    public ServiceFaces Faces { get; private init; } = ServiceFaces.Everything;

    /// <summary>By source: the table that keeps the answers of repeatable requests.</summary>
    public ImmutableDictionary<string, RepeatTable> Repeats { get; init; } = ImmutableDictionary<string, RepeatTable>.Empty;

    /// <summary>The same without computed properties: what the sources hold.</summary>
    public EntityModel Stored =>
        _stored ??= Sets.All(s => s.Type.Properties.All(p => p.Expression is null))
            ? this
            : With([
                .. Sets.Select(s =>
                    s.Type.Properties.All(p => p.Expression is null)
                        ? s
                        : s with
                        {
                            Type = s.Type.With([.. s.Type.Properties.Where(p => p.Expression is null)]),
                        }
                ),
            ]);

    /// <summary>The same model over sources that keep the answers of repeatable requests.</summary>
    public EntityModel Keeping(ImmutableDictionary<string, RepeatTable> repeats) => new(this, Sets) { Repeats = repeats };

    /// <summary>The same model, over whose sets others may send statements.</summary>
    /// <param name="sql">Null = nobody may.</param>
    public EntityModel Sending(SqlAccess? sql) => new(this, Sets) { Sql = sql };

    /// <summary>The same model, standing on its faces in another way.</summary>
    public EntityModel On(ServiceFaces faces) => new(this, Sets) { Faces = faces };

    /// <summary>The same model with other sets, such as those that a caller may know of.</summary>
    public EntityModel With(ImmutableArray<EntitySet> sets) => new(this, sets);

    /// <summary>The model whose queries of entities have the types that their sets have in it; those without their set are gone.</summary>
    public EntityModel WithEntityQueries() =>
        Sets.All(s => s.EntitiesOf is null && s.Binding is null)
            ? this
            : With([
                .. Sets.Where(s => s.EntitiesOf is not { } of || FindSet(of) is not null)
                    .Where(s => s.Binding is not { } binding || FindSet(binding.Set) is not null)
                    .Select(s => s.EntitiesOf is { } of ? s with { Type = FindSet(of)!.Type } : s),
            ]);

    /// <summary>The same model with other functions and actions beside its sets.</summary>
    /// <exception cref="ArgumentException">A name is taken.</exception>
    public EntityModel With(ImmutableArray<Operation> operations) =>
        operations.Select(o => o.Name).Concat(Sets.Select(s => s.Name)).GroupBy(n => n).FirstOrDefault(g => g.Count() > 1) is { } twice
            ? throw new ArgumentException($"Two of the service are called '{twice.Key}'.", nameof(operations))
            : new EntityModel(this, Sets) { DeclaredOperations = operations };

    /// <summary>The type's name with its namespace.</summary>
    public string QualifiedName(EntityType type) => $"{Namespace}.{type.Name}";
}
