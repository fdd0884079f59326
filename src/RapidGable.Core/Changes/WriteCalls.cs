using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Sources;

namespace RapidGable.Changes;

/// <summary>Carries out changes of a set by the statements of its publisher, in the transaction of the change.</summary>
internal sealed class WriteCalls(ISourceSession session, SqlDialect dialect, CancellationToken cancellation)
{
    /// <summary>Runs the statements of a change.</summary>
    /// <param name="values">Published values of the columns; a column that is not there is null.</param>
    /// <param name="key">What the last statement is to give; empty = nothing.</param>
    /// <returns>The key that the last statement gave; null = it gave no row.</returns>
    public async Task<object[]?> RunAsync(WriteCall call, IReadOnlyList<ColumnValue> values, IReadOnlyList<Property> key)
    {
        object[]? given = null;
        foreach (var statement in call.Statements)
        {
            var written = ActionSql.Text(statement, dialect);
            var parameters = written.Parameters.Select(p => Stored(((ArgumentParameter)p).Parameter, values)).ToArray();
            if (key.Count == 0 || statement != call.Statements[^1])
                await session.ExecuteAsync(written.Text, parameters, cancellation);
            else
                given = await KeyAsync(written.Text, parameters, key);
        }
        return given;
    }

    private StoredValue Stored(OperationParameter parameter, IReadOnlyList<ColumnValue> values)
    {
        if (values.FirstOrDefault(v => v.Property.Column == parameter.Placeholder) is not { } value)
            return StoredValue.Null;
        var path = value.Path.Length == 0 ? value.Property.Name : value.Path;
        var (stored, fault) = StoredValues.Of(value.Value, value.Property, dialect, path);
        return fault is null ? stored : throw new FaultException(fault);
    }

    private async Task<object[]?> KeyAsync(string sql, StoredValue[] parameters, IReadOnlyList<Property> key)
    {
        await using var rows = new ResultCursor(
            await session.QueryAsync(sql, parameters, cancellation),
            [.. key.Select(k => k.Column)],
            most: 1
        );
        if (!await rows.ReadAsync(cancellation) || Enumerable.Range(0, key.Count).Any(rows.IsNull))
            return null;
        object[] values = [.. key.Select((k, i) => RowValue.Published(rows, k, i))];
        // All of them are read, so that the statement has ended.
        return await rows.ReadAsync(cancellation) || rows.IsCut
            ? throw new FaultException(
                new RequestFault(500, "several-rows", "The statement that creates an entity gives several; nothing has been changed.")
            )
            : values;
    }
}
