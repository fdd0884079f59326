using System.Collections.Immutable;

namespace RapidGable.Model;

/// <summary>How a service stands on its faces.</summary>
public sealed record ServiceFaces(FaceShape OData, RestShape Rest)
{
    /// <summary>All of the service on all faces, with the names of the model.</summary>
    public static ServiceFaces Everything { get; } = new(new FaceShape(), new RestShape());

    /// <summary>The shape of a face by its short name.</summary>
    /// <exception cref="ArgumentOutOfRangeException">There is no such face.</exception>
    public FaceShape Of(string face) =>
        face switch
        {
            "odata" => OData,
            "rest" => Rest,
            _ => throw new ArgumentOutOfRangeException(nameof(face), face, null),
        };
}

/// <summary>What of a service stands on one face.</summary>
public record FaceShape
{
    /// <summary>Whether the service stands on the face at all.</summary>
    public bool IsOffered { get; init; } = true;

    /// <summary>Names of the sets that do not stand on it.</summary>
    public ImmutableHashSet<string> Without { get; init; } = [];

    /// <summary>How the face writes the names of properties and relations.</summary>
    public Casing Names { get; init; }

    /// <summary>Whether the face shows the model as it is.</summary>
    public bool IsWhole => IsOffered && Without.IsEmpty && Names == Casing.AsIs;
}

/// <summary>How a service stands on the plain REST face.</summary>
public sealed record RestShape : FaceShape
{
    /// <summary>The parameters that every list takes, so that no parameter of a query has such a name.</summary>
    public static ImmutableArray<string> ListParameters { get; } =
    ["filter", "sort", "fields", "include", "search", "limit", "after", "rows", "total", "format"];

    /// <summary>Path of the service, with slashes at both ends; null = <c>/rest/{service}/</c>.</summary>
    public string? Base { get; init; }

    /// <summary>Paths at which the service stood before, with slashes at both ends; they redirect.</summary>
    public ImmutableArray<string> FormerBases { get; init; } = [];

    /// <summary>How the segments of paths are written where a set declares none.</summary>
    public Casing Paths { get; init; }

    /// <summary>Keys are written with the names of their properties: <c>station_id=1,sensor_no=2</c>.</summary>
    public bool HasNamedKeys { get; init; }

    /// <summary>Lists are bare arrays; else objects with <c>rows</c>, <c>next</c> and <c>total</c>.</summary>
    public bool HasBareLists { get; init; }

    /// <summary>The format when a request asks for none, as a short name; null = <c>json</c>.</summary>
    public string? Format { get; init; }

    /// <summary>What is declared of single sets, by their names.</summary>
    public ImmutableDictionary<string, RestSet> Sets { get; init; } = ImmutableDictionary<string, RestSet>.Empty;

    /// <summary>The path of a service, with slashes at both ends.</summary>
    public string BaseOf(string service) => Base ?? $"/rest/{service}/";

    /// <summary>What is declared of a set.</summary>
    public RestSet Of(string set) => Sets.GetValueOrDefault(set) ?? RestSet.Plain;

    /// <summary>The path of a set below the service, decoded, without slashes at its ends.</summary>
    public string PathOf(string set) => Of(set).Path ?? Paths.Apply(set);
}

/// <summary>How a set stands on the plain REST face.</summary>
public sealed record RestSet
{
    public static RestSet Plain { get; } = new();

    /// <summary>The path below the service, decoded; null = made from the set's name.</summary>
    public string? Path { get; init; }

    /// <summary>Paths at which the set stood before; they redirect.</summary>
    public ImmutableArray<string> FormerPaths { get; init; } = [];

    /// <summary>The format when a request asks for none, as a short name; null = that of the service.</summary>
    public string? Format { get; init; }

    /// <summary>Seconds for which caches may keep what anonymous callers read; null = they ask each time.</summary>
    public int? CacheSeconds { get; init; }
}
