using System.Collections.Immutable;
using System.Text;
using System.Text.RegularExpressions;
using RapidGable.Model;

namespace RapidGable.Sources.Sqlite;

/// <summary>Reads the whole catalog in seven statements; views one by one, since a broken one fails alone.</summary>
internal sealed partial class SqliteCatalogReader(ISourceSession session, CancellationToken cancellation)
{
    private const string Tables =
        "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY name";
    private const string TableTexts = "SELECT name, sql FROM sqlite_schema WHERE type = 'table' AND sql LIKE '%check%'";
    private const string Views = "SELECT name FROM sqlite_schema WHERE type = 'view' ORDER BY name";
    private const string ColumnsOf = "SELECT name, type, \"notnull\", dflt_value, pk, hidden FROM pragma_table_xinfo(?1) ORDER BY cid";

    private const string TableColumns = """
        SELECT m.name, p.name, p.type, p."notnull", p.dflt_value, p.pk, p.hidden
        FROM sqlite_schema m JOIN pragma_table_xinfo(m.name) p
        WHERE m.type = 'table' ORDER BY m.name, p.cid
        """;

    // Asked once: it lists all tables each time, so a join would list them for every column.
    private const string TableKinds =
        "SELECT name, strict = 1 OR wr = 1, type = 'table' AND wr = 0 FROM pragma_table_list WHERE schema = 'main'";

    private const string ForeignKeys = """
        SELECT m.name, f.id, f."table", f."from", f."to", f.on_delete
        FROM sqlite_schema m JOIN pragma_foreign_key_list(m.name) f WHERE m.type = 'table' ORDER BY m.name, f.id, f.seq
        """;

    private const string Indexes = """
        SELECT m.name, l.name, i.name, l."unique"
        FROM sqlite_schema m JOIN pragma_index_list(m.name) l JOIN pragma_index_info(l.name) i
        WHERE m.type = 'table' AND l.partial = 0 AND l.origin <> 'pk' ORDER BY m.name, l.seq, i.seqno
        """;

    private const string TextIndexes = "SELECT name, sql FROM sqlite_schema WHERE type = 'table' AND sql LIKE 'CREATE VIRTUAL TABLE%'";

    // What a virtual table keeps its content in.
    private const string Inner = "SELECT name FROM pragma_table_list WHERE schema = 'main' AND type = 'shadow'";

    public async Task<SourceCatalog> ReadAsync()
    {
        var columns = await GroupAsync(TableColumns, 7);
        var foreignKeys = await GroupAsync(ForeignKeys, 6);
        var indexes = await GroupAsync(Indexes, 4);
        var kinds = await RowsAsync(TableKinds, 3);
        var strict = kinds.Where(k => k[1] == "1").Select(r => r[0]!).ToHashSet(StringComparer.Ordinal);
        var numbered = kinds.Where(k => k[2] == "1").Select(r => r[0]!).ToHashSet(StringComparer.Ordinal);
        var inner = (await RowsAsync(Inner, 1)).Select(r => r[0]!).ToHashSet(StringComparer.Ordinal);
        var texts = (await RowsAsync(TextIndexes, 2))
            .Select(r => TextIndexOf(r[0]!, r[1]!, columns[r[0]!]))
            .OfType<(string Table, TextIndex Index)>()
            .ToLookup(t => t.Table, t => t.Index, StringComparer.OrdinalIgnoreCase);
        var checks = (await RowsAsync(TableTexts, 2)).ToDictionary(r => r[0]!, r => ChecksOf(r[1]!), StringComparer.Ordinal);
        var objects = ImmutableArray.CreateBuilder<SourceObject>();
        foreach (var row in (await RowsAsync(Tables, 1)).Where(r => !inner.Contains(r[0]!)))
        {
            var table = Table(row[0]!, strict.Contains(row[0]!), columns[row[0]!], foreignKeys, columns, indexes[row[0]!]);
            // A column may have taken the name.
            var hasNumber =
                numbered.Contains(table.Name) && !columns[table.Name].Any(c => c[1]!.Equals("rowid", StringComparison.OrdinalIgnoreCase));
            objects.Add(
                table with
                {
                    RowId = hasNumber ? "rowid" : null,
                    TextIndexes = [.. texts[table.Name]],
                    Checks = checks.GetValueOrDefault(table.Name, []),
                }
            );
        }
        foreach (var row in await RowsAsync(Views, 1))
            objects.Add(await ViewAsync(row[0]!));
        return new SourceCatalog(objects.ToImmutable());
    }

    /// <summary>
    /// A full-text table whose content is another table's; null when it is none. Its rows have the numbers of that table's rows.
    /// </summary>
    private static (string Table, TextIndex Index)? TextIndexOf(string name, string sql, IEnumerable<string?[]> columns)
    {
        if (!FullText().IsMatch(sql) || Content().Match(sql) is not { Success: true } content)
            return null;
        static string Bare(Match match) => match.Groups["name"].Value.Trim('\'', '"', '[', ']', '`');
        return (
            Bare(content),
            new TextIndex(name, [.. columns.Where(c => c[6] == "0").Select(c => c[1]!)])
            {
                Form = ContentNumber().Match(sql) is { Success: true } number ? Bare(number) : "rowid",
            }
        );
    }

    /// <summary>The conditions of <c>CHECK (…)</c> in the text of a table.</summary>
    private static ImmutableArray<string> ChecksOf(string sql)
    {
        var found = ImmutableArray.CreateBuilder<string>();
        foreach (Match match in Check().Matches(sql))
        {
            var (depth, end) = (1, match.Index + match.Length);
            while (end < sql.Length && depth > 0)
                depth += sql[end++] switch
                {
                    '(' => 1,
                    ')' => -1,
                    _ => 0,
                };
            if (depth == 0)
                found.Add(sql[(match.Index + match.Length)..(end - 1)]);
        }
        return found.ToImmutable();
    }

    [GeneratedRegex(@"\bCHECK\s*\(", RegexOptions.IgnoreCase)]
    private static partial Regex Check();

    [GeneratedRegex(@"USING\s+fts5\b", RegexOptions.IgnoreCase)]
    private static partial Regex FullText();

    [GeneratedRegex("""\bcontent\s*=\s*(?<name>'[^']+'|"[^"]+"|\[[^\]]+\]|\w+)""", RegexOptions.IgnoreCase)]
    private static partial Regex Content();

    [GeneratedRegex("""\bcontent_rowid\s*=\s*(?<name>'[^']+'|"[^"]+"|\[[^\]]+\]|\w+)""", RegexOptions.IgnoreCase)]
    private static partial Regex ContentNumber();

    private static SourceObject Table(
        string name,
        bool isStrict,
        IEnumerable<string?[]> columnRows,
        ILookup<string, string?[]> foreignKeys,
        ILookup<string, string?[]> allColumns,
        IEnumerable<string?[]> indexRows
    )
    {
        var rows = columnRows.ToList();
        var primaryKey = KeyOf(rows);
        var columns = rows.Where(r => r[6] != "1").Select(r => Column(r, primaryKey, isStrict)).ToImmutableArray();
        var indexes = indexRows
            .GroupBy(r => r[1])
            .Where(g => g.All(r => r[2] is not null))
            .Select(g => (IsUnique: g.First()[3] == "1", Columns: g.Select(r => r[2]!).ToImmutableArray()))
            .ToList();
        ImmutableArray<ImmutableArray<string>> unique = [.. indexes.Where(i => i.IsUnique).Select(i => i.Columns)];
        var foreign = foreignKeys[name]
            .GroupBy(r => r[1])
            .Select(g => Foreign(g.ToList(), allColumns))
            .OfType<ForeignKey>()
            .Reverse()
            .ToImmutableArray();
        return new SourceObject(null, name, SourceObjectKind.Table, columns, primaryKey, unique, foreign)
        {
            Indexes = [.. indexes.Where(i => !i.IsUnique).Select(i => i.Columns)],
        };
    }

    private static ImmutableArray<string> KeyOf(IEnumerable<string?[]> rows) =>
        [.. rows.Where(r => r[5] != "0").OrderBy(r => int.Parse(r[5]!)).Select(r => r[1]!)];

    private static SourceColumn Column(string?[] row, ImmutableArray<string> primaryKey, bool isStrict)
    {
        var declared = row[2] ?? "";
        var (type, reason, mediaType) = SqliteTypes.Map(declared);
        var isRowId = primaryKey.Length == 1 && row[5] == "1" && declared.Equals("INTEGER", StringComparison.OrdinalIgnoreCase);
        var notNull = row[3] == "1" || isRowId || (row[5] != "0" && isStrict);
        var (constant, computed) = Default(row[4]);
        return new SourceColumn(row[1]!, declared, type, !notNull, isRowId ? "the row's number" : reason)
        {
            MediaType = mediaType,
            HasComputedDefault = isRowId || computed,
            IsNumbered = isRowId,
            IsComputed = row[6] is "2" or "3",
            DefaultValue = constant,
        };
    }

    private static (string? Constant, bool Computed) Default(string? text)
    {
        if (text is null || text.Equals("NULL", StringComparison.OrdinalIgnoreCase))
            return (null, false);
        if (text.Length >= 2 && text[0] == '\'' && text[^1] == '\'')
            return (text[1..^1].Replace("''", "'", StringComparison.Ordinal), false);
        if (decimal.TryParse(text, System.Globalization.NumberStyles.Float, System.Globalization.CultureInfo.InvariantCulture, out _))
            return (text, false);
        return (null, true);
    }

    private static ForeignKey? Foreign(List<string?[]> parts, ILookup<string, string?[]> allColumns)
    {
        // Names match whatever their case; mostly it is the same.
        var name = allColumns.Contains(parts[0][2]!)
            ? parts[0][2]!
            : allColumns.FirstOrDefault(g => g.Key.Equals(parts[0][2], StringComparison.OrdinalIgnoreCase))?.Key;
        if (name is null)
            return null;
        var rows = allColumns[name].ToList();
        var targetColumns = parts[0][4] is null
            ? KeyOf(rows)
            : [.. parts.Select(p => rows.FirstOrDefault(r => r[1]!.Equals(p[4], StringComparison.OrdinalIgnoreCase))?[1]).OfType<string>()];
        if (targetColumns.Length != parts.Count)
            return null;
        return new ForeignKey(
            [.. parts.Select(p => p[3]!)],
            name,
            targetColumns,
            parts[0][5] switch
            {
                "CASCADE" => "Cascade",
                "SET NULL" => "SetNull",
                "SET DEFAULT" => "SetDefault",
                "RESTRICT" => "None",
                _ => null,
            }
        );
    }

    private async Task<SourceObject> ViewAsync(string name)
    {
        var empty = new SourceObject(null, name, SourceObjectKind.View, [], [], [], []);
        try
        {
            var columns = (await RowsAsync(ColumnsOf, 6, StoredValue.From(name))).Select(r =>
            {
                var (type, reason, mediaType) = SqliteTypes.Map(r[1] ?? "");
                return new SourceColumn(r[0]!, r[1] ?? "", type, Nullable: true, reason) { MediaType = mediaType };
            });
            return empty with { Columns = [.. columns] };
        }
        catch (SourceException exception) when (exception.Kind is SourceFaultKind.Broken or SourceFaultKind.Changed)
        {
            return empty with { Fault = $"the view cannot be read: {exception.Message}" };
        }
    }

    private async Task<ILookup<string, string?[]>> GroupAsync(string sql, int width) =>
        (await RowsAsync(sql, width)).ToLookup(r => r[0]!, StringComparer.Ordinal);

    private async Task<List<string?[]>> RowsAsync(string sql, int width, params StoredValue[] parameters)
    {
        var rows = new List<string?[]>();
        await using var cursor = await session.QueryAsync(sql, parameters, cancellation);
        while (await cursor.ReadAsync(cancellation))
        {
            var row = new string?[width];
            for (var i = 0; i < width; i++)
                row[i] = cursor.IsNull(i) ? null : Encoding.UTF8.GetString(cursor.GetUtf8(i));
            rows.Add(row);
        }
        return rows;
    }
}
