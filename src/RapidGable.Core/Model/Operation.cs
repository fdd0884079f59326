using System.Collections.Immutable;

namespace RapidGable.Model;

/// <summary>Whether calling an operation may change something.</summary>
public enum OperationKind
{
    /// <summary>It only reads, and may be called by GET.</summary>
    Function,

    /// <summary>It may change something, and is called by POST alone.</summary>
    Action,
}

/// <summary>What a query gives.</summary>
public enum QueryResult
{
    /// <summary>As many rows as there are.</summary>
    Rows,

    /// <summary>One row, or none.</summary>
    Row,

    /// <summary>The value of one column of one row, or none.</summary>
    Value,

    /// <summary>Nothing; only for what changes something.</summary>
    Nothing,
}

/// <summary>How a query is carried out that no other statement can read from: all of it in one transaction.</summary>
/// <param name="Before">The statements before the last one, which the set's source is; what they give is not looked at.</param>
/// <param name="MayChange">It may change something, and is an action.</param>
public sealed record CallSteps(ImmutableArray<QuerySource> Before, bool MayChange)
{
    /// <summary>It gives several results, each of which is one value of its one row.</summary>
    public bool HasResults { get; init; }

    /// <summary>It ends transactions by itself, so that it cannot be a part of one.</summary>
    public bool Commits { get; init; }
}

/// <summary>How an operation belongs to the entities of a set (Protocol 11.5.1).</summary>
/// <param name="Set">The set.</param>
/// <param name="Name">The operation with its namespace, as it stands behind the address of an entity.</param>
/// <param name="Key">Placeholders of the parameters that take the key of the entity, in the order of the key.</param>
/// <param name="KeyNames">The names of the properties of the key.</param>
public sealed record OperationBinding(string Set, string Name, ImmutableArray<string> Key, ImmutableArray<string> KeyNames);

/// <summary>Queries that belong together, for people.</summary>
public sealed record QueryGroup(string Title, string? Description);

/// <summary>A value that an operation is given, by its caller or by the service.</summary>
/// <param name="Nullable">It may be left out, and is null then.</param>
public sealed record OperationParameter(string Name, EdmType Type, bool Nullable)
{
    public string? Description { get; init; }

    /// <summary>As in <see cref="Property.Definition"/>.</summary>
    public TypeDefinition? Definition { get; init; }

    /// <summary>The name in the statement; it stays when a face writes names in another case.</summary>
    public string Placeholder { get; init; } = Name;

    /// <summary>Taken when none is given, in the form of the type's literal without quotes; null = there is none.</summary>
    public string? DefaultValue { get; init; }

    /// <summary>What given values must be beyond their type.</summary>
    public ValueRules Rules { get; init; } = ValueRules.None;

    /// <summary>How given values become those of the statement; null = they are the same.</summary>
    public ValueConversion? Conversion { get; init; }

    /// <summary>As in <see cref="Property.StorageForm"/>.</summary>
    public string? StorageForm { get; init; }

    /// <summary>
    /// What of the caller the service takes for it, which nobody can set: <c>user</c>, <c>roles</c> or the name of an attribute. Null = the
    /// caller gives the value.
    /// </summary>
    public string? TakenFrom { get; init; }

    /// <summary>A value that shows what is meant, in the form of <see cref="DefaultValue"/>; null = none.</summary>
    public string? Example { get; init; }

    /// <summary>A value to try the operation with: the declared example, else one that its type and rules take.</summary>
    public string Sample =>
        Example
        ?? DefaultValue
        ?? (Rules.Values.IsEmpty ? Rules.Minimum ?? Rules.Maximum : Rules.Values[0]) switch
        {
            { } value => ValueConversion.Text(value),
            null => Type.Kind switch
            {
                EdmKind.Enum => Type.Enum!.Members[0].Name,
                EdmKind.Boolean => "true",
                EdmKind.String => new string('a', Math.Max(1, Rules.MinLength ?? 1)),
                EdmKind.Guid => "0d9b3f5e-6c1a-4e8b-9f42-7a5c8d2e1b30",
                EdmKind.Date => "2024-05-01",
                EdmKind.TimeOfDay => "12:00:00",
                EdmKind.DateTimeOffset => "2024-05-01T12:00:00Z",
                EdmKind.Duration => "PT1H",
                EdmKind.Binary => "AQI",
                _ => "1",
            },
        };

    /// <summary>The caller must give a value.</summary>
    public bool IsRequired => TakenFrom is null && DefaultValue is null && !Nullable;

    /// <summary>The parameter as documents describe a property.</summary>
    public Property AsProperty() =>
        new(Name, Type, Nullable, Placeholder, StorageForm)
        {
            Description = Description,
            Definition = Definition,
            DefaultValue = DefaultValue,
            Rules = Rules,
            Conversion = Conversion,
        };
}

/// <summary>Something that a service does when it is called by its name.</summary>
/// <param name="Name">Unique among the operations and sets of a service.</param>
/// <param name="Rows">The rows that it gives, as a set that further options apply to; null = it gives no rows.</param>
public sealed record Operation(string Name, OperationKind Kind, EntitySet? Rows)
{
    /// <summary>In the order in which they are declared.</summary>
    public ImmutableArray<OperationParameter> Parameters { get; init; } = [];

    /// <summary>The type of the single value that it gives; null = it gives rows, or nothing.</summary>
    public EdmType? Value { get; init; }

    public string? Description { get; init; }

    /// <summary>Who may call it, and so know of it; rows without a key go by the rules of their set instead.</summary>
    public AccessRule Who { get; init; } = AccessRule.Nobody;

    /// <summary>Filters, orders and pages may follow the call.</summary>
    public bool IsComposable => Kind == OperationKind.Function && Rows?.Gives == QueryResult.Rows;

    /// <summary>It can be read by its name alone, so that the service document lists it.</summary>
    public bool IsInServiceDocument => Kind == OperationKind.Function && Rows?.Binding is null && !Parameters.Any(p => p.IsRequired);

    /// <summary>What callers give beside the entity that it is asked of.</summary>
    public IEnumerable<OperationParameter> Given =>
        Rows?.Binding is { } binding ? Parameters.Where(p => !binding.Key.Contains(p.Placeholder)) : Parameters;

    /// <summary>Rows without a key or of a query, which are a function, or an action (CSDL 12).</summary>
    public static Operation OfRows(EntitySet set) =>
        new(set.Name, set.IsAction ? OperationKind.Action : OperationKind.Function, set)
        {
            Description = set.Description ?? set.Type.Description,
            Parameters = set.Parameters,
            Value = set.Gives == QueryResult.Value ? set.Type.Properties[0].Type : null,
        };
}
