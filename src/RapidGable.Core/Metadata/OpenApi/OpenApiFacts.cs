using System.Collections.Immutable;
using System.Text.Json;
using RapidGable.Model;

namespace RapidGable.Metadata.OpenApi;

/// <summary>A way to sign in, as OpenAPI names it.</summary>
public enum OpenApiSignIn
{
    /// <summary>A name and a password (RFC 7617).</summary>
    Basic,

    /// <summary>A key of the service, sent like a token (RFC 6750).</summary>
    ApiKey,

    /// <summary>A signed token of an issuer (RFC 7519).</summary>
    Token,

    /// <summary>A client certificate.</summary>
    Certificate,
}

/// <summary>A property that callers send.</summary>
/// <param name="IsRequired">A body without it is refused.</param>
public sealed record OpenApiMember(Property Property, bool IsRequired);

/// <summary>What a caller may do with a set.</summary>
/// <param name="Set">As the caller sees it; of a set that they may only write, its key alone.</param>
/// <param name="Operations">What they may do.</param>
/// <param name="Create">What they send of a new row; empty = they create none.</param>
/// <param name="Update">What they send of a row that changes; empty = they change none.</param>
/// <param name="Streams">The streams whose content they may change.</param>
/// <param name="Anyone">What callers who are not signed in may do.</param>
/// <param name="Limited">Of what they may do: what they may do with some rows or columns only.</param>
/// <param name="MayUpsert">A PUT to a key that is not there creates the row.</param>
public sealed record OpenApiSet(
    EntitySet Set,
    SetOperations Operations,
    ImmutableArray<OpenApiMember> Create,
    ImmutableArray<OpenApiMember> Update,
    ImmutableArray<string> Streams,
    SetOperations Anyone,
    SetOperations Limited,
    bool MayUpsert
)
{
    /// <summary>Whether the caller may do something with the set.</summary>
    public bool May(SetOperations operation) => Operations.HasFlag(operation);
}

/// <summary>An answer that is kept as an example.</summary>
/// <param name="Name">Of the request that it answers.</param>
/// <param name="Summary">What the request is about, in words.</param>
/// <param name="Target">Path and query of the request.</param>
/// <param name="IsForAll">Its values are made up, or everybody may read them; else those see it whom no rule keeps from a row.</param>
public sealed record KeptAnswerExample(string Name, string Summary, string Method, string Target, JsonElement Body, bool IsForAll);

/// <summary>All that a description is made of.</summary>
/// <param name="Model">What the caller may know of, in the names of the face.</param>
/// <param name="Root">The service's absolute address, with a slash at its end.</param>
/// <param name="Revision">Of what is published.</param>
/// <param name="SignIn">The ways to sign in; empty = nobody can.</param>
public sealed record OpenApiFacts(
    EntityModel Model,
    ImmutableArray<OpenApiSet> Sets,
    string Root,
    string Revision,
    ImmutableArray<OpenApiSignIn> SignIn
)
{
    /// <summary>The caller may send statements over the sets.</summary>
    public bool TakesSql { get; init; }

    /// <summary>Callers who are not signed in may, too.</summary>
    public bool TakesSqlOfAnyone { get; init; }

    /// <summary>Answers that are kept as examples; those that the caller may see are shown.</summary>
    public ImmutableArray<KeptAnswerExample> Examples { get; init; } = [];

    /// <summary>The path of the service's address, with slashes at both ends.</summary>
    public string Path => new Uri(Root).AbsolutePath;

    /// <summary>What the caller may do with a set; null = nothing.</summary>
    public OpenApiSet? Find(string set) => Sets.FirstOrDefault(s => s.Set.Name == set);
}

/// <summary>The forms of a description.</summary>
/// <param name="IsOlder">OpenAPI 3.0; else 3.1.</param>
/// <param name="IsYaml">YAML; else JSON.</param>
public sealed record OpenApiForm(bool IsOlder, bool IsYaml);
