using System.Globalization;
using System.Text.Json.Nodes;

namespace RapidGable.Core.Tests;

/// <summary>
/// A random database with a random declaration over it: odd names, keys of one or two columns, hidden, renamed, grouped and converted
/// columns,
/// relations to other sets and to the same one, over hidden columns and over link tables, default orders.
/// </summary>
internal sealed class RandomWorld
{
    private static readonly string[] OddNames = ["order", "Mixed Case", "tab-le", "größe", "select", "group", "n%", "it's", "a.b", "plain"];
    private static readonly string[] Texts = ["", "a", "A", "ab", "Ab c", "it's", "zz/y", "50%", "b_a"];

    private readonly Random _random;
    private readonly Func<string, string> _quote;
    private readonly List<Table> _tables = [];
    private readonly List<string> _links = [];
    private readonly Dictionary<string, MemorySet> _world = [];

    /// <param name="quote">Quotes a name as the engine does.</param>
    public RandomWorld(int seed, Func<string, string> quote)
    {
        _random = new Random(seed);
        _quote = quote;
        foreach (var number in Enumerable.Range(0, _random.Next(2, 5)))
            _tables.Add(MakeTable(number));
        foreach (var table in _tables)
        {
            foreach (var relation in table.Relations)
                Relate(table, relation);
        }
        MakeLinks();
        foreach (var table in _tables)
            _world[table.Set] = MakeSet(table);
    }

    private enum Kind
    {
        Whole,
        Decimal,
        Text,
        Truth,
        Day,
        Letter,
        Level,
    }

    /// <param name="Path">How queries call it; empty = it is hidden.</param>
    private sealed record Column(string Name, Kind Kind, string Path, bool IsKey)
    {
        public bool IsHidden => Path.Length == 0;

        public string Sql =>
            Kind switch
            {
                Kind.Whole or Kind.Level => "BIGINT",
                Kind.Decimal => "DECIMAL(8,2)",
                Kind.Text => "VARCHAR(20)",
                Kind.Truth => "BOOLEAN",
                Kind.Day => "DATE",
                _ => "VARCHAR(1)",
            };
    }

    private sealed record Relation(string Name, string Back, Table Target, string[] Columns);

    private sealed record Table(string Name, string Set, List<Column> Columns, List<Relation> Relations)
    {
        public string? Group { get; set; }

        public (Column Column, bool Descending)? Order { get; set; }

        public List<MemoryRow> Rows { get; } = [];

        public List<(string Name, string Set)> One { get; } = [];

        public List<(string Name, string Set)> Many { get; } = [];

        public List<JsonObject> LinkRelations { get; } = [];

        public IEnumerable<Column> Key => Columns.Where(c => c.IsKey);
    }

    public IReadOnlyDictionary<string, MemorySet> Sets => _world;

    private T Pick<T>(params T[] items) => items[_random.Next(items.Length)];

    private bool OneIn(int n) => _random.Next(n) == 0;

    private Table MakeTable(int number)
    {
        var columns = new List<Column>();
        string Odd(int i) => $"{Pick(OddNames)} {number}{i}";
        Column Make(Kind kind, bool isKey = false)
        {
            var i = columns.Count;
            // A plain name is published as it is; the others get one.
            var name = OneIn(3) ? $"c{number}{i}" : Odd(i);
            return new Column(
                name,
                kind,
                isKey || i == 2 || !OneIn(6)
                    ? name[0] == 'c' && OneIn(2)
                        ? name
                        : Pick("p", "Prop", "größe") + $"{number}{i}"
                    : "",
                isKey
            );
        }
        columns.Add(Make(OneIn(3) ? Kind.Text : Kind.Whole, isKey: true));
        columns.Add(Make(Pick(Kind.Whole, Kind.Text), isKey: OneIn(4)));
        columns.Add(Make(Pick(Kind.Whole, Kind.Decimal)));
        foreach (var _ in Enumerable.Range(0, _random.Next(1, 6)))
            columns.Add(Make((Kind)_random.Next(7)));
        var table = new Table($"{Pick(OddNames)}_{number}", $"Set{number}", columns, []);
        var groupable = columns.Where(c => c is { IsKey: false, IsHidden: false }).Take(_random.Next(4)).ToList();
        if (groupable.Count > 1)
        {
            table.Group = $"part{number}";
            foreach (var column in groupable)
                columns[columns.IndexOf(column)] = column with { Path = $"{table.Group}/{column.Path}" };
        }
        if (columns.Where(c => c is { IsHidden: false, Kind: not (Kind.Letter or Kind.Level) }).ToList() is var sortable && OneIn(2))
            table.Order = (Pick([.. sortable]), OneIn(2));
        foreach (var _ in Enumerable.Range(0, _random.Next(3)))
        {
            var target = OneIn(3) || _tables.Count == 0 ? table : Pick([.. _tables]);
            var n = table.Relations.Count;
            var own = target.Key.Select((k, i) => new Column($"ref{n}{i}", k.Kind, OneIn(2) ? "" : $"ref{n}{i}", false)).ToList();
            columns.AddRange(own);
            table.Relations.Add(new Relation($"to{number}{n}", $"back{number}{n}", target, [.. own.Select(c => c.Name)]));
        }
        foreach (var i in Enumerable.Range(1, _random.Next(3, 25)))
            table.Rows.Add(MakeRow(table, i));
        return table;
    }

    private MemoryRow MakeRow(Table table, int number)
    {
        var row = new MemoryRow();
        foreach (var column in table.Columns.Where(c => !table.Relations.Any(r => r.Columns.Contains(c.Name))))
            row[column.Name] = column.IsKey
                ? column.Kind == Kind.Text
                    ? $"{Pick(Texts)}{number}"
                    : (long)number
                : OneIn(4)
                    ? null
                    : Value(column.Kind);
        return row;
    }

    private object Value(Kind kind) =>
        kind switch
        {
            Kind.Whole => (long)_random.Next(-3, 6),
            Kind.Decimal => _random.Next(-8, 20) * 0.25m,
            Kind.Text => Pick(Texts),
            Kind.Truth => OneIn(2),
            Kind.Day => new DateOnly(2024, 1, 1).AddDays(_random.Next(60)),
            // What is published, not what is stored.
            Kind.Letter => OneIn(2),
            _ => Pick("Low", "Mid", "High"),
        };

    private void Relate(Table table, Relation relation)
    {
        table.One.Add((relation.Name, relation.Target.Set));
        relation.Target.Many.Add((relation.Back, table.Set));
        foreach (var row in relation.Target.Rows)
            row.Many[relation.Back] = [];
        foreach (var row in table.Rows)
        {
            var target = OneIn(4) ? null : Pick([.. relation.Target.Rows]);
            row.One[relation.Name] = target;
            target?.Many[relation.Back].Add(row);
            foreach (var (column, key) in relation.Columns.Zip(relation.Target.Key))
                row[column] = target?[key.Name];
        }
    }

    /// <summary>Relations from many to many, over tables that nobody sees.</summary>
    private void MakeLinks()
    {
        var single = _tables.Where(t => t.Key.Count() == 1).ToList();
        if (single.Count < 2 || OneIn(3))
            return;
        var (left, right) = (single[0], single[1]);
        var (a, b) = (left.Key.First(), right.Key.First());
        left.Many.Add(("far", right.Set));
        right.Many.Add(("near", left.Set));
        foreach (var row in left.Rows)
            row.Many["far"] = [];
        foreach (var row in right.Rows)
            row.Many["near"] = [];
        _links.Add(
            $"CREATE TABLE tie (one {a.Sql}, other {b.Sql}, PRIMARY KEY (one, other), FOREIGN KEY (one) REFERENCES "
                + $"{_quote(left.Name)} ({_quote(a.Name)}), FOREIGN KEY (other) REFERENCES {_quote(right.Name)} ({_quote(b.Name)}))"
        );
        foreach (var (x, y) in left.Rows.SelectMany(x => right.Rows.Select(y => (x, y))).Where(_ => OneIn(4)))
        {
            x.Many["far"].Add(y);
            y.Many["near"].Add(x);
            _links.Add($"INSERT INTO tie VALUES ({Sql(x[a.Name], a)}, {Sql(y[b.Name], b)})");
        }
        left.LinkRelations.Add(
            new JsonObject
            {
                ["to"] = right.Set,
                ["through"] = "tie",
                ["back"] = "near",
            }
        );
    }

    /// <summary>Statements that make the tables; in the order of the columns with what is stored for each value.</summary>
    public string Tables =>
        string.Concat(
            _tables.SelectMany(t =>
                new[]
                {
                    $"CREATE TABLE {_quote(t.Name)} "
                        + $"({string.Join(", ", t.Columns.Select(c => $"{_quote(c.Name)} {c.Sql}{(c.IsKey ? " NOT NULL" : "")}"))}, "
                        + $"PRIMARY KEY ({string.Join(", ", t.Key.Select(k => _quote(k.Name)))}));\n",
                    $"INSERT INTO {_quote(t.Name)} VALUES "
                        + $"{string.Join(", ", t.Rows.Select(r => $"({string.Join(", ", t.Columns.Select(c => Sql(r[c.Name], c)))})"))};\n",
                }
            )
        ) + string.Concat(_links.Select(l => l + ";\n"));

    private static string Sql(object? value, Column column) =>
        value switch
        {
            null => "NULL",
            bool truth when column.Kind == Kind.Letter => truth ? "'y'" : "'n'",
            bool truth => truth ? "TRUE" : "FALSE",
            string level when column.Kind == Kind.Level => level switch
            {
                "Low" => "1",
                "Mid" => "2",
                _ => "3",
            },
            string text => $"'{text.Replace("'", "''")}'",
            DateOnly day => $"'{day:yyyy-MM-dd}'",
            _ => Convert.ToString(value, CultureInfo.InvariantCulture)!,
        };

    /// <summary>The service file; what stands in braces is JSON, which is YAML too.</summary>
    public string Declaration =>
        $$"""
            title: S
            source: main
            namespace: T
            rules: { read: anyone }
            page: 5000
            types:
              Level: { members: { Low: 1, Mid: 2, High: 3 } }
            sets:

            """
        + string.Concat(
            _tables.Select(t =>
                $"  - {Declare(t).ToJsonString(new() { Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping })}\n"
            )
        );

    private static JsonObject Declare(Table table)
    {
        static JsonArray Names(IEnumerable<string> names) => new([.. names.Select(n => JsonValue.Create(n))]);
        static string Outside(Column c) => c.Path[(c.Path.IndexOf('/') + 1)..];
        var set = new JsonObject
        {
            ["from"] = table.Name,
            ["name"] = table.Set,
            ["type"] = table.Set + "Type",
        };
        if (table.Columns.Where(c => c.IsHidden).Select(c => c.Name).ToList() is { Count: > 0 } hidden)
            set["hide"] = Names(hidden);
        set["rename"] = new JsonObject(
            table.Columns.Where(c => !c.IsHidden && Outside(c) != c.Name).Select(c => KeyValuePair.Create(c.Name, (JsonNode?)Outside(c)))
        );
        if (table.Group is { } group)
            set["group"] = new JsonObject
            {
                [group] = Names(table.Columns.Where(c => c.Path.StartsWith(group + "/", StringComparison.Ordinal)).Select(c => c.Name)),
            };
        set["columns"] = new JsonObject(
            table
                .Columns.Where(c => c is { IsHidden: false, Kind: Kind.Letter or Kind.Level })
                .Select(c =>
                    KeyValuePair.Create(
                        c.Name,
                        (JsonNode?)(
                            c.Kind == Kind.Letter
                                ? new JsonObject
                                {
                                    ["type"] = "boolean",
                                    ["true"] = "y",
                                    ["false"] = "n",
                                }
                                : new JsonObject { ["type"] = "Level" }
                        )
                    )
                )
        );
        if (table.Order is { } order)
            set["order"] = order.Column.Name + (order.Descending ? " desc" : "");
        set["relations"] = new JsonObject(
            table
                .Relations.Select(r =>
                    KeyValuePair.Create(
                        r.Name,
                        (JsonNode?)
                            new JsonObject
                            {
                                ["to"] = r.Target.Set,
                                ["on"] = new JsonObject(
                                    r.Columns.Zip(r.Target.Key).Select(p => KeyValuePair.Create(p.First, (JsonNode?)p.Second.Name))
                                ),
                                ["back"] = r.Back,
                            }
                    )
                )
                .Concat(table.LinkRelations.Select(l => KeyValuePair.Create("far", (JsonNode?)l.DeepClone())))
        );
        return set;
    }

    /// <summary>The set as queries see it: rows get their values under the public names too.</summary>
    private MemorySet MakeSet(Table table)
    {
        var shown = table.Columns.Where(c => !c.IsHidden).ToList();
        foreach (var row in table.Rows)
        {
            foreach (var (path, value) in shown.Select(c => (c.Path, row[c.Name])).ToList())
                row[path] = value;
            if (table.Group is { } group)
                row[group] = shown
                    .Where(c => c.Path.StartsWith(group + "/", StringComparison.Ordinal))
                    .ToDictionary(c => c.Path[(group.Length + 1)..], c => row[c.Path]);
        }
        var plain = shown.Where(c => c.Kind is not (Kind.Letter or Kind.Level)).ToList();
        return new MemorySet(
            table.Set,
            [.. shown.Select(c => c.Path.Split('/')[0]).Distinct()],
            [.. table.Key.Select(k => k.Path)],
            table.Rows,
            [.. table.One],
            [.. table.Many],
            table.Columns[2].Path
        )
        {
            World = _world,
            Values = [.. shown.Select(c => c.Path)],
            Searched = [.. shown.Where(c => c.Kind == Kind.Text).Select(c => c.Path)],
            Groups = [.. plain.Where(c => c is { IsKey: false, Kind: not Kind.Decimal }).Select(c => c.Path).Take(3)],
            DefaultOrder = table.Order is { } order ? [(order.Column.Path, order.Descending)] : [],
            Filters = [.. shown.SelectMany(Filters)],
        };
    }

    private static IEnumerable<(string, Func<MemoryRow, bool>)> Filters(Column column)
    {
        var p = column.Path;
        yield return ($"{p} eq null", r => r[p] is null);
        yield return ($"not ({p} eq null)", r => r[p] is not null);
        switch (column.Kind)
        {
            case Kind.Text:
                yield return ($"contains({p},'a')", r => r[p] is string text && text.Contains('a'));
                yield return ($"not contains({p},'a')", r => r[p] is string text && !text.Contains('a'));
                yield return ($"{p} in ('a','it''s',null)", r => r[p] is null or "a" or "it's");
                yield return ($"length({p}) gt 1 or {p} eq ''", r => r[p] is string { Length: > 1 or 0 });
                break;
            case Kind.Truth or Kind.Letter:
                yield return ($"{p}", r => r[p] is true);
                yield return ($"{p} ne true", r => r[p] is not true);
                break;
            case Kind.Day:
                yield return ($"{p} ge 2024-01-20", r => r[p] is DateOnly day && day >= new DateOnly(2024, 1, 20));
                yield return ($"month({p}) eq 2", r => r[p] is DateOnly { Month: 2 });
                break;
            case Kind.Level:
                yield return ($"{p} eq T.Level'Mid'", r => r[p] is "Mid");
                yield return ($"not ({p} in (T.Level'Low','High'))", r => r[p] is not ("Low" or "High"));
                break;
            default:
                yield return ($"{p} lt 3 and {p} gt -2", r =>
                    r[p] is { } value && Convert.ToDecimal(value, CultureInfo.InvariantCulture) is < 3 and > -2
                );
                break;
        }
    }
}
