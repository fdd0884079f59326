using System.Text.Json.Nodes;
using CsCheck;

namespace RapidGable.Core.Tests;

/// <summary>A row on its way through transformations: values by path; what a row lacks is not there.</summary>
internal sealed class FlatRow : Dictionary<string, object?>
{
    public FlatRow() { }

    public FlatRow(IEnumerable<KeyValuePair<string, object?>> other)
        : base(other) { }

    public object? At(string path) => TryGetValue(path, out var value) ? value : null;

    public decimal? Number(string path) => At(path) is { } value ? Convert.ToDecimal(value) : null;
}

/// <summary>Random sequences of transformations as text and as what they mean.</summary>
/// <param name="Keys">Names that can be grouped by.</param>
/// <param name="IsEntity">Rows still have their key.</param>
internal sealed record RandomApply(MemorySet Set, string Text, List<FlatRow> Rows, string[] Keys, string[] Numbers, bool IsEntity)
{
    /// <summary>The entities of a set with what is reached from them.</summary>
    public static RandomApply Of(MemorySet set)
    {
        var far = set
            .One.SelectMany(o => set.World[o.Set].Groups.Append(set.World[o.Set].Number).Select(name => (o.Name, Value: name)))
            .ToList();
        return new RandomApply(
            set,
            "",
            [
                .. set.Rows.Select(r =>
                {
                    var row = new FlatRow();
                    foreach (var name in set.Values)
                        row[name] = r[name];
                    foreach (var (navigation, name) in far)
                        row[$"{navigation}/{name}"] = r.One[navigation]?[name];
                    return row;
                }),
            ],
            [.. set.Groups, .. set.One.SelectMany(o => set.World[o.Set].Groups.Select(g => $"{o.Name}/{g}"))],
            [set.Number, .. set.One.Select(o => $"{o.Name}/{set.World[o.Set].Number}")],
            true
        );
    }

    /// <summary>Random sequences of one to three transformations.</summary>
    public static Gen<RandomApply> For(MemorySet set) =>
        Gen.Int[1, 3].SelectMany(n => Enumerable.Range(0, n).Aggregate(Gen.Const(Of(set)), (gen, _) => gen.SelectMany(a => a.Next())));

    /// <summary>
    /// The rows as they are answered: entities come with all that they have, and what was reached from them is not theirs.
    /// </summary>
    public IEnumerable<FlatRow> Answer =>
        IsEntity
            ? Rows.Select(r => new FlatRow(r.Where(v => Set.One.All(o => !v.Key.StartsWith(o.Name + "/", StringComparison.Ordinal)))))
            : Rows;

    private RandomApply Then(string text, IEnumerable<FlatRow> rows) =>
        this with
        {
            Text = Text.Length == 0 ? text : $"{Text}/{text}",
            Rows = [.. rows],
        };

    private static Gen<T> Pick<T>(params T[] items) => Gen.Int[0, items.Length - 1].Select(i => items[i]);

    public Gen<RandomApply> Next()
    {
        var steps = new List<Gen<RandomApply>> { Filter(), Group() };
        if (IsEntity)
        {
            steps.Add(Rank());
            steps.Add(Pick("identity").Select(_ => Then("identity", Rows)));
            if (!Numbers.Contains("made"))
                steps.Add(
                    Pick(Numbers)
                        .Select(n =>
                            Then($"compute({n} add 1 as made)", Rows.Select(r => new FlatRow(r) { ["made"] = r.Number(n) + 1 })) with
                            {
                                Numbers = [.. Numbers, "made"],
                            }
                        )
                );
        }
        if (Keys.Length > 0)
            steps.Add(Concat());
        return Pick([.. steps]).SelectMany(s => s);
    }

    private Gen<RandomApply> Filter() =>
        Gen.Select(Pick(Numbers), Gen.Int[-1, 2]).Select((n, v) => Then($"filter({n} gt {v})", Rows.Where(r => r.Number(n) > v)));

    private Gen<RandomApply> Rank() =>
        Gen.Select(Pick("topcount", "bottomcount", "topsum", "bottomsum", "toppercent", "bottompercent"), Pick(Numbers), Gen.Int[1, 60])
            .Select((kind, n, limit) => Then($"{kind}({limit},{n})", Ranked(Rows, kind, n, limit)));

    private IEnumerable<FlatRow> Ranked(List<FlatRow> rows, string kind, string n, int limit)
    {
        var ordered = (
            kind.StartsWith("top", StringComparison.Ordinal)
                ? rows.OrderByDescending(r => r.Number(n) ?? decimal.MinValue)
                : rows.OrderBy(r => r.Number(n) ?? decimal.MinValue)
        ).ToList();
        // Ties are told apart by the key.
        var rank = ordered
            .GroupBy(r => r.Number(n))
            .SelectMany(g => Set.Key.Aggregate(g.OrderBy(_ => 0), (o, k) => o.ThenBy(r => r[k], RandomQuery.Nulls.First)));
        ordered = [.. rank];
        if (kind.EndsWith("count", StringComparison.Ordinal))
            return ordered.Take(limit);
        var total = rows.Sum(r => r.Number(n) ?? 0);
        if (rows.TrueForAll(r => r.Number(n) is null) && kind.EndsWith("percent", StringComparison.Ordinal))
            return [];
        var most = kind.EndsWith("sum", StringComparison.Ordinal) ? limit : total * limit / 100m;
        var kept = new List<FlatRow>();
        var reached = 0m;
        foreach (var row in ordered)
        {
            if (reached < most)
                kept.Add(row);
            reached += row.Number(n) ?? 0;
        }
        return kept;
    }

    private sealed record Aggregated(string Text, string Name, Func<List<FlatRow>, object?> Value);

    private Gen<Aggregated[]> Aggregates() =>
        Gen.Select(Pick("sum", "min", "max", "average", "countdistinct", "$count"), Pick(Numbers))
            .Array[1, 3]
            .Select(items =>
                items
                    .Select(
                        (item, i) =>
                        {
                            var (method, n) = item;
                            var name = $"v{i}_{Guid.NewGuid():N}"[..8];
                            List<decimal> Values(List<FlatRow> rows) => [.. rows.Select(r => r.Number(n)).OfType<decimal>()];
                            return method == "$count"
                                ? new Aggregated($"$count as {name}", name, rows => (decimal)rows.Count)
                                : new Aggregated($"{n} with {method} as {name}", name, rows => (method, Values(rows)) switch
                                    {
                                        ("countdistinct", var values) => (decimal)values.Distinct().Count(),
                                        (_, { Count: 0 }) => null,
                                        ("sum", var values) => values.Sum(),
                                        ("min", var values) => values.Min(),
                                        ("max", var values) => values.Max(),
                                        (_, var values) => (double)values.Sum() / values.Count,
                                    });
                        }
                    )
                    .ToArray()
            );

    private Gen<RandomApply> Group()
    {
        var keys =
            Keys.Length == 0
                ? Gen.Const(Array.Empty<string>())
                : Gen.Shuffle(Keys).SelectMany(k => Gen.Int[0, k.Length].Select(n => k[..n]));
        return Gen.Select(keys, Aggregates(), Gen.Int[0, 5])
            .Select(
                (by, aggregates, form) =>
                {
                    var what = string.Join(",", aggregates.Select(a => a.Text));
                    FlatRow Of(IEnumerable<string> names, List<FlatRow> rows)
                    {
                        var row = new FlatRow();
                        foreach (var name in names)
                            row[name] = rows[0].At(name);
                        foreach (var a in aggregates)
                            row[a.Name] = a.Value(rows);
                        return row;
                    }
                    IEnumerable<FlatRow> By(string[] names, List<FlatRow> rows) =>
                        rows.GroupBy(r => string.Join('|', names.Select(n => $"{r.ContainsKey(n)}{r.At(n)?.ToString() ?? "\0"}")))
                            .Select(g => Of(names, [.. g]));
                    RandomApply Result(string text, IEnumerable<FlatRow> rows) =>
                        Then(text, rows) with
                        {
                            Keys = [],
                            Numbers = [.. aggregates.Select(a => a.Name)],
                            IsEntity = false,
                        };
                    if (by.Length == 0)
                    {
                        var all = new FlatRow();
                        foreach (var a in aggregates)
                            all[a.Name] = a.Value(Rows);
                        return Result($"aggregate({what})", [all]);
                    }
                    if (form == 0 && by.Length > 1)
                        return Result(
                            $"groupby((rollup($all,{string.Join(",", by)})),aggregate({what}))",
                            Enumerable.Range(0, by.Length + 1).SelectMany(n => By(by[..n], Rows))
                        );
                    if (form == 1 && IsEntity)
                    {
                        var n = Numbers[0];
                        return Result(
                            $"groupby(({string.Join(",", by)}),filter({n} gt 0)/aggregate({what}))",
                            Rows.GroupBy(r => string.Join('|', by.Select(k => r.At(k)?.ToString() ?? "\0")))
                                .Select(g =>
                                {
                                    var kept = g.Where(r => r.Number(n) > 0).ToList();
                                    var row = new FlatRow();
                                    foreach (var name in by)
                                        row[name] = g.First().At(name);
                                    foreach (var a in aggregates)
                                        row[a.Name] = a.Value(kept);
                                    return row;
                                })
                        );
                    }
                    if (form == 2 && IsEntity)
                        return Result(
                            $"groupby(({string.Join(",", by)}),topcount(2,{Numbers[0]})/aggregate({what}))",
                            Rows.GroupBy(r => string.Join('|', by.Select(k => r.At(k)?.ToString() ?? "\0")))
                                .SelectMany(g => By(by, [.. Ranked([.. g], "topcount", Numbers[0], 2)]))
                        );
                    return Result($"groupby(({string.Join(",", by)}),aggregate({what}))", By(by, Rows));
                }
            );
    }

    private Gen<RandomApply> Concat() =>
        Gen.Select((this with { Text = "" }).Group(), (this with { Text = "" }).Group())
            .Select(
                (a, b) =>
                    Then($"concat({a.Text},{b.Text})", a.Rows.Concat(b.Rows)) with
                    {
                        Keys = [],
                        Numbers = [.. a.Numbers, .. b.Numbers],
                        IsEntity = false,
                    }
            );

    /// <summary>The rows of a payload, and those of the evaluator, in one form.</summary>
    public static List<string> Shown(IEnumerable<FlatRow> rows) =>
        [
            .. rows.Select(r => string.Join("; ", r.OrderBy(v => v.Key, StringComparer.Ordinal).Select(v => $"{v.Key}={Shown(v.Value)}")))
                .Order(StringComparer.Ordinal),
        ];

    private static string Shown(object? value) =>
        value switch
        {
            null => "null",
            string text => text,
            DateOnly day => day.ToString("O"),
            bool truth => truth ? "true" : "false",
            _ => Math.Round(Convert.ToDecimal(value), 6).ToString("0.######", System.Globalization.CultureInfo.InvariantCulture),
        };

    public static FlatRow Flat(JsonObject row, string prefix = "")
    {
        var flat = new FlatRow();
        foreach (var (name, value) in row)
        {
            if (value is JsonObject nested)
            {
                foreach (var (path, inner) in Flat(nested, $"{prefix}{name}/"))
                    flat[path] = inner;
            }
            else
                flat[prefix + name] = value?.GetValueKind() switch
                {
                    null => null,
                    System.Text.Json.JsonValueKind.String => value.GetValue<string>(),
                    System.Text.Json.JsonValueKind.True => true,
                    System.Text.Json.JsonValueKind.False => false,
                    _ => value.GetValue<decimal>(),
                };
        }
        return flat;
    }
}
