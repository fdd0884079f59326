using System.Text.Json.Nodes;
using CsCheck;

namespace RapidGable.Core.Tests;

/// <summary>A set in memory.</summary>
/// <param name="Number">The property that numbers are asked of; like the others a path where it is part of a complex one.</param>
internal sealed record MemorySet(
    string Name,
    string[] Properties,
    string[] Key,
    List<MemoryRow> Rows,
    (string Name, string Set)[] One,
    (string Name, string Set)[] Many,
    string Number
)
{
    /// <summary>All sets by name.</summary>
    public Dictionary<string, MemorySet> World { get; init; } = [];

    /// <summary>The texts that a search looks at.</summary>
    public string[] Searched { get; init; } = [];

    /// <summary>Values that can be grouped by.</summary>
    public string[] Groups { get; init; } = [];

    /// <summary>The paths of all values.</summary>
    public string[] Values { get; init; } = [];

    /// <summary>The order when none is asked for; the key follows.</summary>
    public (string Name, bool Descending)[] DefaultOrder { get; init; } = [];

    /// <summary>What can be asked of these entities only.</summary>
    public (string Text, Func<MemoryRow, bool> Keeps)[] Filters { get; init; } = [];
}

internal sealed class MemoryRow(params (string Name, object? Value)[] values)
{
    private readonly Dictionary<string, object?> _values = values.ToDictionary(v => v.Name, v => v.Value);

    public Dictionary<string, MemoryRow?> One { get; } = [];

    public Dictionary<string, List<MemoryRow>> Many { get; } = [];

    public object? this[string name]
    {
        get => _values.GetValueOrDefault(name);
        set => _values[name] = value;
    }
}

/// <summary>A query as text and as what it means.</summary>
internal sealed record RandomQuery(MemorySet Set)
{
    public (string Text, Func<MemoryRow, bool> Keeps)? Filter { get; init; }

    public (string Text, Func<MemoryRow, bool> Finds)? Search { get; init; }

    public (string Text, Func<MemoryRow, object?> Value)? Compute { get; init; }

    public (string Text, Func<MemoryRow, object?> Value, bool Descending)[] Order { get; init; } = [];

    public int? Top { get; init; }

    public int? Skip { get; init; }

    public bool Count { get; init; }

    public string[]? Select { get; init; }

    public int Levels { get; init; } = 1;

    /// <summary>The entity of the outermost collection that is being made, which <c>$it</c> means below it.</summary>
    [ThreadStatic]
    private static MemoryRow? _it;

    public (string Navigation, string Kind, RandomQuery Query)[] Expand { get; init; } = [];

    public string Text(string separator) =>
        string.Join(
            separator,
            new[]
            {
                Compute is { } c ? $"$compute={c.Text} as made" : null,
                Filter is { } f ? "$filter=" + f.Text : null,
                Search is { } s ? "$search=" + s.Text : null,
                Order.Length > 0 ? "$orderby=" + string.Join(",", Order.Select(o => o.Text + (o.Descending ? " desc" : ""))) : null,
                Top is { } top ? $"$top={top}" : null,
                Skip is { } skip ? $"$skip={skip}" : null,
                Count ? "$count=true" : null,
                Select is { } names ? "$select=" + string.Join(",", names) : null,
                Levels > 1 ? $"$levels={Levels}" : null,
                Expand.Length > 0
                    ? "$expand="
                        + string.Join(
                            ",",
                            Expand.Select(e => e.Navigation + e.Kind + (e.Query.Text(";") is { Length: > 0 } inner ? $"({inner})" : ""))
                        )
                    : null,
            }.Where(p => p is not null)
        );

    /// <summary>The collection with its number, under a name.</summary>
    public JsonObject Collection(string name, List<MemoryRow> rows, string kind = "")
    {
        var kept = rows.Where(r => Filter?.Keeps(r) != false && Search?.Finds(r) != false).ToList();
        var result = new JsonObject();
        if (Count || kind == "/$count")
            result[name == "value" ? "@odata.count" : name + "@odata.count"] = kept.Count;
        if (kind == "/$count")
            return result;
        IOrderedEnumerable<MemoryRow> ordered = kept.OrderBy(_ => 0);
        var terms =
            Order.Length > 0
                ? Order
                : [.. Set.DefaultOrder.Select(o => (o.Name, new Func<MemoryRow, object?>(r => r[o.Name]), o.Descending))];
        foreach (var (_, value, descending) in terms)
            ordered = descending ? ordered.ThenByDescending(value, Nulls.First) : ordered.ThenBy(value, Nulls.First);
        foreach (var key in Set.Key)
            ordered = ordered.ThenBy(r => r[key], Nulls.First);
        IEnumerable<MemoryRow> page = ordered.Skip(Skip ?? 0);
        result[name] = new JsonArray([
            .. (Top is { } top ? page.Take(top) : page).Select(r =>
            {
                _it = name == "value" ? r : _it;
                return kind == "/$ref" ? Reference(r) : Entity(r);
            }),
        ]);
        return result;
    }

    private JsonObject Reference(MemoryRow row)
    {
        static string Literal(object? value) => value is string text ? $"'{Uri.EscapeDataString(text.Replace("'", "''"))}'" : $"{value}";
        var key = Set.Key.Length == 1 ? Literal(row[Set.Key[0]]) : string.Join(",", Set.Key.Select(k => $"{k}={Literal(row[k])}"));
        return new JsonObject { ["@odata.id"] = $"http://x/{Set.Name}({key})" };
    }

    private JsonObject Entity(MemoryRow row)
    {
        var result = new JsonObject();
        foreach (var property in Set.Properties.Where(p => Select is null || Select.Contains(p) || Select.Contains("*")))
            result[property] = Json(row[property]);
        if (Compute is { } compute && (Select is null || Select.Contains("made") || Select.Contains("*")))
            result["made"] = Json(compute.Value(row));
        foreach (var (navigation, kind, query) in Expand.Concat(Repeated()))
        {
            if (!row.Many.TryGetValue(navigation, out var many))
                result[navigation] =
                    row.One[navigation] is not { } one ? null
                    : kind == "/$ref" ? query.Reference(one)
                    : query.Entity(one);
            else
            {
                foreach (var (name, value) in query.Collection(navigation, many, kind).ToList())
                    result[name] = value?.DeepClone();
            }
        }
        return result;
    }

    private string _own = "";

    /// <summary>The relation that led here, as long as levels are left.</summary>
    private IEnumerable<(string, string, RandomQuery)> Repeated() => Levels > 1 ? [(_own, "", this with { Levels = Levels - 1 })] : [];

    private static JsonNode? Json(object? value) =>
        value switch
        {
            null => null,
            long n => n,
            decimal d => d,
            string s => s,
            bool b => b,
            DateOnly d => d.ToString("O"),
            Dictionary<string, object?> group => new JsonObject(group.Select(g => KeyValuePair.Create(g.Key, Json(g.Value)))),
            _ => throw new ArgumentException(value.GetType().Name),
        };

    internal sealed class Nulls : IComparer<object?>
    {
        public static readonly Nulls First = new();

        public int Compare(object? x, object? y) =>
            (x, y) switch
            {
                (null, null) => 0,
                (null, _) => -1,
                (_, null) => 1,
                (string a, string b) => string.CompareOrdinal(a, b),
                (bool a, bool b) => a.CompareTo(b),
                (decimal a, var b) => a.CompareTo(Convert.ToDecimal(b)),
                _ => ((IComparable)x).CompareTo(y),
            };
    }

    private static Gen<T> Pick<T>(params T[] items) => Gen.Int[0, items.Length - 1].Select(i => items[i]);

    private static Gen<T?> Perhaps<T>(Gen<T> gen, int often = 3)
        where T : struct => Gen.Frequency((often, Gen.Const((T?)null)), (1, gen.Select(v => (T?)v)));

    private static decimal? Number(MemoryRow row, string name) => row[name] is { } value ? Convert.ToDecimal(value) : null;

    private static Gen<(string, Func<MemoryRow, bool>)> Filters(MemorySet set, MemorySet? root)
    {
        var n = set.Number;
        var own = new List<(string, Func<MemoryRow, bool>)>
        {
            ($"{n} gt 0", r => Number(r, n) > 0),
            ($"not ({n} gt 0)", r => !(Number(r, n) > 0)),
            ($"{n} eq null", r => r[n] is null),
            ($"{n} ne 1", r => Number(r, n) != 1),
            ($"{n} add 1 le 1", r => Number(r, n) + 1 <= 1),
        };
        own.AddRange(set.Filters);
        if (root is not null)
        {
            own.Add(($"$it/{root.Number} gt {n}", r => Number(_it!, root.Number) > Number(r, n)));
            own.AddRange(
                root.One.Select(o =>
                    (
                        $"{n} lt 3 and not ($it/{o.Name}/{root.World[o.Set].Number} eq null)",
                        new Func<MemoryRow, bool>(r =>
                            Number(r, n) < 3 && _it!.One[o.Name] is { } one && Number(one, root.World[o.Set].Number) is not null
                        )
                    )
                )
            );
        }
        foreach (var (name, _) in set.One)
        {
            var far = set.World[set.One.First(o => o.Name == name).Set].Number;
            own.Add(($"{name}/{far} ge 1", r => r.One[name] is { } one && Number(one, far) >= 1));
            own.Add(($"{name} eq null", r => r.One[name] is null));
            own.Add(($"{name} ne null and {n} ne null", r => r.One[name] is not null && r[n] is not null));
        }
        foreach (var (name, target) in set.Many)
        {
            var inner = set.World[target].Number;
            own.Add(($"{name}/any(x:x/{inner} gt 0)", r => r.Many[name].Exists(x => Number(x, inner) > 0)));
            own.Add(($"{name}/all(x:x/{inner} gt 0)", r => r.Many[name].TrueForAll(x => Number(x, inner) > 0)));
            own.Add(($"{name}/$count gt 1", r => r.Many[name].Count > 1));
            own.Add(($"{name}/$count($filter={inner} gt 0) eq 1", r => r.Many[name].Count(x => Number(x, inner) > 0) == 1));
        }
        return Pick([.. own]);
    }

    private static Gen<(string, Func<MemoryRow, object?>, bool)[]> Orders(MemorySet set, MemorySet? root)
    {
        var terms = new List<(string Text, Func<MemoryRow, object?> Value)>
        {
            (set.Number, r => r[set.Number]),
            ($"{set.Number} mul {set.Number}", r => Number(r, set.Number) is { } v ? v * v : null),
        };
        foreach (var (name, target) in set.One)
            terms.Add(($"{name}/{set.World[target].Number}", r => r.One[name]?[set.World[target].Number]));
        foreach (var (name, _) in set.Many)
            terms.Add(($"{name}/$count", r => (long)r.Many[name].Count));
        if (root is not null)
            terms.Add(($"$it/{root.Number} mul {set.Number}", r => Number(_it!, root.Number) * Number(r, set.Number)));
        return Gen.Select(Pick([.. terms]), Gen.Bool, (t, d) => (t.Text, t.Value, d)).Array[0, 2];
    }

    public static Gen<RandomQuery> For(MemorySet set, int depth, MemorySet? root = null)
    {
        bool Holds(MemoryRow row, string text) =>
            set.Searched.Any(s => row[s] is string value && value.Contains(text, StringComparison.OrdinalIgnoreCase));
        Gen<(string, Func<MemoryRow, bool>)> search = Pick<(string, Func<MemoryRow, bool>)>(
            ("b", r => Holds(r, "b")),
            ("NOT a", r => !Holds(r, "a")),
            ("a AND c", r => Holds(r, "a") && Holds(r, "c")),
            ("z OR c", r => Holds(r, "z") || Holds(r, "c"))
        );
        Gen<(string, Func<MemoryRow, object?>)> compute = Pick<(string, Func<MemoryRow, object?>)>(
            ($"{set.Number} mul 2", r => r[set.Number] is long n ? n * 2 : Number(r, set.Number) * 2),
            ($"{set.Number} gt 0", r => Number(r, set.Number) > 0)
        );
        return Gen.Select(
            Gen.Select(
                Perhaps(Filters(set, root)),
                set.Searched.Length > 0 ? Perhaps(search, 5) : Gen.Const(((string, Func<MemoryRow, bool>)?)null),
                Perhaps(compute, 4),
                (f, s, c) => (f, s, c)
            ),
            Gen.Select(Orders(set, root), Perhaps(Gen.Int[0, 4]), Perhaps(Gen.Int[0, 3], 4), Gen.Bool, (o, t, s, c) => (o, t, s, c)),
            Gen.Int[0, 3],
            Expands(set, depth, root ?? set),
            (a, b, select, expand) =>
                new RandomQuery(set)
                {
                    Filter = a.f,
                    Search = a.s,
                    Compute = a.c,
                    Order = b.o,
                    Top = b.t,
                    Skip = b.s,
                    Count = b.c,
                    Select = select switch
                    {
                        0 => [set.Properties[^1], set.Properties[0]],
                        1 when a.c is not null => ["made"],
                        2 => ["*"],
                        _ => null,
                    },
                    Expand = expand,
                }
        );
    }

    private static Gen<(string, string, RandomQuery)[]> Expands(MemorySet set, int depth, MemorySet root)
    {
        if (depth == 0)
            return Gen.Const(Array.Empty<(string, string, RandomQuery)>());
        var items = new List<Gen<(string, string, RandomQuery)>>();
        foreach (var (name, target) in set.One)
        {
            // On a single entity only what does not speak of many.
            items.Add(Gen.Select(For(set.World[target], depth - 1, root), Gen.Int[0, 5], (q, k) => k == 0
                        ? (name, "/$ref", new RandomQuery(q.Set))
                        : (
                            name,
                            "",
                            new RandomQuery(q.Set)
                            {
                                Select = q.Select,
                                Expand = q.Expand,
                                Compute = q.Compute,
                            }
                        )));
        }
        foreach (var (name, target) in set.Many)
        {
            items.Add(Gen.Select(For(set.World[target], depth - 1, root), Gen.Int[0, 7], (q, k) => k switch
                    {
                        0 => (name, "/$ref", q with { Select = null, Expand = [], Compute = null }),
                        1 => (name, "/$count", new RandomQuery(q.Set) { Filter = q.Filter, Search = q.Search }),
                        2 when target == set.Name => (name, "", q with { Levels = 3, Expand = [], _own = name }),
                        _ => (name, "", q),
                    }));
        }
        return Gen.Select(Gen.Int[0, Math.Min(2, items.Count)], Gen.Shuffle(Enumerable.Range(0, items.Count).ToArray()))
            .SelectMany(p =>
                p.Item1 == 0 ? Gen.Const(Array.Empty<(string, string, RandomQuery)>())
                : p.Item1 == 1 ? items[p.Item2[0]].Select(i => new[] { i })
                : Gen.Select(items[p.Item2[0]], items[p.Item2[1]], (a, b) => new[] { a, b })
            );
    }
}
