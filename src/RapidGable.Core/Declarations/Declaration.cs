using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Declarations;

/// <summary>A value together with the place where it is written.</summary>
public sealed record Located<T>(T Value, SourceLocation Location);

/// <summary>The folder of text files that holds everything.</summary>
public sealed record WorkspaceDeclaration(
    string Folder, string Title, ImmutableArray<SourceDeclaration> Sources, ImmutableArray<ServiceDeclaration> Services);

/// <summary>One database connection.</summary>
/// <param name="Name">The file's name without its ending.</param>
/// <param name="Engine">The engine's name, such as <c>sqlite</c>.</param>
/// <param name="Settings">What the engine needs, with references to variables already resolved.</param>
/// <param name="Location">Of the file.</param>
public sealed record SourceDeclaration(
    string Name, Located<string> Engine, ImmutableDictionary<string, Located<string>> Settings, SourceLocation Location);

/// <summary>What one service publishes.</summary>
public sealed record ServiceDeclaration(
    string Name, string Title, Located<string> Source, string Namespace, ImmutableArray<SetDeclaration> Sets, SourceLocation Location)
{
    public NamingPolicy Names { get; init; }
}

/// <summary>One entity set; everything but the object's name may be left to the catalog.</summary>
public sealed record SetDeclaration(Located<string> From, SourceLocation Location)
{
    /// <summary>The source that holds the object.</summary>
    public required Located<string> Source { get; init; }

    /// <summary>Outside name; null = from the object's name.</summary>
    public Located<string>? Name { get; init; }

    /// <summary>Name of the entity type; null = from the object's name.</summary>
    public Located<string>? TypeName { get; init; }

    /// <summary>Columns of the key; empty = from the catalog.</summary>
    public ImmutableArray<Located<string>> Key { get; init; } = [];

    /// <summary>Columns that callers never see.</summary>
    public ImmutableArray<Located<string>> Hide { get; init; } = [];

    /// <summary>Column name -> outside name.</summary>
    public ImmutableArray<(Located<string> Column, Located<string> Name)> Rename { get; init; } = [];

    /// <summary>Rows in a page; null = the service's or the built-in default.</summary>
    public int? Page { get; init; }

    /// <summary>The largest page a caller may ask for.</summary>
    public int? LargestPage { get; init; }

    public SetOperations Operations { get; init; } = SetOperations.Read;

    /// <summary>Who may read; <see cref="AccessRule.Nobody"/> when neither the set nor the service says.</summary>
    public AccessRule Read { get; init; } = AccessRule.Nobody;
}
