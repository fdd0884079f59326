using System.Collections.Immutable;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Building;

/// <summary>What carries out the changes of a set -> statements that take its columns.</summary>
internal sealed class WriteCallBuilder(SetDraft draft, SourceCatalog catalog, ISource source, Diagnostics diagnostics)
{
    private IEnumerable<Property> Columns => draft.Visible.SelectMany(p => p.Leaves).Concat(draft.Hidden).Where(p => p.Expression is null);

    /// <summary>The calls of all changes that are declared; what is wrong is reported, and left out.</summary>
    public async Task<ImmutableDictionary<SetOperations, WriteCall>> BuildAsync(CancellationToken cancellation)
    {
        var calls = ImmutableDictionary.CreateBuilder<SetOperations, WriteCall>();
        foreach (var declared in draft.Declaration.Writes)
        {
            if (!draft.Declaration.Operations.HasFlag(declared.Operation))
                diagnostics.Error(
                    "writes",
                    $"'{draft.Name}' says how to {Grant.Words(declared.Operation)}, and does not allow it.",
                    declared.Location,
                    "List it under 'allow'."
                );
            else if ((declared.Routine is null ? Statements(declared) : Routine(declared)) is { } call)
            {
                if (await IsSoundAsync(declared, call, cancellation))
                    calls[declared.Operation] = call;
            }
        }
        return calls.ToImmutable();
    }

    private WriteCall? Statements(WriteDeclaration declared)
    {
        var text = declared.Text!;
        var script = SqlScript.Read(text.Value, source.Dialect.Lexis);
        if (script.Fault is { } fault)
        {
            diagnostics.Error("writes", $"The statement cannot be used: {fault}", text.Location);
            return null;
        }
        var all = script.Statements.SelectMany(s => s.Marks).Select(m => m.Name).Distinct().ToList();
        var parameters = all.ToDictionary(n => n, Parameter);
        foreach (var unknown in all.Where(n => parameters[n] is null))
            diagnostics.Error(
                "writes",
                $"'{draft.Name}' has no column ':{unknown}'.{NearestName.Hint(unknown, Columns.Select(c => c.Column))}",
                text.Location
            );
        return parameters.Values.Contains(null)
            ? null
            : new WriteCall([
                .. script.Statements.Select(s => new QuerySource(source.Name, "")
                {
                    Pieces = s.Pieces,
                    Parameters = [.. s.Marks.Select(m => parameters[m.Name]!)],
                }),
            ]);
    }

    /// <summary>The value of a column as a parameter; null = there is no such column.</summary>
    private OperationParameter? Parameter(string name) =>
        (Columns.FirstOrDefault(c => c.Column == name) ?? Columns.FirstOrDefault(c => c.Name == name)) is { } column
            ? new OperationParameter(column.Name, column.Type, true)
            {
                Placeholder = column.Column,
                Conversion = column.Conversion,
                StorageForm = column.StorageForm,
            }
            : null;

    private WriteCall? Routine(WriteDeclaration declared)
    {
        var name = declared.Routine!;
        var found = catalog.FindRoutines(name.Value);
        if (found is not [var routine])
        {
            diagnostics.Error(
                found.IsEmpty ? "no-object" : "writes",
                found.IsEmpty
                    ? $"The source has no function or procedure '{name.Value}'."
                        + NearestName.Hint(name.Value, catalog.Routines.Select(r => r.Name))
                    : $"'{name.Value}' stands for {found.Length} routines.",
                name.Location,
                found.IsEmpty ? null : $"Name one with its types: {string.Join(", ", found.Select(f => $"'{f.Signature}'"))}."
            );
            return null;
        }
        if (routine.Commits)
        {
            diagnostics.Error("writes", $"'{name.Value}' ends transactions by itself, and a change is done as a whole.", name.Location);
            return null;
        }
        var parameters = new List<(RoutineParameter, OperationParameter?)>();
        foreach (var own in routine.Parameters)
        {
            var told = declared.Parameters.FirstOrDefault(p => p.Parameter.Value == own.Name);
            var value = own.IsTaken ? Parameter(told.Column?.Value ?? own.Name) : null;
            if (own.IsTaken && value is null && own.Default is null)
            {
                diagnostics.Error(
                    "writes",
                    $"No column of '{draft.Name}' is called like the parameter '{own.Name}' of '{routine.Name}'.",
                    told.Column?.Location ?? name.Location,
                    "Say which one it takes under 'parameters', as PARAMETER: COLUMN."
                );
                return null;
            }
            parameters.Add((own, value));
        }
        var call = new RoutineCall(routine, parameters, source.Dialect, source.Name).Draft();
        return new WriteCall([.. call.Before, new QuerySource(source.Name, "") { Pieces = call.Pieces, Parameters = call.Marks }]);
    }

    /// <summary>The engine takes each statement, and the last of a creation gives the key.</summary>
    private async Task<bool> IsSoundAsync(WriteDeclaration declared, WriteCall call, CancellationToken cancellation)
    {
        var place = (declared.Text ?? declared.Routine!).Location;
        try
        {
            IReadOnlyList<SourceColumn>? given = null;
            foreach (var statement in call.Statements)
            {
                var (sql, arguments) = QueryBuilder.Trial(statement, source.Dialect);
                // What only sets or reads variables of the session is no statement that an engine describes.
                if (!sql.Contains("@gable_", StringComparison.Ordinal))
                    given = await source.DescribeChangeAsync(sql, arguments, cancellation);
            }
            if (declared.Operation != SetOperations.Create || given is not { Count: > 0 })
                return true;
            var missing = draft.Key.FirstOrDefault(k => given.All(c => !c.Name.Equals(k.Column, StringComparison.OrdinalIgnoreCase)));
            if (missing is null)
                return true;
            diagnostics.Error(
                "writes",
                $"What creates an entity of '{draft.Name}' does not give '{missing.Column}', a part of its key.",
                place,
                $"It gives {string.Join(", ", given.Select(c => c.Name))}."
            );
        }
        catch (SourceException exception) when (exception.Kind is SourceFaultKind.Broken or SourceFaultKind.Changed)
        {
            diagnostics.Error("writes", $"The statement cannot be used: {exception.Message}", place);
        }
        return false;
    }
}
