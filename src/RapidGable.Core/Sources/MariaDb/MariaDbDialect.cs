using System.Globalization;
using RapidGable.Model;

namespace RapidGable.Sources.MariaDb;

/// <summary>SQL and values as MariaDB wants them. The session runs in UTC.</summary>
internal sealed class MariaDbDialect : SqlDialect
{
    public override string Quote(string identifier) => $"`{identifier.Replace("`", "``", StringComparison.Ordinal)}`";

    public override string Parameter(int number) => "@p" + number.ToString(CultureInfo.InvariantCulture);

    public override string Parameter(int number, EdmType type, string? storageForm) => type.Kind switch
    {
        EdmKind.Decimal => $"CAST({Parameter(number)} AS DECIMAL(65,30))",
        EdmKind.Date => $"CAST({Parameter(number)} AS DATE)",
        EdmKind.DateTimeOffset => $"CAST({Parameter(number)} AS DATETIME(6))",
        EdmKind.Duration or EdmKind.TimeOfDay => $"CAST({Parameter(number)} AS TIME(6))",
        _ => Parameter(number),
    };

    /// <summary>A uuid kept as text, whose letters may be of either case.</summary>
    public const string SmallLetters = "lower";

    public override string Column(string quotedColumn, string? storageForm) => storageForm == SmallLetters ? $"LOWER({quotedColumn})" : quotedColumn;

    public override string NullSafeEqual(string left, string right) => $"{left} <=> {right}";

    // Nulls come first ascending and last descending by themselves.
    public override string OrderTerm(string sql, bool descending) => descending ? sql + " DESC" : sql;

    public override (string Left, string Right) Comparable(SqlOperand left, SqlOperand right) => (left.Sql, right.Sql);

    /// <summary>Text whose case and accents count, whatever the column's collation says.</summary>
    private static string Exact(string sql) => $"CONVERT({sql} USING utf8mb4) COLLATE utf8mb4_bin";

    public override string? Call(CanonicalFunction function, IReadOnlyList<SqlOperand> arguments)
    {
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
            _ => null,
        };
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

    public override StoredValue Encode(object value, EdmType type, string? storageForm) => value switch
    {
        bool flag => StoredValue.From(flag ? 1L : 0L),
        long number => StoredValue.From(number),
        decimal number => StoredValue.From(number.ToString(CultureInfo.InvariantCulture)),
        double number => StoredValue.From(number),
        string text => StoredValue.From(text),
        Guid guid => StoredValue.From(guid.ToString()),
        DateOnly date => StoredValue.From(date.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture)),
        TimeOnly time => StoredValue.From(time.ToString("HH:mm:ss.ffffff", CultureInfo.InvariantCulture)),
        DateTime instant => StoredValue.From(Text(instant)),
        TimeSpan duration => StoredValue.From(Text(duration)),
        byte[] bytes => StoredValue.From(bytes),
        _ => throw new ArgumentOutOfRangeException(nameof(value), value.GetType().Name),
    };

    internal static string Text(DateTime instant) => instant.ToString("yyyy-MM-dd HH:mm:ss.ffffff", CultureInfo.InvariantCulture);

    internal static string Text(TimeSpan duration) => string.Create(CultureInfo.InvariantCulture,
        $"{(duration < TimeSpan.Zero ? "-" : "")}{Math.Abs((long)duration.TotalHours):00}:{Math.Abs(duration.Minutes):00}:{Math.Abs(duration.Seconds):00}.{Math.Abs(duration.Ticks % TimeSpan.TicksPerSecond) / 10:000000}");

    // There are no lateral joins: the children of the page's parents are numbered, and only theirs.
    public override string FirstChildren(ChildrenSql children)
    {
        var references = string.Join(", ", children.References.Select(r => "y." + r.Child));
        var parents = string.Join(", ", children.References.Select(r => "z." + r.Parent));
        var belong = children.References.Count == 1 ? $"{references} IN" : $"({references}) IN";
        return $"JOIN (SELECT y.*, ROW_NUMBER() OVER (PARTITION BY {references} ORDER BY {ChildOrder(children, "y")}) AS gable_rank FROM {children.Table} AS y WHERE {belong} (SELECT {parents} FROM ({children.Page}) AS z){children.AndFilter("y")}) AS c ON {children.BelongTo("c")} AND c.gable_rank <= {children.Limit}";
    }
}
