using System.Collections.Immutable;
using System.Globalization;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Requests;
using RapidGable.Requests.Statements;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>A statement over sets, ready to run.</summary>
/// <param name="Prepared">Its rows are those of a set that is made for it alone.</param>
/// <param name="Most">Rows that it may give.</param>
public sealed record PreparedStatement(PreparedRequest Prepared, long Most, StatementSelect Statement)
{
    /// <summary>The columns of the result.</summary>
    public ImmutableArray<Property> Columns => Prepared.Request.Path.Root!.Type.Properties;

    /// <summary>What a caller brings along; all rows come in one answer.</summary>
    public static QueryValues ValuesOf(Caller caller, DateTime now, RequestAllowance allowance) =>
        QueryValues.Outside(caller, now, allowance).For(null);

    /// <summary>What is wrong with a result, before any of it is written; null = nothing.</summary>
    /// <param name="run">It stands on the first row.</param>
    public RequestFault? Fault(QueryRun run)
    {
        return run.Counted is not { } rows || rows <= Most
            ? null
            : new RequestFault(
                400,
                "too-costly",
                $"The statement gives more than {Most} rows, which is the most for you. Add ORDER BY and LIMIT.",
                StatementFaults.Target
            );
    }
}

/// <summary>A bound statement -> the one statement for the database. Each set is what the caller may see of it.</summary>
internal sealed class StatementSql
{
    private readonly SqlDialect _dialect;
    private readonly SqlWriter _writer;
    private readonly StatementTerms _terms;

    /// <param name="text">The statement as it was sent.</param>
    private StatementSql(SqlDialect dialect, StatementSelect statement, string text, StepBudget steps)
    {
        _dialect = dialect;
        // What can fail must not meet rows that rules take away.
        _writer = SqlWriter.OfParts(dialect, statement.MayFail);
        _terms = new StatementTerms(dialect, _writer, Inner, text, steps);
    }

    /// <summary>Writes a statement; the fault is 501 for what the engine cannot express.</summary>
    /// <param name="most">Rows that it may give.</param>
    /// <param name="steps">Of the request.</param>
    public static Result<CompiledQuery> Write(
        StatementSelect statement,
        string text,
        SqlDialect dialect,
        long most,
        EntitySet result,
        StepBudget steps
    )
    {
        try
        {
            var main = Written(sql => sql.Whole(statement, most));
            // Nothing is sent before it is known that the rows are not too many; counting stops where they are.
            var count = statement.Limit is null ? Written(sql => sql.CountUpTo(statement, most + 1)) : null;
            return new CompiledQuery(main, count, null, [], Shape(result)) { HidesCount = true };
        }
        catch (FaultException exception)
        {
            return exception.Fault;
        }

        SqlStatement Written(Func<StatementSql, string> write)
        {
            var sql = new StatementSql(dialect, statement, text, steps);
            return new SqlStatement(write(sql), sql._writer.Parameters);
        }
    }

    /// <summary>The set whose rows a statement gives.</summary>
    public static EntitySet ResultOf(StatementSelect statement)
    {
        var columns = statement.Items.Select((item, i) => ColumnOf(item, "v" + i.ToString(CultureInfo.InvariantCulture)));
        return new EntitySet("Result", new EntityType("Row", [.. columns], [], [], []), statement.From.Set.Source);
    }

    private static Property ColumnOf(StatementItem item, string column)
    {
        var kept =
            item.Term as ColumnTerm
            ?? (item.Term as AggregateTerm is { Function: "MIN" or "MAX" } chosen ? chosen.Operand as ColumnTerm : null);
        return kept is null
            ? new Property(item.Name, item.Term.Type!, item.Term is not AggregateTerm { Function: "COUNT" }, column)
            : kept.Property with
            {
                Name = item.Name,
                Column = column,
                Nullable = kept.Property.Nullable || kept.Table.IsOuter || item.Term is AggregateTerm,
            };
    }

    private static ResultShape Shape(EntitySet result)
    {
        var properties = result.Type.Properties;
        var cells = properties.Select((p, i) => new ShapeCell(p, i)).ToImmutableArray();
        var row = new EntityShape(result, new BoundSelect(properties, false, []), cells, [], [], []);
        return new ResultShape(ResourceKind.Collection, row, null, []);
    }

    private string Whole(StatementSelect statement, long most)
    {
        var items = statement.Items.Select((item, i) => $"{_terms.Output(item.Term)} AS v{i}").ToList();
        var limit = Math.Min(statement.Limit ?? most, most);
        var end = $"\nLIMIT {Number(limit)}{(statement.Offset is { } offset ? $" OFFSET {Number(offset)}" : "")}";
        if (!statement.IsDistinct)
            return $"SELECT {string.Join(", ", items)}{Rest(statement)}{Order(statement, o => _terms.Value(o.Term))}{end}";
        string Shown(StatementOrder order) => $"q.v{statement.Items.Select(i => i.Term.Key).ToList().IndexOf(order.Term.Key)}";
        return $"SELECT {string.Join(", ", items.Select((_, i) => $"q.v{i}"))}\nFROM (\nSELECT DISTINCT "
            + $"{string.Join(", ", items)}{Rest(statement)}\n) AS q{Order(statement, Shown)}{end}";
    }

    /// <summary>The number of rows, as far as it matters.</summary>
    private string CountUpTo(StatementSelect statement, long most)
    {
        var isGrouped = statement.IsDistinct || !statement.GroupBy.IsEmpty || statement.AllTerms.Any(t => t is AggregateTerm);
        var rows = isGrouped ? Inner(statement, null) : $"SELECT 1 AS v0{Rest(statement)}";
        var offset = statement.Offset is { } passed ? $" OFFSET {Number(passed)}" : "";
        return $"SELECT COUNT(*) FROM (\n{rows}\nLIMIT {Number(most)}{offset}\n) AS q";
    }

    private string Number(long number) => _writer.Placeholder(new ValueParameter(StoredValue.From(number), EdmType.Int64, null));

    private string Order(StatementSelect statement, Func<StatementOrder, string> value)
    {
        var terms = statement
            .OrderBy.Where(o => o.Term is not ValueTerm)
            .Select(o => _dialect.OrderTerm(value(o), o.IsDescending, MayBeNull(o.Term)))
            .ToList();
        return terms.Count == 0 ? "" : $"\nORDER BY {string.Join(", ", terms)}";
    }

    private static bool MayBeNull(BoundTerm term) => term is not ColumnTerm { Property.Nullable: false, Table.IsOuter: false };

    /// <summary>A SELECT within the statement.</summary>
    /// <param name="column">Stands for its one column; null = all as they are.</param>
    private string Inner(StatementSelect select, string? column)
    {
        var items = column ?? string.Join(", ", select.Items.Select((item, i) => $"{_terms.Value(item.Term)} AS v{i}"));
        return $"SELECT {(select.IsDistinct ? "DISTINCT " : "")}{items}{Rest(select)}";
    }

    /// <summary>Everything from FROM to HAVING.</summary>
    private string Rest(StatementSelect select)
    {
        var joins = select.Joins.Select(j => $"\n{(j.Table.IsOuter ? "LEFT JOIN" : "JOIN")} {Table(j.Table)} ON {_terms.Predicate(j.On)}");
        var rest = $"\nFROM {Table(select.From)}{string.Concat(joins)}";
        if (select.Where is { } where)
            rest += $"\nWHERE {_terms.Predicate(where)}";
        if (!select.GroupBy.IsEmpty)
            rest += $"\nGROUP BY {string.Join(", ", select.GroupBy.Select(_terms.Value))}";
        if (select.Having is { } having)
            rest += $"\nHAVING {_terms.Predicate(having)}";
        return rest;
    }

    private string Table(StatementTable table) => $"{_writer.Table(table.Set.Source)} AS t{table.Number}";
}
