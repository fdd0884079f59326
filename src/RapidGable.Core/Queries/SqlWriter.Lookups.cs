using RapidGable.Access;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Queries;

public sealed partial class SqlWriter
{
    /// <summary>Columns of the rows of a table, as far as the caller may see them, that hold some values.</summary>
    /// <param name="where">Columns with what they hold; none is null.</param>
    /// <param name="isLocked">Nobody else may change them until the transaction ends; not for a restricted table.</param>
    internal static SqlStatement WriteLookup(
        RowSource source,
        IEnumerable<Property> output,
        IEnumerable<(Property Column, StoredValue Value)> where,
        SqlDialect dialect,
        bool isLocked = false
    )
    {
        var writer = new SqlWriter(dialect);
        var columns = string.Join(", ", output.Select(p => writer.Column("t0", p)));
        var conditions = where.Select(w =>
        {
            var value = new ValueParameter(w.Value, w.Column.StoredType, w.Column.StorageForm);
            return $"{writer.Column("t0", w.Column)} = {writer.Parameter(value)}";
        });
        var text =
            $"SELECT {columns} FROM {writer.From(source)} AS t0 WHERE {string.Join(" AND ", conditions)}"
            + $"{(isLocked ? dialect.LockRows : "")}";
        return new SqlStatement(text, [.. writer._parameters]);
    }

    /// <summary>The highest value of a column, for numbers that are given one after the other.</summary>
    /// <param name="like">Pattern of the texts that count; null = the column is a number.</param>
    /// <param name="length">Characters of these texts.</param>
    /// <param name="isLonger">Those that have more.</param>
    internal static SqlStatement WriteHighest(
        RowSource source,
        Property column,
        string? like,
        int length,
        bool isLonger,
        SqlDialect dialect
    )
    {
        var writer = new SqlWriter(dialect);
        var name = writer.Column("t0", column);
        var text = $"SELECT MAX({name}) FROM {dialect.From(source)} AS t0";
        if (like is not null)
            text +=
                $" WHERE {name} LIKE {writer.Parameter(new ValueParameter(StoredValue.From(like), EdmType.String, null))} "
                + $"ESCAPE '!' AND {dialect.Call(CanonicalFunction.Length, [new SqlOperand(name, EdmType.String)])} "
                + $"{(isLonger ? ">" : "=")} {writer.Parameter(new ValueParameter(StoredValue.From((long)length), EdmType.Int64, null))}";
        return new SqlStatement(text, [.. writer._parameters]);
    }

    /// <summary>The value of an expression about a row that is not written yet; related rows are as they are.</summary>
    /// <param name="row">All columns of the row that the expression may be about.</param>
    internal static SqlStatement WriteValue(
        EntityModel model,
        BoundRule value,
        IEnumerable<(Property Column, StoredValue Value)> row,
        SqlDialect dialect
    )
    {
        var writer = new SqlWriter(dialect);
        var level = new PlanLevel(model, "a", n => "a" + n);
        level.Reach(value.Condition!);
        var expressions = new SqlExpressions(dialect, dialect.From, level.Aliases, p => writer.Parameter(RestrictedSql.Of(value, p)));
        var columns = string.Join(
            ", ",
            row.Select(c =>
                $"{writer.Parameter(new ValueParameter(c.Value, c.Column.StoredType, c.Column.StorageForm))} AS "
                + $"{dialect.Quote(c.Column.Column)}"
            )
        );
        var output = expressions.Output(new PlanExpression(value.Condition!));
        var joins = PlainJoins.Of(level.Joins, dialect);
        return new SqlStatement($"SELECT {output} AS v FROM (SELECT {columns}) AS a{joins}", [.. writer._parameters]);
    }
}
