using System.Collections.Immutable;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Building;

/// <summary>Queries that call routines, and those that no other statement can read from.</summary>
public sealed partial class ModelBuilder
{
    /// <summary>The declaration with what the catalog says of its routine, and what the routine gives; null = it is wrong.</summary>
    private async Task<(SetDeclaration Set, SourceObject Item)?> RoutineAsync(
        SetDeclaration set,
        ISource source,
        CancellationToken cancellation
    )
    {
        var builder = new RoutineBuilder(_parts.Types, _declaration.Names, _diagnostics);
        if (builder.Build(set, _catalogs[set.Source.Value], source.Dialect) is not { } draft)
            return null;
        set = draft.Set;
        _queries[set] = draft.Query;
        CheckCall(set);
        try
        {
            var item = await RoutineItemAsync(set, draft, source, cancellation);
            if (item is null || set.Written.Contains("gives"))
                return item is null ? null : (set, item);
            // A function of one column gives a value, and of several a row.
            var isRow = set.Query!.Gives == QueryResult.Value && item.Columns.Length > 1;
            if (isRow)
            {
                _queries.Remove(set);
                set = set with { Query = set.Query with { Gives = QueryResult.Row } };
                _queries[set] = draft.Query;
            }
            return (set, item);
        }
        catch (SourceException exception) when (exception.Kind is SourceFaultKind.Broken or SourceFaultKind.Changed)
        {
            _diagnostics.Error(
                "routine",
                $"The call of '{draft.Routine.Name}' cannot be published: {exception.Message}",
                set.Query!.Routine!.Location
            );
            return null;
        }
    }

    /// <summary>Each result of a procedure as a column that holds its rows as JSON.</summary>
    private SourceObject? Results(SetDeclaration set, RoutineDraft draft, SqlDialect dialect)
    {
        var place = set.Query!.Routine!.Location;
        if (dialect.Routines != RoutineForm.Variables || !draft.Routine.IsProcedure || draft.Columns is not null)
            _diagnostics.Error("routine", $"'{draft.Routine.Name}' gives one result, or parameters, and not several results.", place);
        else if (set.Columns.IsEmpty || set.Columns.Any(c => c.Type is null))
            _diagnostics.Error(
                "routine",
                $"What the results of '{draft.Routine.Name}' hold is not known.",
                place,
                "Name each under 'columns', in their order, with its type, such as 'totals: { type: collection(Total) }'."
            );
        else
            return QueryObject.Of(
                set.From.Value,
                draft.Routine.Name,
                default,
                set.Columns.Select(c => new SourceColumn(c.Column.Value, "", EdmType.String, Nullable: false, "a result"))
            );
        return null;
    }

    /// <summary>What is said of rows that are read, where a routine gives none of these.</summary>
    private void CheckCall(SetDeclaration set)
    {
        var routine = set.Query!.Routine!;
        if (!set.Query.Changes && set.Query.Gives == QueryResult.Nothing)
            _diagnostics.Error("routine", $"'{routine.Value}' only reads, and gives something.", routine.Location);
        if (CallOf(set) is null)
            return;
        foreach (var word in new[] { "key", "order", "page" }.Where(w => set.Written.Contains(w)))
            _diagnostics.Error(
                "query",
                $"'{word}' is about rows that are read in pages, and what '{routine.Value}' gives comes once.",
                routine.Location
            );
        if (set.Rules.Any(r => r.Rows is not null || r.WithCheck is not null || !r.Hide.IsEmpty || !r.Mask.IsEmpty))
            _diagnostics.Error(
                "rule",
                $"Rules about rows and columns cannot hold for what '{routine.Value}' gives, which no statement can read from.",
                routine.Location
            );
    }

    private async Task<SourceObject?> RoutineItemAsync(
        SetDeclaration set,
        RoutineDraft draft,
        ISource source,
        CancellationToken cancellation
    )
    {
        if (set.Query!.HasResults)
            return Results(set, draft, source.Dialect);
        if (draft.Columns is { } columns && set.Query!.Gives != QueryResult.Rows)
            return QueryObject.Of(set.From.Value, draft.Routine.Name, default, set.Query.Gives == QueryResult.Nothing ? [] : columns);
        if (CallOf(set) is { MayChange: false } && set.Query!.Gives is QueryResult.Row or QueryResult.Value && draft.Query.Before.IsEmpty)
        {
            _diagnostics.Error(
                "routine",
                $"What the procedure '{draft.Routine.Name}' gives is read as rows.",
                set.Query!.Routine!.Location,
                "Write 'gives: rows'."
            );
            return null;
        }
        if (CallOf(set) is not null)
            return await ActionAsync(set, draft.Query, source, cancellation);
        var (text, arguments) = QueryBuilder.Trial(draft.Query, source.Dialect);
        return await source.DescribeQueryAsync(set.From.Value, text, arguments, cancellation);
    }

    /// <summary>How a query is carried out; null = its rows are read like those of a table.</summary>
    private CallSteps? CallOf(SetDeclaration declaration)
    {
        if (declaration.Query is not { } query || !_queries.TryGetValue(declaration, out var draft))
            return null;
        var isOutermost = !draft.Before.IsEmpty || draft.Pieces[0].StartsWith("CALL ", StringComparison.Ordinal);
        return query.Changes || isOutermost
            ? new CallSteps(draft.Before, query.Changes) { Commits = query.Commits, HasResults = query.HasResults }
            : null;
    }

    /// <summary>The sets with the queries that give entities of others, which these name by their keys.</summary>
    private ImmutableArray<EntitySet> WithEntities(ImmutableArray<EntitySet> sets, List<SetDraft> drafts) =>
        [.. sets.Select(set => WithEntities(set, drafts.First(d => d.Name == set.Name), sets)).OfType<EntitySet>()];

    private EntitySet? WithEntities(EntitySet set, SetDraft draft, ImmutableArray<EntitySet> sets)
    {
        var declaration = draft.Declaration;
        if (declaration.Query?.Of is { } of && _guard.Try(declaration, () => Entities(set, draft, of, sets)) is var entities)
        {
            if (entities is null)
                return null;
            set = entities;
        }
        return declaration.Query?.BoundTo is { } to ? _guard.Try(declaration, () => Bound(set, declaration.Query, to, sets)) : set;
    }

    /// <summary>A query that is asked of the entities of a set, whose key its parameters take.</summary>
    private EntitySet? Bound(EntitySet query, QueryDeclaration declared, Located<string> to, ImmutableArray<EntitySet> sets)
    {
        EntitySet? Wrong(string message, string? advice = null)
        {
            _diagnostics.Error("query", message, to.Location, advice);
            return null;
        }
        var candidates = sets.Where(s => s is { IsFunction: false, ContainedIn: null }).ToList();
        if (candidates.Find(s => s.Name == to.Value) is not { } set)
            return Wrong($"There is no set '{to.Value}' with a key.{NearestName.Hint(to.Value, candidates.Select(s => s.Name))}");
        if (set.Type.MemberNames.Contains(query.Name))
            return Wrong($"'{set.Name}' has a property or relation '{query.Name}'.", "Give the query another name.");
        var key = ImmutableArray.CreateBuilder<string>();
        foreach (var part in set.Type.Key)
        {
            const string Advice = "Call a parameter like the column, or write 'key: COLUMN' for one.";
            if (KeyParameter(query, declared, part) is not { } parameter)
                return Wrong($"'{query.Name}' has no parameter that takes '{part.Column}', a part of the key of '{set.Name}'.", Advice);
            var isSame = parameter.Type.Kind == part.Type.Kind || parameter.Type.IsIntegral && part.Type.IsIntegral;
            if (!isSame || parameter.Conversion is null != part.Conversion is null)
                return Wrong(
                    $"The parameter '{parameter.Name}' is {parameter.Type.Name}, and '{part.Column}' of '{set.Name}' is {part.Type.Name}.",
                    Advice
                );
            key.Add(parameter.Placeholder);
        }
        var name = $"{_declaration.Namespace}.{query.Name}";
        return query with { Binding = new OperationBinding(set.Name, name, key.ToImmutable(), [.. set.Type.Key.Select(k => k.Name)]) };
    }

    /// <summary>The parameter that takes a part of the key: the one that says so, else the one that is called like it.</summary>
    private static OperationParameter? KeyParameter(EntitySet query, QueryDeclaration declared, Property part)
    {
        var told = declared.Parameters.FirstOrDefault(p => p.Key?.Value == part.Column);
        return query.Parameters.FirstOrDefault(p =>
            told is null
                ? p.Placeholder == part.Column || p.Placeholder == part.Name
                : p.Placeholder == (told.Public?.Value ?? told.Name.Value)
        );
    }

    private EntitySet? Entities(EntitySet query, SetDraft draft, Located<string> of, ImmutableArray<EntitySet> sets)
    {
        void Wrong(string message, string? advice = null) => _diagnostics.Error("query", message, of.Location, advice);
        var candidates = sets.Where(s => s is { IsFunction: false, ContainedIn: null }).ToList();
        if (candidates.Find(s => s.Name == of.Value) is not { } set)
            Wrong($"There is no set '{of.Value}' with a key.{NearestName.Hint(of.Value, candidates.Select(s => s.Name))}");
        else if (set.Source.Source != query.Source.Source)
            Wrong($"'{set.Name}' is of another source than the query '{query.Name}'.");
        else if (draft.Declaration.Written.FirstOrDefault(w => w is "key" or "type" or "order" or "page" or "columns") is { } word)
            Wrong($"'{word}' of '{query.Name}' is that of '{set.Name}', whose entities it gives.", $"Take '{word}' away.");
        else if (set.Type.Key.FirstOrDefault(k => draft.Item.Columns.All(c => c.Name != k.Column)) is { } missing)
            Wrong(
                $"The query '{query.Name}' has no column '{missing.Column}', by which it would name entities of '{set.Name}'.",
                $"Its columns: {string.Join(", ", draft.Item.Columns.Select(c => c.Name))}."
            );
        else if (draft.Declaration.Rules.Any(r => r.Rows is not null || !r.Hide.IsEmpty || !r.Mask.IsEmpty))
            Wrong($"The rows and columns of '{query.Name}' are those of '{set.Name}', whose rules hold for them.");
        else if (query.IsAction && query.Gives != QueryResult.Row)
            Wrong($"What changes something gives one entity of '{set.Name}', or rows of its own.", "Write 'gives: row'.");
        else if (!query.IsAction && (query.Gives != QueryResult.Rows || query.Call is not null))
            Wrong(
                query.Call is null
                    ? $"Entities of '{set.Name}' come as rows."
                    : $"What a procedure gives cannot be read as entities of '{set.Name}'.",
                query.Call is null ? "Write 'gives: rows', or leave it out." : "Publish a SELECT, or rows of their own."
            );
        else
            return query with
            {
                EntitiesOf = set.Name,
                OfKey = [.. set.Type.Key.Select(k => k.Column)],
                Type = set.Type,
                Description = query.Description ?? query.Type.Description,
            };
        return null;
    }

    /// <summary>The call of a routine as people read it.</summary>
    private static string CallText(QueryDraft query) =>
        string.Join(
            ";\n",
            query
                .Before.Select(b => (b.Pieces, Marks: b.Parameters))
                .Append((query.Pieces, query.Marks))
                .Select(s => string.Concat(s.Pieces.Zip(s.Marks, (piece, mark) => $"{piece}:{mark.Name}")) + s.Pieces[^1])
        );
}
