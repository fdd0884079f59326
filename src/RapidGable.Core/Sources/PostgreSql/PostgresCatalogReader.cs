using System.Collections.Immutable;
using System.Globalization;
using System.Text.RegularExpressions;
using Npgsql;
using RapidGable.Model;

namespace RapidGable.Sources.PostgreSql;

/// <summary>Reads the whole catalog in six statements.</summary>
internal sealed partial class PostgresCatalogReader(NpgsqlConnection connection, CancellationToken cancellation)
{
    private const string Published = "n.nspname <> 'information_schema' AND n.nspname NOT LIKE 'pg\\_%'";

    private const string Columns = $"""
        SELECT n.nspname, c.relname, c.relkind::text, obj_description(c.oid, 'pg_class'), a.attname, format_type(a.atttypid, a.atttypmod),
            coalesce(b.typname, t.typname), coalesce(b.typtype, t.typtype)::text, coalesce(b.typcategory, t.typcategory)::text,
            CASE WHEN t.typtype = 'd' THEN t.typtypmod ELSE a.atttypmod END, a.attnotnull OR t.typnotnull,
            a.attidentity::text, a.attgenerated::text,
            pg_get_expr(d.adbin, d.adrelid), col_description(c.oid, a.attnum), e.typname, e.typtype::text, format_type(e.oid, NULL),
            CASE WHEN coalesce(b.typtype, t.typtype) = 'e' THEN
                (SELECT array_agg(l.enumlabel::text ORDER BY l.enumsortorder) FROM pg_enum l
                    WHERE l.enumtypid = coalesce(b.oid, t.oid)) END,
            a.attndims, coalesce((SELECT NOT o.collisdeterministic FROM pg_collation o WHERE o.oid = a.attcollation), FALSE)
        FROM pg_class c
        JOIN pg_namespace n ON n.oid = c.relnamespace
        LEFT JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
        LEFT JOIN pg_type t ON t.oid = a.atttypid
        LEFT JOIN pg_type b ON t.typtype = 'd' AND b.oid = t.typbasetype
        LEFT JOIN pg_type e ON e.oid = t.typelem AND t.typcategory = 'A'
        LEFT JOIN pg_attrdef d ON d.adrelid = c.oid AND d.adnum = a.attnum
        WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f', 'c') AND NOT c.relispartition AND {Published}
        ORDER BY n.nspname, c.relname, a.attnum
        """;

    private const string Keys = $"""
        SELECT n.nspname, c.relname, i.indisprimary, i.indisunique,
            (SELECT array_agg(a.attname::text ORDER BY k.ord) FROM unnest(i.indkey::int[]) WITH ORDINALITY k (num, ord)
                JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = k.num WHERE k.ord <= i.indnkeyatts)
        FROM pg_index i
        JOIN pg_class c ON c.oid = i.indrelid
        JOIN pg_namespace n ON n.oid = c.relnamespace
        WHERE i.indpred IS NULL AND i.indexprs IS NULL AND i.indisvalid AND NOT c.relispartition AND {Published}
        ORDER BY n.nspname, c.relname, i.indisprimary DESC, i.indexrelid
        """;

    // Indexes over a tsvector: a column, or an expression of the index itself. What a generated column is made of says its language.
    private const string TextIndexes = $"""
        SELECT n.nspname, c.relname, x.relname, a.attname, coalesce(pg_get_indexdef(i.indexrelid, 1, true), ''),
            pg_get_expr(d.adbin, d.adrelid),
            ARRAY(SELECT DISTINCT u.attname::text FROM pg_depend p JOIN pg_attribute u ON u.attrelid = c.oid AND u.attnum = p.refobjsubid
                WHERE p.refclassid = 'pg_class'::regclass AND p.refobjid = c.oid AND p.refobjsubid > 0
                    AND ((p.classid = 'pg_class'::regclass AND p.objid = i.indexrelid)
                        OR (p.classid = 'pg_attrdef'::regclass AND p.objid = d.oid AND u.attnum <> a.attnum)
                        OR (p.classid = 'pg_class'::regclass AND p.objid = c.oid AND p.objsubid = a.attnum)) ORDER BY 1)
        FROM pg_index i
        JOIN pg_class x ON x.oid = i.indexrelid
        JOIN pg_class c ON c.oid = i.indrelid
        JOIN pg_namespace n ON n.oid = c.relnamespace
        JOIN pg_opclass o ON o.oid = i.indclass[0] AND o.opcintype = 'tsvector'::regtype
        LEFT JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = i.indkey[0] AND i.indkey[0] > 0
        LEFT JOIN pg_attrdef d ON d.adrelid = c.oid AND d.adnum = a.attnum
        WHERE i.indpred IS NULL AND i.indisvalid AND NOT c.relispartition AND {Published}
        ORDER BY n.nspname, c.relname, x.relname
        """;

    private const string ForeignKeys = $"""
        SELECT n.nspname, c.relname, fn.nspname, fc.relname, k.confdeltype::text,
            (SELECT array_agg(a.attname::text ORDER BY x.ord) FROM unnest(k.conkey) WITH ORDINALITY x (num, ord)
                JOIN pg_attribute a ON a.attrelid = k.conrelid AND a.attnum = x.num),
            (SELECT array_agg(a.attname::text ORDER BY x.ord) FROM unnest(k.confkey) WITH ORDINALITY x (num, ord)
                JOIN pg_attribute a ON a.attrelid = k.confrelid AND a.attnum = x.num)
        FROM pg_constraint k
        JOIN pg_class c ON c.oid = k.conrelid
        JOIN pg_namespace n ON n.oid = c.relnamespace
        JOIN pg_class fc ON fc.oid = k.confrelid
        JOIN pg_namespace fn ON fn.oid = fc.relnamespace
        WHERE k.contype = 'f' AND k.conparentid = 0 AND {Published}
        ORDER BY n.nspname, c.relname, k.oid
        """;

    private const string ChecksSql = $"""
        SELECT n.nspname, c.relname, pg_get_constraintdef(k.oid)
        FROM pg_constraint k
        JOIN pg_class c ON c.oid = k.conrelid
        JOIN pg_namespace n ON n.oid = c.relnamespace
        WHERE k.contype = 'c' AND {Published}
        ORDER BY n.nspname, c.relname, k.conname
        """;

    private const string RoutinesSql = $"""
        SELECT n.nspname, p.proname, p.prokind::text, pg_get_function_result(p.oid), p.proargnames::text[],
            ARRAY(SELECT format_type(x.oid, NULL)
                FROM unnest(coalesce(p.proallargtypes, p.proargtypes::oid[])) WITH ORDINALITY x (oid, ord) ORDER BY x.ord),
            p.proargmodes::text[], obj_description(p.oid, 'pg_proc'), p.provolatile::text, p.proretset, p.oid::bigint,
            p.prorettype = 'void'::regtype
        FROM pg_proc p
        JOIN pg_namespace n ON n.oid = p.pronamespace
        WHERE p.prokind IN ('f', 'p') AND p.prorettype <> 'trigger'::regtype AND {Published}
            AND NOT EXISTS (SELECT 1 FROM pg_depend d WHERE d.classid = 'pg_proc'::regclass AND d.objid = p.oid AND d.deptype = 'e')
        ORDER BY n.nspname, p.proname, p.oid
        """;

    private const string ParametersSql = $"""
        SELECT p.oid::bigint, format_type(x.oid, NULL), coalesce(b.typname, t.typname)::text, coalesce(b.typtype, t.typtype)::text,
            coalesce(b.typcategory, t.typcategory)::text, pg_get_function_arg_default(p.oid, x.ord::int)
        FROM pg_proc p
        JOIN pg_namespace n ON n.oid = p.pronamespace
        CROSS JOIN unnest(coalesce(p.proallargtypes, p.proargtypes::oid[])) WITH ORDINALITY x (oid, ord)
        JOIN pg_type t ON t.oid = x.oid
        LEFT JOIN pg_type b ON t.typtype = 'd' AND b.oid = t.typbasetype
        WHERE p.prokind IN ('f', 'p') AND {Published}
        ORDER BY p.oid, x.ord
        """;

    public async Task<SourceCatalog> ReadAsync()
    {
        var parameters = (await RowsAsync(ParametersSql, r => (Routine: r.GetInt64(0), Column: ParameterColumn(r)))).ToLookup(
            p => p.Routine,
            p => p.Column
        );
        var keys = (
            await RowsAsync(Keys, r =>
                (Object: Name(r), IsPrimary: r.GetBoolean(2), IsUnique: r.GetBoolean(3), Columns: r.GetFieldValue<string[]>(4))
            )
        ).ToLookup(k => k.Object);
        var texts = (await RowsAsync(TextIndexes, r => (Object: Name(r), Index: TextIndexOf(r)))).ToLookup(t => t.Object, t => t.Index);
        var foreignKeys = (
            await RowsAsync(ForeignKeys, r =>
                (
                    Object: Name(r),
                    Key: new ForeignKey(
                        [.. r.GetFieldValue<string[]>(5)],
                        $"{r.GetString(2)}.{r.GetString(3)}",
                        [.. r.GetFieldValue<string[]>(6)],
                        OnDelete(r.GetString(4))
                    )
                )
            )
        ).ToLookup(k => k.Object, k => k.Key);
        var checks = (await RowsAsync(ChecksSql, r => (Object: Name(r), Condition: r.GetString(2)))).ToLookup(
            c => c.Object,
            c => c.Condition
        );
        var rows = await RowsAsync(Columns, r =>
            (Object: Name(r), Kind: r.GetString(2), Comment: Text(r, 3), Column: r.IsDBNull(4) ? null : Column(r))
        );
        var composites = rows.Where(r => r.Kind == "c")
            .GroupBy(r => $"{r.Object.Schema}.{r.Object.Name}")
            .ToDictionary(g => g.Key, g => g.Select(r => r.Column).OfType<SourceColumn>().ToImmutableArray());
        return new SourceCatalog(
            [
                .. rows.Where(r => r.Kind != "c")
                    .GroupBy(o => o.Object)
                    .Select(g =>
                    {
                        var own = keys[g.Key].ToList();
                        var kind = g.First().Kind switch
                        {
                            "v" => SourceObjectKind.View,
                            "m" => SourceObjectKind.MaterializedView,
                            _ => SourceObjectKind.Table,
                        };
                        return new SourceObject(
                            g.Key.Schema,
                            g.Key.Name,
                            kind,
                            [.. g.Select(c => c.Column).OfType<SourceColumn>().Select(c => WithFields(c, composites))],
                            [.. own.FirstOrDefault(k => k.IsPrimary).Columns ?? []],
                            [.. own.Where(k => k is { IsPrimary: false, IsUnique: true }).Select(k => k.Columns.ToImmutableArray())],
                            [.. foreignKeys[g.Key]]
                        )
                        {
                            Comment = g.First().Comment,
                            TextIndexes = [.. texts[g.Key]],
                            Checks = [.. checks[g.Key]],
                            Indexes = [.. own.Where(k => !k.IsUnique).Select(k => k.Columns.ToImmutableArray())],
                        };
                    }),
            ],
            "public"
        )
        {
            Routines = [.. await RowsAsync(RoutinesSql, r => Routine(r, parameters[r.GetInt64(10)].ToList()))],
        };
    }

    private static TextIndex TextIndexOf(NpgsqlDataReader row)
    {
        var columns = row.GetFieldValue<string[]>(6);
        var form = row.GetString(4);
        return new TextIndex(row.GetString(2), [.. columns.Where(c => columns.Length == 1 || c != Text(row, 3))])
        {
            Form = form,
            Language = Language().Match(Text(row, 5) ?? form) is { Success: true } match ? match.Groups[1].Value : null,
        };
    }

    /// <summary>The configuration in <c>to_tsvector('english'::regconfig, …)</c>.</summary>
    [GeneratedRegex(@"to_tsvector\('((?:[^']|'')+)'")]
    private static partial Regex Language();

    private static SourceColumn WithFields(SourceColumn column, Dictionary<string, ImmutableArray<SourceColumn>> composites) =>
        column.CompositeName is { } name && composites.TryGetValue(name.Contains('.') ? name : "public." + name, out var fields)
            ? column with
            {
                CompositeName = name[(name.LastIndexOf('.') + 1)..],
                Fields = fields,
            }
            : column;

    /// <summary>The type of a parameter, and the expression that stands for it when it is left out.</summary>
    private static (SourceColumn Column, string? Default) ParameterColumn(NpgsqlDataReader row)
    {
        var shown = row.GetString(1);
        var (type, form, mediaType, reason) = PostgresTypes.Map(row.GetString(2), row.GetString(3)[0], row.GetString(4)[0], -1, shown);
        var expression = Text(row, 5);
        return (
            new SourceColumn("", shown, type, Nullable: true, reason)
            {
                StorageForm = form,
                MediaType = mediaType,
                DefaultValue = Constant(expression),
            },
            expression
        );
    }

    private static SourceRoutine Routine(NpgsqlDataReader row, List<(SourceColumn Column, string? Default)> parameters)
    {
        var names = row.IsDBNull(4) ? [] : row.GetFieldValue<string[]>(4);
        var types = row.IsDBNull(5) ? [] : row.GetFieldValue<string[]>(5);
        var modes = row.IsDBNull(6) ? [] : row.GetFieldValue<string[]>(6);
        return new SourceRoutine(
            row.GetString(0),
            row.GetString(1),
            row.GetString(2) == "p" ? "procedure" : "function",
            [
                .. types.Select(
                    (t, i) =>
                        new RoutineParameter(
                            i < names.Length && names[i].Length > 0 ? names[i] : $"${i + 1}",
                            t,
                            i < modes.Length
                                ? modes[i] switch
                                {
                                    "o" or "t" => "out",
                                    "b" => "inout",
                                    _ => "in",
                                }
                                : "in"
                        )
                        {
                            Column = i < parameters.Count ? parameters[i].Column : null,
                            Default = i < parameters.Count ? parameters[i].Default : null,
                        }
                ),
            ],
            Text(row, 3) ?? "",
            Text(row, 7)
        )
        {
            MayChange = row.GetString(8) == "v",
            GivesRows = row.GetBoolean(9),
            GivesNothing = row.GetBoolean(11),
        };
    }

    private static (string Schema, string Name) Name(NpgsqlDataReader row) => (row.GetString(0), row.GetString(1));

    private static string? Text(NpgsqlDataReader row, int column) => row.IsDBNull(column) ? null : row.GetString(column);

    private static string? OnDelete(string code) =>
        code switch
        {
            "c" => "Cascade",
            "n" => "SetNull",
            "d" => "SetDefault",
            "r" => "None",
            _ => null,
        };

    private static SourceColumn Column(NpgsqlDataReader row)
    {
        var shown = row.GetString(5);
        var (type, form, mediaType, reason) = PostgresTypes.Map(
            row.GetString(6),
            row.GetString(7)[0],
            row.GetString(8)[0],
            row.GetInt32(9),
            shown
        );
        var isComposite = row.GetString(7) == "c";
        if (
            !row.IsDBNull(15)
            && row.GetInt32(19) <= 1
            && PostgresTypes.Element(row.GetString(15), row.GetString(16)[0], row.GetString(17)) is { } element
        )
            (type, form, reason) = (element with { IsCollection = true }, PostgresTypes.AsJson, shown);
        var identity = row.GetString(11);
        var generated = row.GetString(12);
        var expression = Text(row, 13);
        var constant = generated.Length == 0 ? Constant(expression) : null;
        return new SourceColumn(row.GetString(4), shown, type, !row.GetBoolean(10), reason)
        {
            StorageForm = form is null && row.GetBoolean(20) ? PostgresTypes.Loose : form,
            MediaType = mediaType,
            IsComputed = generated.Length > 0 || identity == "a",
            HasComputedDefault =
                identity == "d" || (generated.Length == 0 && expression is not null && constant is null && expression != "NULL"),
            IsNumbered = identity.Length > 0 || expression?.StartsWith("nextval(", StringComparison.Ordinal) == true,
            DefaultValue = constant,
            Comment = Text(row, 14),
            AllowedValues = row.IsDBNull(18) ? [] : [.. row.GetFieldValue<string[]>(18)],
            MayBeUnrepresentable =
                type is { IsCollection: false, Kind: EdmKind.Date or EdmKind.DateTimeOffset or EdmKind.Duration or EdmKind.Decimal }
                && form != PostgresTypes.AsNumber,
            TextForm = isComposite ? PostgresTypes.AsJson : PostgresTypes.AsText,
            CompositeName = isComposite ? shown : null,
        };
    }

    /// <summary>A default that is a plain literal, such as <c>'x'::text</c>, <c>5</c> or <c>true</c>.</summary>
    private static string? Constant(string? expression)
    {
        if (expression is null)
            return null;
        if (expression is "true" or "false" || decimal.TryParse(expression, NumberStyles.Float, CultureInfo.InvariantCulture, out _))
            return expression;
        var end = expression.LastIndexOf('\'');
        return expression[0] == '\'' && end > 0 && (end == expression.Length - 1 || expression.AsSpan(end + 1).StartsWith("::"))
            ? expression[1..end].Replace("''", "'", StringComparison.Ordinal)
            : null;
    }

    private async Task<List<T>> RowsAsync<T>(string sql, Func<NpgsqlDataReader, T> read)
    {
        var rows = new List<T>();
        await using var command = new NpgsqlCommand(sql, connection);
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        while (await reader.ReadAsync(cancellation))
            rows.Add(read(reader));
        return rows;
    }
}
