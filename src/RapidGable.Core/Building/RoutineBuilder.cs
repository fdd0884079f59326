using System.Collections.Immutable;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Building;

/// <summary>
/// A routine of the catalog -> the statements that call it, with its parameters as the catalog and the declaration describe them.
/// </summary>
/// <param name="Set">The declaration with what the catalog decides: whether it changes something, and how much it gives.</param>
/// <param name="Columns">What comes back, where the catalog tells it; null = the last statement is described.</param>
internal sealed record RoutineDraft(SetDeclaration Set, SourceRoutine Routine, QueryDraft Query, ImmutableArray<SourceColumn>? Columns);

/// <summary>Makes calls of routines.</summary>
internal sealed class RoutineBuilder(TypeBuilder types, NamingPolicy names, Diagnostics diagnostics)
{
    /// <summary>Null when the routine cannot be published, which is then reported.</summary>
    /// <param name="set">Whose query names a routine.</param>
    public RoutineDraft? Build(SetDeclaration set, SourceCatalog catalog, SqlDialect dialect)
    {
        var declared = set.Query!.Routine!;
        if (Find(declared, set.Source.Value, catalog) is not { } routine)
            return null;
        if (Parameters(set, routine, dialect) is not { } parameters)
            return null;
        var changes = set.Query.IsChangesWritten ? set.Query.Changes : routine.MayChange;
        var commits = set.Query.Commits || routine.Commits;
        if (commits && !changes)
            diagnostics.Error("routine", $"'{routine.Name}' ends transactions by itself, so that it changes something.", declared.Location);
        var call = new RoutineCall(routine, parameters, dialect, set.Source.Value);
        var gives = set.Written.Contains("gives") ? set.Query.Gives : call.Gives;
        return new RoutineDraft(
            set with
            {
                Query = set.Query with { Changes = changes, Commits = commits, Gives = gives },
                Operations = changes ? SetOperations.Call : SetOperations.Read,
                Description = set.Description ?? (routine.Comment is { } text ? new Located<string>(text, declared.Location) : null),
            },
            routine,
            call.Draft(),
            call.Columns
        );
    }

    private SourceRoutine? Find(Located<string> declared, string source, SourceCatalog catalog)
    {
        var found = catalog.FindRoutines(declared.Value);
        if (found.Length == 1)
            return found[0];
        if (found.IsEmpty)
            diagnostics.Error(
                "no-object",
                $"The source '{source}' has no function or procedure '{declared.Value}'."
                    + NearestName.Hint(declared.Value, catalog.Routines.Select(r => r.Name)),
                declared.Location,
                "See what it offers with 'gable look'."
            );
        else
            diagnostics.Error(
                "routine",
                $"'{declared.Value}' stands for {found.Length} routines.",
                declared.Location,
                $"Name one with the types of its parameters: {string.Join(", ", found.Select(f => $"'{f.Signature}'"))}."
            );
        return null;
    }

    /// <summary>A parameter of the routine with what callers give for it; null = it is left to its default.</summary>
    private List<(RoutineParameter Own, OperationParameter? Given)>? Parameters(
        SetDeclaration set,
        SourceRoutine routine,
        SqlDialect dialect
    )
    {
        var declared = set.Query!.Parameters;
        var isSound = true;
        var taken = routine.Parameters.Where(p => p.IsTaken).ToList();
        foreach (var unknown in declared.Where(d => !taken.Exists(t => t.Name == d.Name.Value)))
        {
            isSound = false;
            diagnostics.Error(
                "routine",
                $"'{routine.Name}' takes no parameter '{unknown.Name.Value}'."
                    + NearestName.Hint(unknown.Name.Value, taken.Select(t => t.Name)),
                unknown.Name.Location
            );
        }
        var builder = new QueryBuilder(types, diagnostics);
        var all = new List<(RoutineParameter, OperationParameter?)>();
        foreach (var own in routine.Parameters)
        {
            var told = declared.FirstOrDefault(d => d.Name.Value == own.Name);
            if (!own.IsTaken || (own is { Column.Type: null, Default: not null } && told is null))
                all.Add((own, null));
            else if (Given(set, routine, own, told, builder, dialect) is { } given)
                all.Add((own, given));
            else
                isSound = false;
        }
        return isSound ? all : null;
    }

    private OperationParameter? Given(
        SetDeclaration set,
        SourceRoutine routine,
        RoutineParameter own,
        ParameterDeclaration? told,
        QueryBuilder builder,
        SqlDialect dialect
    )
    {
        var place = set.Query!.Routine!.Location;
        if (own.Column?.Type is null && told?.Column.Type is null)
        {
            diagnostics.Error(
                "routine",
                $"The parameter '{own.Name}' of '{routine.Name}' cannot be published: {own.Column?.Reason ?? own.DeclaredType}.",
                told?.Name.Location ?? place,
                "Call the routine in a 'select', which makes the value from others."
            );
            return null;
        }
        var declaration = told
            ?? new ParameterDeclaration(new Located<string>(own.Name, place), new ColumnDeclaration(new Located<string>(own.Name, place)));
        var publicName = declaration.Public?.Value
            ?? PublicNames.Property(own.Name.TrimStart('$') is var n && own.Name != n ? "p" + n : n, names);
        return builder.Parameter(
            declaration with
            {
                Public = new Located<string>(publicName, declaration.Name.Location),
                IsRequired = declaration.IsRequired && own.Default is null,
            },
            dialect,
            own.Column
        );
    }
}
