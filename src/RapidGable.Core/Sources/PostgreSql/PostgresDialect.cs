using System.Globalization;
using RapidGable.Model;

namespace RapidGable.Sources.PostgreSql;

/// <summary>SQL and values as PostgreSQL wants them. The session runs in UTC; values go as text and are cast in the statement.</summary>
internal sealed class PostgresDialect : SqlDialect
{
    public override string True => "TRUE";

    public override string False => "FALSE";

    public override string Quote(string identifier) => $"\"{identifier.Replace("\"", "\"\"", StringComparison.Ordinal)}\"";

    public override SourceStatement? DefinitionOf(SourceObject item) =>
        item.Kind is SourceObjectKind.View or SourceObjectKind.MaterializedView
            ? About(item, "SELECT pg_get_viewdef((quote_ident($1) || '.' || quote_ident($2))::regclass, true)")
            : null;

    public override SourceStatement? SizeOf(SourceObject item) =>
        item.Kind is SourceObjectKind.Table or SourceObjectKind.MaterializedView
            ? About(item, "SELECT pg_total_relation_size((quote_ident($1) || '.' || quote_ident($2))::regclass)")
            : null;

    private static SourceStatement About(SourceObject item, string sql) =>
        new(sql, new[] { StoredValue.From(item.Schema ?? "public"), StoredValue.From(item.Name) });

    public override SqlLexis Lexis { get; } = new(HasNestedComments: true, HasDollarQuotes: true, OwnPlaceholders: "$");

    public override string Parameter(int number) => "$" + number.ToString(CultureInfo.InvariantCulture);

    public override string Parameter(int number, EdmType type, string? storageForm) =>
        storageForm == PostgresTypes.Local
            ? $"(${number.ToString(CultureInfo.InvariantCulture)}::timestamptz AT TIME ZONE 'UTC')"
            : $"${number.ToString(CultureInfo.InvariantCulture)}::{CastOf(type.Kind)}";

    public override RoutineForm Routines => RoutineForm.Arguments;

    public override bool ReadsChanges => true;

    public override string Argument(int number, EdmType type, string? storageForm) =>
        type.Kind switch
        {
            EdmKind.Byte or EdmKind.SByte or EdmKind.Int16 => $"{Parameter(number)}::smallint",
            EdmKind.Int32 => $"{Parameter(number)}::integer",
            EdmKind.Single => $"{Parameter(number)}::real",
            _ => Parameter(number, type, storageForm),
        };

    // The forms of PostgresRows.GetStored. A parameter that the server cannot read would also confuse what the library keeps of a
    // prepared statement.
    public override bool IsStored(StoredValue value, EdmType type) =>
        value.Kind switch
        {
            StoredValueKind.Null => true,
            StoredValueKind.Int64 => type.IsNumeric,
            StoredValueKind.Blob => type.Kind == EdmKind.Binary,
            StoredValueKind.Text => IsText(value.Text, type),
            _ => false,
        };

    private static bool IsText(string text, EdmType type) =>
        type.Kind switch
        {
            EdmKind.Boolean => text is "true" or "false",
            EdmKind.Decimal or EdmKind.Single or EdmKind.Double => IsNumber(text),
            _ when type.IsNumeric => long.TryParse(text, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out _),
            EdmKind.Guid => Guid.TryParseExact(text, "D", out _),
            EdmKind.Date => DateOnly.TryParseExact(text, "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out _)
                || PostgresTime.IsFar(text),
            EdmKind.TimeOfDay => TimeOnly.TryParseExact(text, "HH:mm:ss.ffffff", CultureInfo.InvariantCulture, DateTimeStyles.None, out _),
            EdmKind.DateTimeOffset => DateTime.TryParseExact(text, "O", CultureInfo.InvariantCulture, DateTimeStyles.RoundtripKind, out _)
                || PostgresTime.IsFar(text),
            EdmKind.Duration => PostgresTime.IsFar(text)
                || text.EndsWith(" seconds", StringComparison.Ordinal)
                    && decimal.TryParse(
                        text.AsSpan(0, text.Length - 8),
                        NumberStyles.AllowLeadingSign | NumberStyles.AllowDecimalPoint,
                        CultureInfo.InvariantCulture,
                        out _
                    ),
            EdmKind.Binary => false,
            _ => !text.Contains('\0'),
        };

    private static bool IsNumber(string text) =>
        double.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out var number)
        && (
            double.IsFinite(number)
                ? number != 0 || !text.AsSpan().ContainsAnyInRange('1', '9')
                : text is "NaN" or "Infinity" or "-Infinity"
        );

    public override string Column(string quotedColumn, string? storageForm) =>
        storageForm switch
        {
            PostgresTypes.AsText => quotedColumn + "::text",
            PostgresTypes.AsUuid => quotedColumn + "::uuid",
            PostgresTypes.AsJson => $"to_json({quotedColumn})::text",
            PostgresTypes.AsNumber => quotedColumn + "::numeric",
            "bigint" => quotedColumn + "::text::bigint",
            _ => quotedColumn,
        };

    // Some types, such as json and point, have no equality; their texts have.
    protected override string Groupable(string quotedColumn, string? storageForm) =>
        storageForm == PostgresTypes.AsText ? quotedColumn + "::text" : quotedColumn;

    public override string? Unrepresentable(string quotedColumn, EdmType type) =>
        type.Kind switch
        {
            // Infinity is after everything, and its counterpart before.
            EdmKind.Date => $"{quotedColumn} NOT BETWEEN '0001-01-01' AND '9999-12-31'",
            EdmKind.DateTimeOffset => $"({quotedColumn} < '0001-01-01' OR {quotedColumn} >= '10000-01-01')",
            EdmKind.Duration => $"(EXTRACT(YEAR FROM {quotedColumn}) <> 0 OR EXTRACT(MONTH FROM {quotedColumn}) <> 0)",
            EdmKind.Decimal => $"{quotedColumn}::text IN ('NaN', 'Infinity', '-Infinity')",
            _ => null,
        };

    // A text that is read as a uuid is still a text to a join.
    public override bool CanJoin(string? storageForm, string? other) =>
        (storageForm == PostgresTypes.AsUuid) == (other == PostgresTypes.AsUuid);

    public override string? Exact(SqlOperand text) => text.StorageForm == PostgresTypes.Loose ? $"({text.Sql}) COLLATE \"C\"" : null;

    public override string Fence => " OFFSET 0";

    public override bool KeepsMarkers => true;

    public override string NullSafeEqual(string left, string right) => $"{left} IS NOT DISTINCT FROM {right}";

    // The expression of an index names its columns without their table, and is asked where that is the only one.
    public override string Matches(TextIndex index, string alias, string term) =>
        $"{index.Form} @@ phraseto_tsquery({(index.Language is { } language ? $"'{language}', " : "")}{term})";

    // Where there are no nulls nothing is said of them: an index serves an order only when both say the same.
    public override string OrderTerm(string sql, bool descending, bool mayBeNull) =>
        (descending, mayBeNull) switch
        {
            (true, true) => sql + " DESC NULLS LAST",
            (true, false) => sql + " DESC",
            (false, true) => sql + " NULLS FIRST",
            _ => sql,
        };

    public override (string Left, string Right) Comparable(SqlOperand left, SqlOperand right)
    {
        if (left.Type.Kind != EdmKind.DateTimeOffset || left.StorageForm == right.StorageForm)
            return (left.Sql, right.Sql);
        return (Zoned(left), Zoned(right));
    }

    private static string Zoned(SqlOperand operand) =>
        operand.StorageForm == PostgresTypes.Local ? $"({operand.Sql} AT TIME ZONE 'UTC')" : operand.Sql;

    public override string? Call(CanonicalFunction function, IReadOnlyList<SqlOperand> arguments)
    {
        // Texts of a loose collation are not searched by the server, so they are taken as they are.
        arguments = [.. arguments.Select(x => Exact(x) is { } exact ? x with { Sql = exact } : x)];
        var a = arguments.Count > 0 ? arguments[0].Sql : "";
        var b = arguments.Count > 1 ? arguments[1].Sql : "";
        return function switch
        {
            CanonicalFunction.Contains => $"(strpos({a}, {b}) > 0)",
            CanonicalFunction.StartsWith => $"starts_with({a}, {b})",
            CanonicalFunction.EndsWith => $"(right({a}, length({b})) = {b})",
            CanonicalFunction.IndexOf => $"(strpos({a}, {b}) - 1)",
            CanonicalFunction.Length => $"length({a})",
            CanonicalFunction.ToLower => $"({Folded("lower", a)})",
            CanonicalFunction.ToUpper => $"({Folded("upper", a)})",
            CanonicalFunction.Trim => $"btrim({a}, E' \\t\\n\\r\\f\\v')",
            CanonicalFunction.Concat => $"({a} || {b})",
            CanonicalFunction.Year => Part("YEAR", arguments[0]),
            CanonicalFunction.Month => Part("MONTH", arguments[0]),
            CanonicalFunction.Day => Part("DAY", arguments[0]),
            CanonicalFunction.Hour => Part("HOUR", arguments[0]),
            CanonicalFunction.Minute => Part("MINUTE", arguments[0]),
            CanonicalFunction.Second => $"floor(EXTRACT(SECOND FROM {a}))::int",
            CanonicalFunction.FractionalSeconds => $"(EXTRACT(SECOND FROM {a}) - floor(EXTRACT(SECOND FROM {a})))",
            CanonicalFunction.Date => $"({a})::date",
            CanonicalFunction.Time => $"({a})::time",
            CanonicalFunction.Round => arguments[0].Type.IsFloating ? $"round(({a})::numeric)::float8" : $"round(({a})::numeric)",
            // Of an integer the server would make a double, which its other operators do not take.
            CanonicalFunction.Floor => arguments[0].Type.IsFloating ? $"floor({a})" : $"floor(({a})::numeric)",
            CanonicalFunction.Ceiling => arguments[0].Type.IsFloating ? $"ceil({a})" : $"ceil(({a})::numeric)",
            CanonicalFunction.Substring => Substring(a, b, arguments.Count > 2 ? arguments[2].Sql : null),
            // Anchors stand for the ends of the text and a dot for anything but a line's end, as in ECMAScript.
            CanonicalFunction.MatchesPattern => $"({a} ~ ('(?p)' || {b}))",
            CanonicalFunction.TotalOffsetMinutes => $"(CASE WHEN {a} IS NOT NULL THEN 0 END)",
            CanonicalFunction.TotalSeconds => $"EXTRACT(EPOCH FROM {a})",
            _ => null,
        };
    }

    public override string TextPart(SqlOperand text, TextPart part)
    {
        var whole = Exact(text) ?? $"({text.Sql})::text";
        var digits = $"substr({whole}, {part.Start}, {part.Length})";
        var isWhole = part.Width is { } width ? $"length({whole}) = {width} AND " : "";
        return $"(CASE WHEN {isWhole}{digits} ~ '^[0-9]{{{part.Length}}}$' THEN {digits}::int END)";
    }

    private static string Substring(string text, string start, string? length)
    {
        var from = $"(CASE WHEN {start} < 0 THEN greatest(length({text}) + {start}, 0) ELSE least({start}, 2000000000) END + 1)::int";
        return length is null ? $"substr({text}, {from})" : $"substr({text}, {from}, least(greatest({length}, 0), 2000000000)::int)";
    }

    public override string? Temporal(ArithmeticOperator op, SqlOperand left, SqlOperand right, EdmType result)
    {
        var (a, b) = (left.Sql, right.Sql);
        return (left.Type.Kind, right.Type.Kind, op) switch
        {
            (EdmKind.Date, EdmKind.Date, _) => $"(({a} - {b}) * interval '1 day')",
            (EdmKind.Date, _, _) => $"(({a} {(op == ArithmeticOperator.Add ? "+" : "-")} {b})::date)",
            (_, _, ArithmeticOperator.Add) => $"({a} + {b})",
            (_, _, ArithmeticOperator.Sub) => $"({a} - {b})",
            (EdmKind.Duration, _, ArithmeticOperator.Mul) => $"({a} * ({b})::float8)",
            (_, EdmKind.Duration, ArithmeticOperator.Mul) => $"(({a})::float8 * {b})",
            _ => $"({a} / ({b})::float8)",
        };
    }

    protected override string Rounded(string number) => $"round(({number})::numeric)";

    protected override string AsInteger(string wholeNumber) => $"({wholeNumber})::bigint";

    protected override string AsDecimal(string number) => $"({number})::numeric";

    protected override string AsDouble(string number) => $"({number})::float8";

    protected override string AsText(string value) => $"({value})::text";

    protected override string AtMidnight(string date) => $"({date})::timestamptz";

    public override string? Result(string sql, EdmType type, string? storageForm) => $"({sql})::{CastOf(type.Kind)}";

    public override string? Unnest(SqlOperand collection, EdmType item, string alias) =>
        $"json_array_elements_text(({collection.Sql})::json) AS {alias}(value)";

    public override string Item(string alias, EdmType type) => $"({alias}.value)::{CastOf(type.Kind)}";

    // Letters fold by Unicode whatever the database's locale; the result compares like any other text of the database.
    private static string Folded(string function, string sql) => $"{function}({sql} COLLATE \"und-x-icu\") COLLATE \"default\"";

    // The session's zone is UTC, so that parts of both kinds of timestamp are taken there.
    private static string Part(string part, SqlOperand operand) => $"EXTRACT({part} FROM {operand.Sql})::int";

    public override string Arithmetic(ArithmeticOperator op, SqlOperand left, SqlOperand right, EdmType result)
    {
        var (a, b) = (left.Sql, right.Sql);
        return op switch
        {
            ArithmeticOperator.Add => $"({a} + {b})",
            ArithmeticOperator.Sub => $"({a} - {b})",
            ArithmeticOperator.Mul => $"({a} * {b})",
            ArithmeticOperator.Mod when result.IsFloating => $"mod(({a})::numeric, ({b})::numeric)::float8",
            ArithmeticOperator.Mod => $"({a} % {b})",
            ArithmeticOperator.Div when result.IsIntegral => $"({a} / {b})",
            // Floating division by zero is infinite; 0 by 0 is NaN, which would be the largest number here, so it becomes null.
            _ when result.IsFloating =>
                $"(CASE WHEN ({b}) = 0 THEN NULLIF(({a})::float8, 0) * 'Infinity'::float8 ELSE ({a})::float8 / ({b})::float8 END)",
            _ => $"(({a})::numeric / ({b})::numeric)",
        };
    }

    /// <summary>Values of several parts come as JSON, and the server makes of it what the column holds.</summary>
    public override string Assigned(int number, Property column, TableSource table) =>
        column.StorageForm == PostgresTypes.AsJson
            ? $"(SELECT j.{Quote(column.Column)} FROM json_populate_record(NULL::{Table(table.Schema, table.Name)}, "
                + $"json_build_object({Text(column.Column)}, {Parameter(number)}::json)) AS j)"
            : Parameter(number);

    private static string Text(string value) => $"'{value.Replace("'", "''", StringComparison.Ordinal)}'";

    public override StoredValue Encode(object value, EdmType type, string? storageForm) =>
        value switch
        {
            bool flag => StoredValue.From(flag ? "true" : "false"),
            long number => StoredValue.From(number.ToString(CultureInfo.InvariantCulture)),
            decimal number => StoredValue.From(number.ToString(CultureInfo.InvariantCulture)),
            LongDecimal number => StoredValue.From(number.Text),
            double number => StoredValue.From(
                double.IsPositiveInfinity(number) ? "Infinity"
                : double.IsNegativeInfinity(number) ? "-Infinity"
                : number.ToString("R", CultureInfo.InvariantCulture)
            ),
            string text => StoredValue.From(text),
            Guid guid => StoredValue.From(guid.ToString()),
            DateOnly date => StoredValue.From(date.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture)),
            TimeOnly time => StoredValue.From(time.ToString("HH:mm:ss.fffffff", CultureInfo.InvariantCulture)),
            DateTime instant => StoredValue.From(instant.ToString("O", CultureInfo.InvariantCulture)),
            // The server does not read a sign before an ISO duration.
            TimeSpan duration => StoredValue.From(
                (duration.Ticks / (decimal)TimeSpan.TicksPerSecond).ToString(CultureInfo.InvariantCulture) + " seconds"
            ),
            byte[] bytes => StoredValue.From(bytes),
            _ => throw new ArgumentOutOfRangeException(nameof(value), value.GetType().Name),
        };

    public override string FirstChildren(ChildrenSql children) =>
        $"JOIN LATERAL (SELECT x.* FROM {children.From("x")} WHERE {children.BelongTo("x")}{children.AndFilter("x")} ORDER BY "
        + $"{children.OrderOf("x")} {children.Limits}) AS c ON TRUE";

    private static string CastOf(EdmKind kind) =>
        kind switch
        {
            EdmKind.Boolean => "boolean",
            EdmKind.Byte or EdmKind.SByte or EdmKind.Int16 or EdmKind.Int32 or EdmKind.Int64 => "bigint",
            EdmKind.Decimal => "numeric",
            EdmKind.Single => "real",
            EdmKind.Double => "float8",
            EdmKind.Guid => "uuid",
            EdmKind.Date => "date",
            EdmKind.TimeOfDay => "time",
            EdmKind.DateTimeOffset => "timestamptz",
            EdmKind.Duration => "interval",
            EdmKind.Binary => "bytea",
            _ => "text",
        };
}
