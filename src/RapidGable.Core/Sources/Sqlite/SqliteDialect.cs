using System.Globalization;
using RapidGable.Model;

namespace RapidGable.Sources.Sqlite;

/// <summary>SQL and values as SQLite wants them.</summary>
internal sealed class SqliteDialect : SqlDialect
{
    public override string Quote(string identifier) => $"\"{identifier.Replace("\"", "\"\"", StringComparison.Ordinal)}\"";

    public override string Parameter(int number) => "?" + number.ToString(CultureInfo.InvariantCulture);

    // Without a table, the engine does not look into its file.
    public override string Ping => "SELECT COUNT(*) FROM sqlite_schema";

    public override SourceStatement? DefinitionOf(SourceObject item) =>
        item.Kind == SourceObjectKind.View
            ? new SourceStatement("SELECT sql FROM sqlite_schema WHERE type = 'view' AND name = ?1", new[] { StoredValue.From(item.Name) })
            : null;

    public override SqlLexis Lexis { get; } = new(HasBracketNames: true, OwnPlaceholders: "?@$");

    // Instants are texts; most are written without a fraction of a second.
    public override string? ArgumentForm(EdmType type) => type.Kind == EdmKind.DateTimeOffset ? $"T{type.Precision ?? 0}Z" : null;

    /// <summary>Uuids whose letters are of either case compare in small ones.</summary>
    public override string Column(string quotedColumn, string? storageForm) =>
        storageForm == "mixed" ? $"lower({quotedColumn})" : quotedColumn;

    // A column may be declared with a collation that ignores the case of letters, or blanks at the end.
    public override string? Exact(SqlOperand text) => $"{text.Sql} COLLATE BINARY";

    public override bool KeepsMarkers => false;

    public override string Opaque(string condition) => $"(SELECT {condition})";

    public override string Fence => " LIMIT -1";

    public override string NullSafeEqual(string left, string right) => $"{left} IS {right}";

    // Nulls come first ascending and last descending by themselves.
    public override string Matches(TextIndex index, string alias, string term) =>
        $"{alias}.{Quote(index.Form!)} IN (SELECT rowid FROM {Quote(index.Name)} WHERE {Quote(index.Name)} MATCH '\"' || "
        + $"replace({term}, '\"', '\"\"') || '\"')";

    public override string OrderTerm(string sql, bool descending, bool mayBeNull) => descending ? sql + " DESC" : sql;

    public override (string Left, string Right) Comparable(SqlOperand left, SqlOperand right)
    {
        if (left.Type.Kind == EdmKind.DateTimeOffset && left.StorageForm != right.StorageForm)
            return ($"gable_ticks({left.Sql})", $"gable_ticks({right.Sql})");
        if (left.Type.Kind == EdmKind.TimeOfDay)
            return ($"gable_clock({left.Sql})", $"gable_clock({right.Sql})");
        if (left.Type.Kind == EdmKind.Guid && left.StorageForm != right.StorageForm)
            return ($"lower({left.Sql})", $"lower({right.Sql})");
        return (left.Sql, right.Sql);
    }

    public override string? Call(CanonicalFunction function, IReadOnlyList<SqlOperand> arguments)
    {
        var a = arguments.Count > 0 ? arguments[0].Sql : "";
        var b = arguments.Count > 1 ? arguments[1].Sql : "";
        return function switch
        {
            CanonicalFunction.Contains => $"(instr({a}, {b}) > 0)",
            CanonicalFunction.StartsWith => $"(substr({a}, 1, length({b})) = {b} COLLATE BINARY)",
            CanonicalFunction.EndsWith =>
                $"(length({a}) >= length({b}) AND substr({a}, length({a}) - length({b}) + 1) = {b} COLLATE BINARY)",
            CanonicalFunction.IndexOf => $"(instr({a}, {b}) - 1)",
            CanonicalFunction.Length => $"length({a})",
            CanonicalFunction.ToLower => $"gable_lower({a})",
            CanonicalFunction.ToUpper => $"gable_upper({a})",
            CanonicalFunction.Trim => $"gable_trim({a})",
            CanonicalFunction.Concat => $"({a} || {b})",
            CanonicalFunction.Year => Part(a, 1, 4),
            CanonicalFunction.Month => Part(a, 6, 2),
            CanonicalFunction.Day => Part(a, 9, 2),
            CanonicalFunction.Hour => Part(Time(arguments[0]), 1, 2),
            CanonicalFunction.Minute => Part(Time(arguments[0]), 4, 2),
            CanonicalFunction.Second => Part(Time(arguments[0]), 7, 2),
            CanonicalFunction.FractionalSeconds => $"CAST('0' || rtrim(substr({Time(arguments[0])}, 9), 'Z') AS REAL)",
            CanonicalFunction.Date => $"substr({a}, 1, 10)",
            CanonicalFunction.Time => $"gable_time({a})",
            CanonicalFunction.Round => $"round({a})",
            CanonicalFunction.Floor => $"floor({a})",
            CanonicalFunction.Ceiling => $"ceil({a})",
            CanonicalFunction.Substring => $"gable_substring({string.Join(", ", arguments.Select(x => x.Sql))})",
            CanonicalFunction.MatchesPattern => $"gable_matches({a}, {b})",
            CanonicalFunction.TotalOffsetMinutes => $"(CASE WHEN {a} IS NOT NULL THEN 0 END)",
            CanonicalFunction.TotalSeconds => a,
            _ => null,
        };
    }

    public override string Arithmetic(ArithmeticOperator op, SqlOperand left, SqlOperand right, EdmType result)
    {
        var (a, b) = (left.Sql, right.Sql);
        switch (op)
        {
            case ArithmeticOperator.Add:
                return Exact($"({a} + {b})", result);
            case ArithmeticOperator.Sub:
                return Exact($"({a} - {b})", result);
            case ArithmeticOperator.Mul:
                return Exact($"({a} * {b})", result);
            case ArithmeticOperator.Mod when result.IsIntegral:
                return $"({a} % gable_divisor({b}))";
            case ArithmeticOperator.Mod:
                return Exact($"mod({a}, gable_divisor({b}))", result);
            case ArithmeticOperator.Div when result.IsIntegral:
                return $"({a} / gable_divisor({b}))";
            default:
                // Floating division by zero is infinite; 0 by 0 is NaN, which SQLite keeps as NULL and which compares as false too.
                return result.IsFloating
                    ? $"(CASE WHEN {b} = 0 THEN {a} * 9e999 ELSE CAST({a} AS REAL) / {b} END)"
                    : $"(CAST({a} AS REAL) / gable_divisor({b}))";
        }
    }

    // Durations are seconds.
    public override string? Temporal(ArithmeticOperator op, SqlOperand left, SqlOperand right, EdmType result)
    {
        var (a, b) = (left.Sql, right.Sql);
        return (left.Type.Kind, right.Type.Kind, op) switch
        {
            (EdmKind.DateTimeOffset, EdmKind.DateTimeOffset, _) => $"((gable_ticks({a}) - gable_ticks({b})) / 10000000.0)",
            (EdmKind.Date, EdmKind.Date, _) => $"((julianday({a}) - julianday({b})) * 86400)",
            (EdmKind.DateTimeOffset or EdmKind.Date, _, ArithmeticOperator.Add) => $"{Shift(left)}({a}, {b})",
            (EdmKind.DateTimeOffset or EdmKind.Date, _, _) => $"{Shift(left)}({a}, - {b})",
            (_, _, ArithmeticOperator.Add) => $"({a} + {b})",
            (_, _, ArithmeticOperator.Sub) => $"({a} - {b})",
            (_, _, ArithmeticOperator.Mul) => $"({a} * {b})",
            _ => $"(CAST({a} AS REAL) / gable_divisor({b}))",
        };
    }

    private static string Shift(SqlOperand moment) => moment.Type.Kind == EdmKind.Date ? "gable_shift_date" : "gable_shift";

    public override string Explain => "EXPLAIN QUERY PLAN ";

    public override int ExplainedFrom => 3;

    public override string Aggregate(string function, string sql, EdmType result) =>
        // The average is a binary number whatever it is of.
        function == "AVG"
            ? $"AVG({sql})"
        : function == "SUM"
            ? Exact(
                $"SUM({sql})",
                result.Scale is null ? result with { Scale = 12 }
                    : result.Scale == 0 ? EdmType.Int64
                    : result
            )
        : base.Aggregate(function, sql, result);

    protected override string Rounded(string number) => $"round({number})";

    protected override string AsInteger(string wholeNumber) => $"CAST({wholeNumber} AS INTEGER)";

    protected override string AsDecimal(string number) => number;

    protected override string AsDouble(string number) => $"CAST({number} AS REAL)";

    protected override string AsText(string value) => $"lower(CAST({value} AS TEXT))";

    protected override string AtMidnight(string date) => $"({date} || 'T00:00:00.0000000Z')";

    public override string? Unnest(SqlOperand collection, EdmType item, string alias) => $"json_each({collection.Sql}) AS {alias}";

    // Nobody else changes the file during a transaction that does.
    public override string LockRows => "";

    /// <summary>Numbers beyond 64 bits are kept as floating ones, which hold 15 to 17 digits.</summary>
    public override bool KeepsLongNumbers => false;

    public override decimal? Kept(decimal value) =>
        decimal.IsInteger(value) && Math.Abs(value) <= long.MaxValue
        || Math.Abs(value) < 1e15m && (decimal)StoredValue.Nearest(value) == value
            ? value
            : null;

    public override string Pattern(string pattern) => EcmaPattern.ToEnd(pattern);

    public override bool IsStored(StoredValue value, EdmType type) => value.Kind != StoredValueKind.Double || !double.IsNaN(value.Double);

    public override bool Has(double value) => !double.IsNaN(value);

    public override StoredValue Encode(object value, EdmType type, string? storageForm) =>
        value switch
        {
            bool flag => StoredValue.From(flag ? 1L : 0L),
            long number => StoredValue.From(number),
            LongDecimal number => StoredValue.From(number.Nearest),
            decimal number => Number(number),
            double number => StoredValue.From(number),
            string text => StoredValue.From(text),
            Guid guid => StoredValue.From(storageForm == "upper" ? guid.ToString().ToUpperInvariant() : guid.ToString()),
            DateOnly date => StoredValue.From(date.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture)),
            TimeOnly time => StoredValue.From(SqliteText.FullTime(time)),
            DateTime instant => StoredValue.From(SqliteText.Instant(instant, storageForm ?? SqliteText.UsualInstantForm)),
            TimeSpan duration => Number(duration.Ticks / (decimal)TimeSpan.TicksPerSecond),
            byte[] bytes => StoredValue.From(bytes),
            _ => throw new ArgumentOutOfRangeException(nameof(value), value.GetType().Name),
        };

    public override string FirstChildren(ChildrenSql children)
    {
        var first = $"WHERE {children.BelongTo("x")}{children.AndFilter("x")} ORDER BY {children.OrderOf("x")} {children.Limits}";
        // A row is found by its number much faster than by a key of several columns.
        if (children.RowId is { } number)
            return $"JOIN {children.Table} AS c ON c.{number} IN (SELECT x.{number} FROM {children.From("x")} {first})";
        var key = children.Key.Count == 1 ? children.KeyOf("c") : $"({children.KeyOf("c")})";
        return $"JOIN {children.Table} AS c ON {children.BelongTo("c")} AND {key} IN (SELECT {children.KeyOf("x")} FROM "
            + $"{children.From("x")} {first})";
    }

    private static StoredValue Number(decimal number) =>
        decimal.IsInteger(number) && Math.Abs(number) < long.MaxValue
            ? StoredValue.From((long)number)
            : StoredValue.From(StoredValue.Nearest(number));

    public override string TextPart(SqlOperand text, TextPart part)
    {
        var digits = $"substr({text.Sql}, {part.Start}, {part.Length})";
        var isWhole = part.Width is { } width ? $"length({text.Sql}) = {width} AND " : "";
        var pattern = string.Concat(Enumerable.Repeat("[0-9]", part.Length));
        return $"(CASE WHEN {isWhole}{digits} GLOB '{pattern}' THEN CAST({digits} AS INTEGER) END)";
    }

    private static string Part(string sql, int start, int length) => $"CAST(substr({sql}, {start}, {length}) AS INTEGER)";

    private static string Time(SqlOperand operand) => operand.Type.Kind == EdmKind.TimeOfDay ? operand.Sql : $"substr({operand.Sql}, 12)";

    // Decimals are stored as binary doubles: rounding to the scale of the result gives the nearest one to the exact decimal.
    private static string Exact(string sql, EdmType result) =>
        result.Kind == EdmKind.Decimal ? $"round({sql}, {Math.Min(result.Scale ?? 12, 15).ToString(CultureInfo.InvariantCulture)})" : sql;
}
