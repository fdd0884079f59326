using System.Globalization;
using RapidGable.Model;

namespace RapidGable.Sources.MariaDb;

/// <summary>SQL and values as MariaDB wants them. The session runs in UTC.</summary>
internal sealed class MariaDbDialect : SqlDialect
{
    public override string Quote(string identifier) => $"`{identifier.Replace("`", "``", StringComparison.Ordinal)}`";

    public override string Searched(string quotedColumn) => $"LOWER(CAST({quotedColumn} AS CHAR))";

    public override SourceStatement? DefinitionOf(SourceObject item) =>
        item.Kind == SourceObjectKind.View
            ? About(
                item,
                "SELECT view_definition FROM information_schema.views WHERE table_schema = COALESCE(?, DATABASE()) AND table_name = ?"
            )
            : null;

    public override SourceStatement? SizeOf(SourceObject item) =>
        item.Kind == SourceObjectKind.Table
            ? About(
                item,
                "SELECT CAST(COALESCE(data_length, 0) + COALESCE(index_length, 0) AS SIGNED) FROM information_schema.tables "
                    + "WHERE table_schema = COALESCE(?, DATABASE()) AND table_name = ?"
            )
            : null;

    private static SourceStatement About(SourceObject item, string sql) =>
        new(sql, new[] { item.Schema is { } schema ? StoredValue.From(schema) : StoredValue.Null, StoredValue.From(item.Name) });

    public override SqlLexis Lexis { get; } =
        new(HasBackslashEscapes: true, HasHashComments: true, NeedsBlankAfterDashes: true, OwnPlaceholders: "?@");

    public override string Parameter(int number) => "@p" + number.ToString(CultureInfo.InvariantCulture);

    public override string Parameter(int number, EdmType type, string? storageForm) =>
        storageForm == Microseconds
            ? $"CAST({Parameter(number)} AS SIGNED)"
            : type.Kind switch
            {
                EdmKind.Decimal => $"CAST({Parameter(number)} AS DECIMAL(65,30))",
                EdmKind.Date => $"CAST({Parameter(number)} AS DATE)",
                EdmKind.DateTimeOffset => $"CAST({Parameter(number)} AS DATETIME(6))",
                EdmKind.Duration or EdmKind.TimeOfDay => $"CAST({Parameter(number)} AS TIME(6))",
                _ => Parameter(number),
            };

    /// <summary>A computed duration: a TIME ends at 838 hours, so durations are counted in microseconds.</summary>
    private const string Microseconds = "microseconds";

    /// <summary>A date or time that is published as the text that the server makes of it.</summary>
    public const string AsCharacters = "characters";

    /// <summary>A uuid kept as text, whose letters may be of either case.</summary>
    public const string SmallLetters = "lower";

    public override RoutineForm Routines => RoutineForm.Variables;

    public override string Column(string quotedColumn, string? storageForm) =>
        storageForm switch
        {
            SmallLetters => $"LOWER({quotedColumn})",
            AsCharacters => $"CAST({quotedColumn} AS CHAR)",
            _ => quotedColumn,
        };

    public override string? Unrepresentable(string quotedColumn, EdmType type) =>
        type.Kind is EdmKind.Date or EdmKind.DateTimeOffset
            ? $"(YEAR({quotedColumn}) = 0 OR MONTH({quotedColumn}) = 0 OR DAYOFMONTH({quotedColumn}) = 0 OR "
                + $"LAST_DAY({quotedColumn}) < DATE({quotedColumn}))"
            : null;

    public override string? Exact(SqlOperand text) => $"CONVERT({text.Sql} USING utf8mb4) COLLATE utf8mb4_nopad_bin";

    public override bool KeepsMarkers => false;

    public override string Opaque(string condition) => $"EXISTS (SELECT 1 FROM DUAL WHERE {condition})";

    public override string Fence => " LIMIT 18446744073709551615";

    public override string NullSafeEqual(string left, string right) => $"{left} <=> {right}";

    // Nulls come first ascending and last descending by themselves.
    public override string Matches(TextIndex index, string alias, string term) =>
        $"MATCH ({string.Join(", ", index.Columns.Select(c => $"{alias}.{Quote(c)}"))}) AGAINST (CONCAT('\"', REPLACE({term}, "
        + $"'\"', ' '), '\"') IN BOOLEAN MODE)";

    public override string OrderTerm(string sql, bool descending, bool mayBeNull) => descending ? sql + " DESC" : sql;

    public override (string Left, string Right) Comparable(SqlOperand left, SqlOperand right) =>
        left.Type.Kind == EdmKind.Duration && left.StorageForm != right.StorageForm ? (Counted(left), Counted(right))
        : HaveOneCollation([left, right]) ? (left.Sql, right.Sql)
        : (Exact(left)!, Exact(right)!);

    /// <summary>Whether the server knows which collation to compare by; two columns may differ in that.</summary>
    private static bool HaveOneCollation(IEnumerable<SqlOperand> operands) =>
        operands.Select(o => o.Collation).OfType<string>().Distinct().Take(2).Count() < 2;

    // Numbers stand in statements as DECIMAL(65,30).
    public override bool Has(LongDecimal value) => value.WholeDigits <= 35 && value.Scale <= 30;

    public override string Pattern(string pattern) => EcmaPattern.ToEnd(pattern);

    public override bool IsStored(StoredValue value, EdmType type) => value.Kind != StoredValueKind.Double || double.IsFinite(value.Double);

    private static string Counted(SqlOperand duration) =>
        duration.StorageForm == Microseconds ? duration.Sql : $"CAST(TIME_TO_SEC({duration.Sql}) * 1000000 AS SIGNED)";

    public override string? ComputedForm(EdmType type) => type.Kind == EdmKind.Duration ? Microseconds : null;

    public override string? Temporal(ArithmeticOperator op, SqlOperand left, SqlOperand right, EdmType result)
    {
        string Side(SqlOperand operand) => operand.Type.Kind == EdmKind.Duration ? Counted(operand) : operand.Sql;
        var (a, b) = (Side(left), Side(right));
        var sign = op == ArithmeticOperator.Sub ? "-" : "";
        return (left.Type.Kind, right.Type.Kind, op) switch
        {
            (EdmKind.DateTimeOffset, EdmKind.DateTimeOffset, _) => $"TIMESTAMPDIFF(MICROSECOND, {b}, {a})",
            (EdmKind.Date, EdmKind.Date, _) => $"(DATEDIFF({a}, {b}) * 86400000000)",
            (EdmKind.DateTimeOffset, _, _) => $"TIMESTAMPADD(MICROSECOND, {sign}({b}), {a})",
            (EdmKind.Date, _, _) => $"DATE(TIMESTAMPADD(MICROSECOND, {sign}({b}), CAST({a} AS DATETIME(6))))",
            (_, _, ArithmeticOperator.Add) => $"({a} + {b})",
            (_, _, ArithmeticOperator.Sub) => $"({a} - {b})",
            (_, _, ArithmeticOperator.Mul) => $"ROUND({a} * {b})",
            _ => $"ROUND({a} / {Divisor(b)})",
        };
    }

    protected override string Rounded(string number) => $"ROUND(CAST({number} AS DECIMAL(65,30)))";

    protected override string AsInteger(string wholeNumber) => $"CAST({wholeNumber} AS SIGNED)";

    protected override string AsDecimal(string number) => $"CAST({number} AS DECIMAL(38,9))";

    protected override string AsDouble(string number) => $"CAST({number} AS DOUBLE)";

    protected override string AsText(string value) => $"LOWER(CAST({value} AS CHAR))";

    protected override string AtMidnight(string date) => $"CAST({date} AS DATETIME(6))";

    public override string? Result(string sql, EdmType type, string? storageForm) =>
        storageForm == Microseconds ? null
        : type.Kind == EdmKind.DateTimeOffset ? $"CAST({sql} AS DATETIME(6))"
        : sql;

    public override string? Unnest(SqlOperand collection, EdmType item, string alias) =>
        $"JSON_TABLE({collection.Sql}, '$[*]' COLUMNS (value LONGTEXT PATH '$')) AS {alias}";

    public override string Item(string alias, EdmType type) =>
        type.Kind switch
        {
            EdmKind.Boolean => $"({alias}.value IN ('1', 'true'))",
            EdmKind.String => $"{alias}.value",
            _ when type.IsFloating => $"CAST({alias}.value AS DOUBLE)",
            _ => $"CAST({alias}.value AS DECIMAL(65,30))",
        };

    /// <summary>Text whose case and accents count, whatever the column's collation says.</summary>
    private static string Exact(string sql) => $"CONVERT({sql} USING utf8mb4) COLLATE utf8mb4_bin";

    public override string? Call(CanonicalFunction function, IReadOnlyList<SqlOperand> arguments)
    {
        if (!HaveOneCollation(arguments))
            arguments = [.. arguments.Select(x => x.Type.Kind == EdmKind.String ? x with { Sql = Exact(x)! } : x)];
        var a = arguments.Count > 0 ? arguments[0].Sql : "";
        var b = arguments.Count > 1 ? arguments[1].Sql : "";
        return function switch
        {
            CanonicalFunction.Contains => $"(LOCATE({Exact(b)}, {Exact(a)}) > 0)",
            CanonicalFunction.StartsWith => $"(LOCATE({Exact(b)}, {Exact(a)}) = 1)",
            CanonicalFunction.EndsWith => $"(LOCATE(REVERSE({Exact(b)}), REVERSE({Exact(a)})) = 1)",
            CanonicalFunction.IndexOf => $"(LOCATE({Exact(b)}, {Exact(a)}) - 1)",
            CanonicalFunction.Length => $"CHAR_LENGTH({a})",
            CanonicalFunction.ToLower => $"LOWER({a})",
            CanonicalFunction.ToUpper => $"UPPER({a})",
            CanonicalFunction.Trim => $"REGEXP_REPLACE({a}, '^[[:space:]]+|[[:space:]]+$', '')",
            CanonicalFunction.Concat => $"CONCAT({a}, {b})",
            CanonicalFunction.Year => $"YEAR({a})",
            CanonicalFunction.Month => $"MONTH({a})",
            CanonicalFunction.Day => $"DAYOFMONTH({a})",
            CanonicalFunction.Hour => $"HOUR({a})",
            CanonicalFunction.Minute => $"MINUTE({a})",
            CanonicalFunction.Second => $"SECOND({a})",
            CanonicalFunction.FractionalSeconds => $"(MICROSECOND({a}) / 1000000)",
            CanonicalFunction.Date => $"DATE({a})",
            CanonicalFunction.Time => $"TIME({a})",
            CanonicalFunction.Round => $"ROUND(CAST({a} AS DECIMAL(65,30)))",
            CanonicalFunction.Floor => $"FLOOR({a})",
            CanonicalFunction.Ceiling => $"CEILING({a})",
            CanonicalFunction.Substring => $"SUBSTRING({a}, IF({b} < 0, GREATEST(CHAR_LENGTH({a}) + {b}, 0), {b}) + "
                + $"1{(arguments.Count > 2 ? $", GREATEST({arguments[2].Sql}, 0)" : "")})",
            CanonicalFunction.MatchesPattern => $"({Exact(a)} REGEXP {b})",
            CanonicalFunction.TotalOffsetMinutes => $"(CASE WHEN {a} IS NOT NULL THEN 0 END)",
            CanonicalFunction.TotalSeconds => $"({Counted(arguments[0])} / 1000000)",
            _ => null,
        };
    }

    public override string TextPart(SqlOperand text, TextPart part)
    {
        var digits = $"SUBSTRING({text.Sql}, {part.Start}, {part.Length})";
        var isWhole = part.Width is { } width ? $"CHAR_LENGTH({text.Sql}) = {width} AND " : "";
        return $"(CASE WHEN {isWhole}{digits} REGEXP '^[0-9]{{{part.Length}}}$' THEN CAST({digits} AS SIGNED) END)";
    }

    public override string Arithmetic(ArithmeticOperator op, SqlOperand left, SqlOperand right, EdmType result)
    {
        var (a, b) = (left.Sql, right.Sql);
        return op switch
        {
            ArithmeticOperator.Add => $"({a} + {b})",
            ArithmeticOperator.Sub => $"({a} - {b})",
            ArithmeticOperator.Mul => $"({a} * {b})",
            ArithmeticOperator.Mod => $"({a} % {Divisor(b)})",
            ArithmeticOperator.Div when result.IsIntegral => $"({a} DIV {Divisor(b)})",
            // The server knows no infinity, so a floating division by zero fails like any other.
            _ => $"({a} / {Divisor(b)})",
        };
    }

    /// <summary>The server divides by zero to NULL; a subquery of two rows makes it fail instead, which is known by its error.</summary>
    private static string Divisor(string sql) => $"IF({sql} = 0, (SELECT 1 UNION ALL SELECT 2), {sql})";

    public override string DefaultRow => "() VALUES ()";

    public override bool KeepsWhatRefersToItself => true;

    public override bool Has(double value) => double.IsFinite(value);

    public override StoredValue Encode(object value, EdmType type, string? storageForm) =>
        value switch
        {
            bool flag => StoredValue.From(flag ? 1L : 0L),
            long number => StoredValue.From(number),
            LongDecimal number => StoredValue.From(number.Text),
            decimal number => StoredValue.From(number.ToString(CultureInfo.InvariantCulture)),
            double number => StoredValue.From(number),
            string text => StoredValue.From(text),
            Guid guid => StoredValue.From(guid.ToString()),
            DateOnly date => StoredValue.From(date.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture)),
            TimeOnly time => StoredValue.From(time.ToString("HH:mm:ss.ffffff", CultureInfo.InvariantCulture)),
            DateTime instant => StoredValue.From(Text(instant)),
            TimeSpan duration when storageForm == Microseconds => StoredValue.From(duration.Ticks / 10),
            TimeSpan duration => StoredValue.From(Text(duration)),
            byte[] bytes => StoredValue.From(bytes),
            _ => throw new ArgumentOutOfRangeException(nameof(value), value.GetType().Name),
        };

    internal static string Text(MySqlConnector.MySqlDateTime time) =>
        string.Create(
            CultureInfo.InvariantCulture,
            $"{time.Year:0000}-{time.Month:00}-{time.Day:00} {time.Hour:00}:{time.Minute:00}:{time.Second:00}.{time.Microsecond:000000}"
        );

    internal static string Text(DateTime instant) => instant.ToString("yyyy-MM-dd HH:mm:ss.ffffff", CultureInfo.InvariantCulture);

    internal static string Text(TimeSpan duration) =>
        string.Create(
            CultureInfo.InvariantCulture,
            $"{(duration < TimeSpan.Zero ? "-" : "")}{Math.Abs((long)duration.TotalHours):00}:{Math.Abs(duration.Minutes):00}:"
                + $"{Math.Abs(duration.Seconds):00}.{Math.Abs(duration.Ticks % TimeSpan.TicksPerSecond) / 10:000000}"
        );

    public override string InnerParents => "z";

    // There are no lateral joins: the children of the page's parents are numbered, and only theirs.
    public override string FirstChildren(ChildrenSql children)
    {
        if (children.IsGuarded)
            return FirstChildren(Fenced(children));
        var references = string.Join(", ", children.References.Select(r => "y." + r.Child));
        var parents = string.Join(", ", children.References.Select(r => "z." + r.Parent));
        var rank = children.Skip is { } skip
            ? $"c.gable_rank > {skip} AND c.gable_rank <= {skip} + {children.Limit}"
            : $"c.gable_rank <= {children.Limit}";
        if (children.IsPerParent)
        {
            var on = string.Join(" AND ", children.References.Select(r => $"y.{r.Child} = z.{r.Parent}"));
            return $"JOIN (SELECT y.*, z.n AS gable_n, ROW_NUMBER() OVER (PARTITION BY z.n ORDER BY {children.OrderOf("y")}) "
                + $"AS gable_rank FROM {children.From("y")} JOIN ({children.Page}) AS z ON {on} WHERE "
                + $"TRUE{children.AndFilter("y")}) AS c ON c.gable_n = p.n AND {rank}";
        }
        var belong = children.References.Count == 1 ? $"{references} IN" : $"({references}) IN";
        return $"JOIN (SELECT y.*, ROW_NUMBER() OVER (PARTITION BY {references} ORDER BY {children.OrderOf("y")}) AS "
            + $"gable_rank FROM {children.From("y")} WHERE {belong} (SELECT {parents} FROM ({children.Page}) AS "
            + $"z){children.AndFilter("y")}) AS c ON {children.BelongTo("c")} AND {rank}";
    }

    /// <summary>The same over the children of the page's parents alone, chosen before the filter is evaluated.</summary>
    private ChildrenSql Fenced(ChildrenSql children)
    {
        var references = string.Join(", ", children.References.Select(r => "w." + r.Child));
        var parents = string.Join(", ", children.References.Select(r => "z." + r.Parent));
        var belong = children.References.Count == 1 ? $"{references} IN" : $"({references}) IN";
        return children with
        {
            IsGuarded = false,
            Table = $"(SELECT w.* FROM {children.Table} AS w WHERE {belong} (SELECT {parents} FROM ({children.Page}) AS z){Fence})",
        };
    }
}
