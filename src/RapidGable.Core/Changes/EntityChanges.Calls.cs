using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Changes;

/// <summary>
/// Changes that the publisher's own statements carry out. What they leave behind must satisfy every rule that other writes must.
/// </summary>
internal sealed partial class EntityChanges
{
    private async Task<WriteCalls> CallsAsync(EntitySet whole)
    {
        var source = _service.SourceOf(whole);
        return (await unit.SessionAsync(source, cancellation)).Is(out var session, out var fault)
            ? new WriteCalls(session, source.Dialect, cancellation)
            : throw new FaultException(fault);
    }

    /// <summary>The entity that a statement made: its result holds the key, or the caller has given all of it.</summary>
    private async Task<EntityRow> CreatedAsync(WriteCall call, List<ColumnValue> columns, EntitySet seen, EntitySet whole)
    {
        var given = await (await CallsAsync(whole)).RunAsync(call, columns, whole.Type.Key);
        given ??=
            whole.Type.Key.Select(k => columns.Find(c => c.Property.Column == k.Column)?.Value).ToArray() is var own && !own.Contains(null)
                ? [.. own.Select(v => v!)]
                : throw Wrong($"What creates an entity of {whole.Name} does not give its key; nothing has been changed.");
        var row = new EntityRow(seen, [.. given]);
        return await IsThereAsync(row, whole)
            ? row
            : throw Wrong($"What creates an entity of {whole.Name} has left none with the key that it gives; nothing has been changed.");
    }

    /// <summary>The statement gets the whole entity as it is to be: what is sent, and what is there for the rest.</summary>
    private async Task UpdatedAsync(WriteCall call, EntityRow row, List<ColumnValue> columns, EntitySet whole, ChangeStatements statements)
    {
        var current = await CurrentAsync(call, row, whole, statements);
        var values = current
            .Select(c =>
                columns.Find(v => v.Property.Column == c.Property.Column) switch
                {
                    null => c,
                    { IsIncrement: true } => c with { Value = Increased(c.Value) },
                    var sent => sent,
                }
            )
            .ToList();
        await (await CallsAsync(whole)).RunAsync(call, values, []);
        if (!await IsThereAsync(row, whole))
            throw Wrong($"What changes an entity of {whole.Name} has taken it away; nothing has been changed.");
    }

    private async Task<EntityRow> DeletedAsync(WriteCall call, EntityRow row, EntitySet whole, ChangeStatements statements)
    {
        await (await CallsAsync(whole)).RunAsync(call, await CurrentAsync(call, row, whole, statements), []);
        return await IsThereAsync(row, whole)
            ? throw Wrong($"What deletes an entity of {whole.Name} has left it there; nothing has been changed.")
            : row;
    }

    /// <summary>The values of the columns that a call takes, as they are.</summary>
    private async Task<List<ColumnValue>> CurrentAsync(WriteCall call, EntityRow row, EntitySet whole, ChangeStatements statements)
    {
        var taken = call.Columns.ToHashSet();
        var properties = whole
            .Type.Properties.SelectMany(p => p.Leaves)
            .Concat(whole.Type.Hidden)
            .Where(p => taken.Contains(p.Column))
            .ToList();
        if (properties.Count == 0)
            return [];
        var values = await ColumnsAsync(row, properties, statements);
        return [.. properties.Select((p, i) => new ColumnValue(p, values[i]))];
    }

    private async Task<bool> IsThereAsync(EntityRow row, EntitySet whole) =>
        await (await StatementsAsync(whole)).ExistsAsync(whole.Source, whole.Type.Key, row.Where);

    private static object? Increased(object? version) =>
        version switch
        {
            long number => number + 1,
            decimal number => number + 1,
            _ => version,
        };

    private static FaultException Wrong(string message) => new(new RequestFault(500, "writes", message));
}
