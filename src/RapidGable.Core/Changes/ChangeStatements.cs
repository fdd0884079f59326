using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Sources;

namespace RapidGable.Changes;

/// <summary>What a column is set to: a published value, or what is made of the value that is there.</summary>
/// <param name="Value">A published value; null = null.</param>
/// <param name="Path">Where it stands in the body; empty = it does not.</param>
internal sealed record ColumnValue(Property Property, object? Value, string Path = "")
{
    /// <summary>The column is set to what it holds and one more.</summary>
    public bool IsIncrement { get; init; }

    /// <summary>A relation to another entity gives the value.</summary>
    public bool IsRelated { get; init; }
}

/// <summary>
/// The statements of changes in one session of a source. Values are parameters, tables are those of sets: what rules leave of one is a
/// condition of its own, which <see cref="EntityChanges"/> asks before and after.
/// </summary>
internal sealed class ChangeStatements(ISourceSession session, SqlDialect dialect, QueryValues values, CancellationToken cancellation)
{
    /// <summary>Published values of some columns of the first row that holds others; null = there is no such row.</summary>
    /// <param name="source">What of a table may be looked at.</param>
    /// <param name="where">Published values; none is null.</param>
    /// <param name="isLocked">Nobody else may change the row until the transaction ends; not for a restricted table.</param>
    public async Task<object?[]?> FindAsync(
        RowSource source,
        IReadOnlyList<Property> output,
        IEnumerable<(Property Column, object Value)> where,
        bool isLocked = false
    ) => await FindAsync(source, output, where, isLocked, row => Read(row, output));

    /// <summary>As the other, with what is made of the row.</summary>
    public async Task<T?> FindAsync<T>(
        RowSource source,
        IReadOnlyList<Property> output,
        IEnumerable<(Property Column, object Value)> where,
        bool isLocked,
        Func<IRowCursor, T> read
    )
        where T : class
    {
        var stored = where.Select(w => (w.Column, QueryValues.Stored(w.Value, w.Column, dialect))).ToList();
        await using var rows = await QueryAsync(SqlWriter.WriteLookup(source, output, stored, dialect, isLocked));
        return await rows.ReadAsync(cancellation) ? read(rows) : null;
    }

    public async Task<bool> ExistsAsync(
        RowSource source,
        IReadOnlyList<Property> key,
        IEnumerable<(Property Column, object Value)> where
    ) => await FindAsync(source, key, where) is not null;

    /// <summary>All rows that hold some values.</summary>
    public async Task<List<object?[]>> FindAllAsync(
        RowSource source,
        IReadOnlyList<Property> output,
        IEnumerable<(Property Column, object Value)> where
    )
    {
        var stored = where.Select(w => (w.Column, QueryValues.Stored(w.Value, w.Column, dialect))).ToList();
        await using var rows = await QueryAsync(SqlWriter.WriteLookup(source, output, stored, dialect));
        var found = new List<object?[]>();
        while (await rows.ReadAsync(cancellation))
            found.Add(Read(rows, output));
        return found;
    }

    /// <summary>See <see cref="ISourceSession.SerializeAsync"/>.</summary>
    public ValueTask SerializeAsync(string subject) => session.SerializeAsync(subject, cancellation);

    /// <summary>The highest number in a column; null = there is none.</summary>
    public async Task<object?> HighestAsync(RowSource table, Property column)
    {
        await using var rows = await QueryAsync(SqlWriter.WriteHighest(table, column, null, 0, false, dialect));
        return await rows.ReadAsync(cancellation) && !rows.IsNull(0) ? RowValue.Read(rows, column.StoredType, 0) : null;
    }

    /// <summary>The highest number behind a prefix in a text column; 0 = there is none.</summary>
    /// <param name="digits">Of the numbers, until they need more.</param>
    public async Task<long> HighestAsync(RowSource table, Property column, string prefix, int digits)
    {
        var like =
            prefix
                .Replace("!", "!!", StringComparison.Ordinal)
                .Replace("%", "!%", StringComparison.Ordinal)
                .Replace("_", "!_", StringComparison.Ordinal) + "%";
        var length = prefix.EnumerateRunes().Count() + digits;
        // Texts of one length sort like their numbers; longer ones are looked at only where the shorter are used up.
        for (var more = 0; ; more++)
        {
            await using var rows = await QueryAsync(SqlWriter.WriteHighest(table, column, like, length + more, false, dialect));
            var found = await rows.ReadAsync(cancellation) && !rows.IsNull(0) ? RowValue.Read(rows, column.StoredType, 0) as string : null;
            if (found is null)
                return more == 0 ? 0 : (long)Math.Pow(10, digits + more - 1) - 1;
            if (
                !long.TryParse(
                    found.AsSpan(prefix.Length),
                    System.Globalization.NumberStyles.None,
                    System.Globalization.CultureInfo.InvariantCulture,
                    out var number
                )
            )
                throw new FaultException(
                    new RequestFault(
                        409,
                        "number",
                        $"The last '{column.Name}' is '{found}', in which no number follows '{prefix}'.",
                        column.Name
                    )
                );
            if (found.AsSpan(prefix.Length).TrimStart('9').Length > 0)
                return number;
        }
    }

    /// <summary>The value of an expression about a row as it will be.</summary>
    /// <param name="type">The value's type.</param>
    public async Task<object?> ComputeAsync(EntityModel model, Access.BoundRule value, IReadOnlyList<ColumnValue> row, EdmType type)
    {
        var stored = Stored(row);
        await using var rows = await QueryAsync(SqlWriter.WriteValue(model, value, row.Select((c, i) => (c.Property, stored[i])), dialect));
        return await rows.ReadAsync(cancellation) && !rows.IsNull(0) ? RowValue.Read(rows, value.Condition!.Type ?? type, 0) : null;
    }

    /// <summary>Runs a statement of the query writer.</summary>
    public async Task<IRowCursor> QueryAsync(SqlStatement statement) =>
        values.Bind(statement, dialect).Is(out var bound, out var fault)
            ? await session.QueryAsync(statement.Text, bound, cancellation)
            : throw new FaultException(fault);

    /// <summary>Adds a row.</summary>
    /// <returns>Published values of the asked columns, as the source made them.</returns>
    public async Task<object?[]> InsertAsync(TableSource table, IReadOnlyList<ColumnValue> columns, IReadOnlyList<Property> returned)
    {
        var stored = Stored(columns);
        var name = dialect.Table(table.Schema, table.Name);
        var into =
            columns.Count == 0
                ? dialect.DefaultRow
                : $"({string.Join(", ", columns.Select(c => dialect.Quote(c.Property.Column)))}) VALUES "
                    + $"({string.Join(", ", columns.Select((c, i) => dialect.Assigned(i + 1, c.Property, table)))})";
        var sql = $"INSERT INTO {name} {into}";
        return await NamedAsync([.. columns.Select(c => c.Property.Column)], async () =>
        {
            if (returned.Count == 0)
            {
                await session.ExecuteAsync(sql, stored, cancellation);
                return [];
            }
            var output = string.Join(", ", returned.Select(p => dialect.Column(dialect.Quote(p.Column), p)));
            await using var rows = await session.QueryAsync($"{sql} RETURNING {output}", stored, cancellation);
            if (!await rows.ReadAsync(cancellation))
                throw new SourceException(SourceFaultKind.Broken, $"An INSERT into {table.Name} gave no row back.");
            return Read(rows, returned);
        });
    }

    /// <summary>Runs a statement; a parameter that the source refuses is told by its column.</summary>
    /// <param name="columns">Of the parameters, in their order; those that follow belong to none.</param>
    private static async Task<T> NamedAsync<T>(IReadOnlyList<string> columns, Func<Task<T>> run)
    {
        try
        {
            return await run();
        }
        catch (SourceException exception)
            when (exception.Constraint is { Columns.IsEmpty: true, Parameter: { } number } broken && number <= columns.Count)
        {
            var named = broken with { Columns = [columns[number - 1]] };
            throw new SourceException(SourceFaultKind.Constraint, exception.Message, exception) { Constraint = named };
        }
    }

    /// <summary>Changes the row of a key; at least one column.</summary>
    /// <returns>How many rows there were.</returns>
    public Task<long> UpdateAsync(TableSource table, IReadOnlyList<ColumnValue> columns, IEnumerable<(Property Column, object Value)> where)
    {
        var parameters = new List<StoredValue>();
        var sets = columns
            .Select(c =>
            {
                var name = dialect.Quote(c.Property.Column);
                if (c.IsIncrement)
                    return $"{name} = {dialect.Increased(name)}";
                parameters.Add(Stored(c));
                return $"{name} = {dialect.Assigned(parameters.Count, c.Property, table)}";
            })
            .ToList();
        var sql = $"UPDATE {dialect.Table(table.Schema, table.Name)} SET {string.Join(", ", sets)} WHERE {Where(where, parameters)}";
        return NamedAsync([.. columns.Where(c => !c.IsIncrement).Select(c => c.Property.Column)], () => RunAsync(sql, parameters));
    }

    public Task<long> DeleteAsync(TableSource table, IEnumerable<(Property Column, object Value)> where)
    {
        var parameters = new List<StoredValue>();
        return RunAsync($"DELETE FROM {dialect.Table(table.Schema, table.Name)} WHERE {Where(where, parameters)}", parameters);
    }

    /// <summary>Deletes one row of a set.</summary>
    /// <param name="access">The right to do so.</param>
    /// <param name="where">Its key.</param>
    public async Task RemoveAsync(WriteAccess access, IEnumerable<(Property Column, object Value)> where)
    {
        var set = access.Set;
        var key = where.ToDictionary(w => w.Column.Column);
        foreach (
            var own in dialect.KeepsWhatRefersToItself
                ? set.Type.Navigations.Where(n =>
                    n.TargetSet == set.Name && n is { IsCollection: false, IsHeldByTarget: false, Link: null }
                )
                : []
        )
        {
            // Where it refers to itself, that goes first.
            if (own.Joins.All(j => j.Own.Nullable && key.ContainsKey(j.Target.Column)))
                await UpdateAsync(
                    access.Table,
                    [.. own.Joins.Select(j => new ColumnValue(j.Own, null))],
                    key.Values.Concat(own.Joins.Select(j => (j.Own, key[j.Target.Column].Value)))
                );
        }
        await DeleteAsync(access.Table, key.Values);
    }

    private async Task<long> RunAsync(string sql, List<StoredValue> parameters) =>
        await session.ExecuteAsync(sql, parameters.ToArray(), cancellation);

    private string Where(IEnumerable<(Property Column, object Value)> where, List<StoredValue> parameters) =>
        string.Join(
            " AND ",
            where.Select(w =>
            {
                parameters.Add(QueryValues.Stored(w.Value, w.Column, dialect));
                var parameter = dialect.Parameter(parameters.Count, w.Column.StoredType, w.Column.StorageForm);
                return $"{dialect.Column(dialect.Quote(w.Column.Column), w.Column)} = {parameter}";
            })
        );

    private StoredValue Stored(ColumnValue column) => Stored([column])[0];

    /// <summary>All values as they are stored; those that cannot be are told at once.</summary>
    private StoredValue[] Stored(IReadOnlyList<ColumnValue> columns)
    {
        var stored = columns
            .Select(c => StoredValues.Of(c.Value, c.Property, dialect, c.Path.Length == 0 ? c.Property.Name : c.Path))
            .ToList();
        return stored.Exists(s => s.Fault is not null)
            ? throw new FaultException(RequestFault.Of([.. stored.Select(s => s.Fault).OfType<RequestFault>()]))
            : [.. stored.Select(s => s.Value)];
    }

    private static object?[] Read(IRowCursor row, IReadOnlyList<Property> output) =>
        [
            .. output.Select(
                (p, i) =>
                    row.IsNull(i) ? null
                    : p.Conversion is JsonConversion ? RowValue.Read(row, p.StoredType, i)
                    : RowValue.Published(row, p, i)
            ),
        ];
}
