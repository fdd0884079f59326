using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Declarations;

/// <summary>Which services and sets stand on one face, for the whole workspace.</summary>
/// <param name="Patterns">With <c>*</c> and <c>?</c>, of a service or of <c>service/set</c>.</param>
public sealed record FacePatterns(Located<string> Face, ImmutableArray<Located<string>> Patterns);

/// <summary>How a service stands on the plain REST face.</summary>
public sealed record RestDeclaration
{
    /// <summary>Nothing is declared.</summary>
    public static RestDeclaration None { get; } = new();

    public Located<string>? Base { get; init; }

    public ImmutableArray<Located<string>> FormerBases { get; init; } = [];

    public Located<Casing>? Names { get; init; }

    public Located<Casing>? Paths { get; init; }

    public bool HasNamedKeys { get; init; }

    public bool HasBareLists { get; init; }

    public Located<string>? Format { get; init; }
}

/// <summary>How a set stands on the plain REST face.</summary>
public sealed record RestSetDeclaration
{
    /// <summary>Nothing is declared.</summary>
    public static RestSetDeclaration None { get; } = new();

    public Located<string>? Path { get; init; }

    public ImmutableArray<Located<string>> FormerPaths { get; init; } = [];

    public Located<string>? Format { get; init; }

    public int? CacheSeconds { get; init; }
}
