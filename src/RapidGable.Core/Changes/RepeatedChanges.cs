using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Changes;

/// <summary>Answers that are kept in the same transaction as the changes that they tell of: either both are there or none is.</summary>
public static class RepeatedChanges
{
    /// <summary>Whether the source of a set keeps answers, and can in this transaction.</summary>
    public static bool AreKept(ChangeUnit unit, EntitySet set) =>
        unit.Service.Model.Repeats.ContainsKey(set.Source.Source) && unit.CanReach(unit.Service.SourceOf(set));

    /// <summary>The answer that was given before; null = none was.</summary>
    public static async Task<string?> FindAsync(ChangeUnit unit, EntitySet set, string id, CancellationToken cancellation)
    {
        var (table, statements) = await OpenAsync(unit, set, cancellation);
        return (await statements.FindAsync(table.Source, [table.Answer], [(table.Id, id)]))?[0] as string;
    }

    /// <summary>Keeps an answer.</summary>
    /// <exception cref="SourceException">A <see cref="SourceFaultKind.Collision"/> when the same request is being answered
    /// elsewhere.</exception>
    public static async Task KeepAsync(ChangeUnit unit, EntitySet set, string id, string answer, CancellationToken cancellation)
    {
        var (table, statements) = await OpenAsync(unit, set, cancellation);
        var columns = new List<ColumnValue> { new(table.Id, id), new(table.Answer, answer) };
        if (table.At is { } at)
            columns.Add(new ColumnValue(at, unit.Now));
        try
        {
            await statements.InsertAsync(table.Source, columns, []);
        }
        catch (SourceException exception) when (exception.Constraint is { Kind: ConstraintKind.Unique })
        {
            throw new SourceException(SourceFaultKind.Collision, "The same request is being answered.", exception);
        }
    }

    private static async Task<(RepeatTable Table, ChangeStatements Statements)> OpenAsync(
        ChangeUnit unit,
        EntitySet set,
        CancellationToken cancellation
    )
    {
        var source = unit.Service.SourceOf(set);
        var session = (await unit.SessionAsync(source, cancellation)).Value
            ?? throw new InvalidOperationException("The unit is of another source.");
        return (unit.Service.Model.Repeats[set.Source.Source], new ChangeStatements(session, source.Dialect, unit.Values, cancellation));
    }
}
