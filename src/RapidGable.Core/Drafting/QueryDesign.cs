using System.Collections.Immutable;
using System.Text.Json.Nodes;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Model;

namespace RapidGable.Drafting;

/// <summary>A query as it is declared, beside what becomes of it.</summary>
/// <param name="Path">The words that lead to it in the file.</param>
/// <param name="Written">Its words as texts, lists and mappings.</param>
public sealed record QueryDesign(string Name, ImmutableArray<YamlEdit.Step> Path, JsonObject Written)
{
    /// <summary>The line of the file in which it starts, from 1.</summary>
    public int Line { get; init; }

    public required string Source { get; init; }

    /// <summary>It may change something, and is called by POST.</summary>
    public bool Changes { get; init; }

    /// <summary>What is published; null = its declaration has faults.</summary>
    public EntitySet? Built { get; init; }

    internal static QueryDesign Of(SetDeclaration query, ImmutableArray<YamlEdit.Step> path, YamlMapping node, BuiltService? built)
    {
        var name = query.Name?.Value ?? "";
        var model = built?.Model.FindSet(name);
        return new QueryDesign(name, path, ServiceDesign.Words(node))
        {
            Line = query.Location.Line,
            Source = query.Source.Value,
            Changes = model?.IsAction ?? query.Query!.Changes,
            Built = model,
        };
    }
}
