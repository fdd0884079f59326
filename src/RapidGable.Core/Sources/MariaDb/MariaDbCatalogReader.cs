using System.Collections.Immutable;
using System.Globalization;
using System.Text.RegularExpressions;
using MySqlConnector;
using RapidGable.Model;

namespace RapidGable.Sources.MariaDb;

/// <summary>Reads the whole catalog of the connected database in seven statements.</summary>
internal sealed partial class MariaDbCatalogReader(MySqlConnection connection, CancellationToken cancellation)
{
    private const string Tables =
        "SELECT table_name, table_type, table_comment FROM information_schema.tables WHERE table_schema = database() AND "
        + "table_type IN ('BASE TABLE', 'VIEW', 'SYSTEM VERSIONED') ORDER BY table_name";

    private const string Columns = """
        SELECT table_name, column_name, data_type, column_type, character_maximum_length, numeric_precision, numeric_scale,
            datetime_precision, is_nullable, column_default, extra, column_comment, collation_name
        FROM information_schema.columns WHERE table_schema = database() ORDER BY table_name, ordinal_position
        """;

    private const string Keys = """
        SELECT table_name, index_name, column_name, non_unique, index_type FROM information_schema.statistics
        WHERE table_schema = database() AND (sub_part IS NULL OR index_type = 'FULLTEXT') ORDER BY table_name, index_name, seq_in_index
        """;

    private const string ForeignKeys = """
        SELECT k.table_name, k.constraint_name, k.column_name, k.referenced_table_name, k.referenced_column_name, r.delete_rule
        FROM information_schema.key_column_usage k
        JOIN information_schema.referential_constraints r ON r.constraint_schema = k.constraint_schema
            AND r.constraint_name = k.constraint_name AND r.table_name = k.table_name
        WHERE k.table_schema = database() AND k.referenced_table_schema = database()
        ORDER BY k.table_name, k.constraint_name, k.ordinal_position
        """;

    private const string Checks =
        "SELECT table_name, constraint_name, check_clause FROM information_schema.check_constraints WHERE constraint_schema = "
        + "database() ORDER BY table_name, constraint_name";

    // There each check has a name of its own in the whole database.
    private const string ChecksOfMySql = """
        SELECT t.table_name, c.constraint_name, c.check_clause
        FROM information_schema.check_constraints c
        JOIN information_schema.table_constraints t ON t.constraint_schema = c.constraint_schema AND t.constraint_name = c.constraint_name
        WHERE c.constraint_schema = database() ORDER BY t.table_name, c.constraint_name
        """;

    private const string RoutineNames =
        "SELECT specific_name, routine_type, dtd_identifier, routine_comment, sql_data_access, is_deterministic, routine_definition FROM "
        + "information_schema.routines WHERE "
        + "routine_schema = database() ORDER BY specific_name";

    private const string Parameters =
        "SELECT specific_name, parameter_name, dtd_identifier, parameter_mode, data_type, character_maximum_length, numeric_precision, "
        + "numeric_scale, datetime_precision FROM information_schema.parameters WHERE "
        + "specific_schema = database() AND ordinal_position > 0 ORDER BY specific_name, ordinal_position";

    public async Task<SourceCatalog> ReadAsync()
    {
        var columns = (await RowsAsync(Columns)).ToLookup(r => r[0]!);
        var keys = (await RowsAsync(Keys)).ToLookup(r => r[0]!);
        var foreignKeys = (await RowsAsync(ForeignKeys)).ToLookup(r => r[0]!);
        var parameters = (await RowsAsync(Parameters)).ToLookup(r => r[0]!);
        // JSON is a text with a check here; the check is called like its column.
        var isMariaDb = connection.ServerVersion.Contains("Maria", StringComparison.OrdinalIgnoreCase);
        var checks = (await RowsAsync(isMariaDb ? Checks : ChecksOfMySql)).ToLookup(r => r[0]!);
        return new SourceCatalog([
            .. (await RowsAsync(Tables)).Select(table =>
            {
                var name = table[0]!;
                var isView = table[1] == "VIEW";
                var json = checks[name]
                    .Where(c => c[2]!.Contains("json_valid", StringComparison.OrdinalIgnoreCase))
                    .Select(c => c[1]!)
                    .ToHashSet();
                var all = keys[name].GroupBy(r => r[1]).ToList();
                var groups = all.Where(g => g.First()[4] != "FULLTEXT").ToList();
                return new SourceObject(
                    null,
                    name,
                    isView ? SourceObjectKind.View : SourceObjectKind.Table,
                    [.. columns[name].Select(r => Column(r, isView, json.Contains(r[1]!)))],
                    [.. groups.Where(g => g.Key == "PRIMARY").SelectMany(g => g.Select(r => r[2]!))],
                    [.. groups.Where(g => g.Key != "PRIMARY" && g.First()[3] == "0").Select(g => g.Select(r => r[2]!).ToImmutableArray())],
                    [.. foreignKeys[name].GroupBy(r => r[1]).Select(g => Foreign([.. g]))]
                )
                {
                    Comment = isView || table[2] is "" or null ? null : table[2],
                    Checks = [.. checks[name].Select(c => c[2]!)],
                    TextIndexes =
                    [
                        .. all.Where(g => g.First()[4] == "FULLTEXT").Select(g => new TextIndex(g.Key!, [.. g.Select(r => r[2]!)])),
                    ],
                    Indexes = [.. groups.Where(g => g.First()[3] != "0").Select(g => g.Select(r => r[2]!).ToImmutableArray())],
                };
            }),
        ])
        {
            Routines =
            [
                .. (await RowsAsync(RoutineNames)).Select(r => new SourceRoutine(
                    null,
                    r[0]!,
                    r[1]!.ToLowerInvariant(),
                    [.. parameters[r[0]!].Select(Parameter)],
                    r[2] ?? "",
                    r[3] is "" ? null : r[3]
                )
                {
                    // What a routine says is not held to by the server; a read-only transaction is.
                    MayChange = r[4] == "MODIFIES SQL DATA" || (r[4] == "CONTAINS SQL" && r[5] != "YES"),
                    Commits = Ends().IsMatch(r[6] ?? ""),
                }),
            ],
        };
    }

    /// <summary>What ends a transaction, in the text of a routine.</summary>
    [GeneratedRegex(@"\b(COMMIT|START\s+TRANSACTION|CREATE|ALTER|DROP|TRUNCATE|RENAME|LOCK\s+TABLES)\b", RegexOptions.IgnoreCase)]
    private static partial Regex Ends();

    private static RoutineParameter Parameter(string?[] row)
    {
        var (type, reason) = MariaDbTypes.Map(
            row[4] ?? "",
            row[2] ?? "",
            Number(row[5]),
            (int?)Number(row[6]),
            (int?)Number(row[7]),
            (int?)Number(row[8])
        );
        return new RoutineParameter(row[1] ?? "", row[2] ?? "", (row[3] ?? "IN").ToLowerInvariant())
        {
            Column = new SourceColumn(row[1] ?? "", row[2] ?? "", type, Nullable: true, reason),
        };
    }

    private static ForeignKey Foreign(List<string?[]> rows) =>
        new(
            [.. rows.Select(r => r[2]!)],
            rows[0][3]!,
            [.. rows.Select(r => r[4]!)],
            rows[0][5] switch
            {
                "CASCADE" => "Cascade",
                "SET NULL" => "SetNull",
                "SET DEFAULT" => "SetDefault",
                // What is said and what is left out look the same here, so nothing is promised.
                _ => null,
            }
        );

    private static SourceColumn Column(string?[] row, bool isView, bool isJson)
    {
        var (type, reason) = MariaDbTypes.Map(
            row[2]!.ToLowerInvariant(),
            row[3]!,
            Number(row[4]),
            (int?)Number(row[5]),
            (int?)Number(row[6]),
            (int?)Number(row[7])
        );
        var extra = row[10] ?? "";
        var isGenerated =
            extra.Contains("GENERATED", StringComparison.Ordinal) && !extra.Contains("DEFAULT_GENERATED", StringComparison.Ordinal);
        var constant = isView || isGenerated ? null : Constant(row[9]);
        var isDate = type is { Kind: EdmKind.Date or EdmKind.DateTimeOffset };
        return new SourceColumn(row[1]!, row[3]!, type, isView || row[8] == "YES", reason)
        {
            MayBeUnrepresentable = isDate,
            // A date that starts as zero is meant to be none.
            Unrepresentable =
                isDate && constant?.StartsWith("0000-00-00", StringComparison.Ordinal) == true
                    ? UnrepresentableValues.Null
                    : UnrepresentableValues.Undeclared,
            TextForm = isDate ? MariaDbDialect.AsCharacters : null,
            MediaType = isJson || row[2] == "json" ? "application/json" : null,
            IsComputed = isGenerated || extra.Contains("on update", StringComparison.OrdinalIgnoreCase),
            HasComputedDefault =
                extra.Contains("auto_increment", StringComparison.Ordinal)
                || (!isView && constant is null && row[9] is not (null or "NULL")),
            IsNumbered = extra.Contains("auto_increment", StringComparison.Ordinal),
            DefaultValue = constant,
            Comment = row[11] is "" ? null : row[11],
            Collation = type is { Kind: EdmKind.String } ? row[12] : null,
            AllowedValues = row[2] == "enum" ? Labels(row[3]!) : [],
        };
    }

    /// <summary>The labels of <c>enum('a','it''s')</c>.</summary>
    private static ImmutableArray<string> Labels(string type) =>
        [.. Label().Matches(type).Select(m => m.Groups[1].Value.Replace("''", "'", StringComparison.Ordinal))];

    [GeneratedRegex("'((?:[^']|'')*)'")]
    private static partial Regex Label();

    /// <summary>A default that is a plain literal: a number, or a text in quotes.</summary>
    private static string? Constant(string? text)
    {
        if (text is null or "NULL")
            return null;
        if (text.Length >= 2 && text[0] == '\'' && text[^1] == '\'')
            return text[1..^1].Replace("''", "'", StringComparison.Ordinal);
        return decimal.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out _) ? text : null;
    }

    private static long? Number(string? text) =>
        long.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var number) ? number : null;

    private async Task<List<string?[]>> RowsAsync(string sql)
    {
        var rows = new List<string?[]>();
        await using var command = new MySqlCommand(sql, connection);
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        while (await reader.ReadAsync(cancellation))
            rows.Add([
                .. Enumerable
                    .Range(0, reader.FieldCount)
                    .Select(i => reader.IsDBNull(i) ? null : Convert.ToString(reader.GetValue(i), CultureInfo.InvariantCulture)),
            ]);
        return rows;
    }
}
