namespace RapidGable.Core.Tests;

/// <summary>
/// Random SELECTs in words that mean the same in a statement over sets and in the SQL of every engine, over views called like the sets.
/// Each is ordered by all of its columns, so that a part of its rows is always the same part.
/// </summary>
internal sealed class RandomStatement(Random random)
{
    private bool _isJoined;

    /// <summary>Aggregates are over plain values, and not over other SELECTs.</summary>
    private bool _isPlain;

    /// <summary>The statement up to its order, the number of its columns, and its limit; the order is written by the caller.</summary>
    public (string Text, int Columns, string Limit) Next()
    {
        _isJoined = random.Next(2) == 0;
        var join = _isJoined ? $" {(random.Next(2) == 0 ? "LEFT " : "")}JOIN technicians t ON t.id = v.technician_id" : "";
        var where = random.Next(4) > 0 ? $" WHERE {Condition(2)}" : "";
        var limit = random.Next(2) == 0 ? "" : $" LIMIT {random.Next(1, 12)}{(random.Next(2) == 0 ? "" : $" OFFSET {random.Next(4)}")}";
        if (random.Next(2) == 0)
        {
            var items = Some(1, 4, Value);
            return ($"SELECT {(random.Next(3) == 0 ? "DISTINCT " : "")}{Named(items)} FROM visits v{join}{where}", items.Count, limit);
        }
        var groups = random.Next(4) == 0 ? [] : Some(1, 2, Column).Distinct().ToList();
        var columns = groups.Concat(Some(1, 3, Aggregate)).ToList();
        var by = groups.Count == 0 ? "" : $" GROUP BY {string.Join(", ", groups)}";
        var having = random.Next(3) == 0 ? $" HAVING {Aggregate()} {Comparison()} {random.Next(8)}" : "";
        return ($"SELECT {Named(columns)} FROM visits v{join}{where}{by}{having}", columns.Count, limit);
    }

    private static string Named(IEnumerable<string> items) => string.Join(", ", items.Select((t, i) => $"{t} AS c{i}"));

    private List<string> Some(int least, int most, Func<string> make) =>
        [.. Enumerable.Range(0, random.Next(least, most + 1)).Select(_ => make())];

    private T One<T>(params T[] all) => all[random.Next(all.Length)];

    private string Column() => One([.. Numbers, .. Texts, "v.day"]);

    private string[] Numbers => _isJoined ? ["v.id", "v.rank_no", "v.technician_id", "t.id"] : ["v.id", "v.rank_no", "v.technician_id"];

    private string[] Texts => _isJoined ? ["v.note", "t.region"] : ["v.note"];

    private string Value() => One(Number(2), Number(1), Text(), "v.day", "v.cost");

    private string Number(int depth) =>
        depth == 0 || random.Next(3) == 0
            ? One([.. Numbers, $"{random.Next(6)}"])
            : One(
                $"({Number(depth - 1)} {One("+", "-", "*")} {Number(depth - 1)})",
                $"CASE WHEN {Condition(0)} THEN {Number(depth - 1)} ELSE {Number(depth - 1)} END",
                $"COALESCE({One(Numbers)}, {random.Next(5)})",
                $"length({One(Texts)})",
                $"(- {One(Numbers)})"
            );

    private string Text() => One(One(Texts), $"upper({One(Texts)})", $"COALESCE({One(Texts)}, 'none')");

    private string Comparison() => One("=", "<>", "<", "<=", ">", ">=");

    private string Condition(int depth) =>
        depth > 0 && random.Next(2) == 0
            ? One(
                $"({Condition(depth - 1)} AND {Condition(depth - 1)})",
                $"({Condition(depth - 1)} OR {Condition(depth - 1)})",
                $"NOT ({Condition(depth - 1)})"
            )
            : One([.. Plain(depth), .. _isPlain ? Array.Empty<string>() : Nested()]);

    private string[] Plain(int depth) =>
        [
            $"{Number(depth)} {Comparison()} {Number(depth)}",
            $"{One(Texts)} {Comparison()} '{One("a", "b", "north", "it''s")}'",
            $"{Column()} IS {One("", "NOT ")}NULL",
            $"{One(Numbers)} {One("", "NOT ")}BETWEEN {random.Next(4)} AND {random.Next(3, 12)}",
            $"{One(Numbers)} {One("", "NOT ")}IN ({string.Join(", ", Some(1, 4, () => $"{random.Next(9)}"))})",
            $"v.day {Comparison()} '2024-05-0{random.Next(1, 9)}'",
        ];

    private string[] Nested() =>
        [
            $"v.technician_id {One("", "NOT ")}IN (SELECT i.id FROM technicians i WHERE i.region <> '{One("north", "east")}')",
            $"{One("", "NOT ")}EXISTS (SELECT 1 AS one FROM visits o WHERE o.technician_id = v.technician_id AND o.id > v.id)",
        ];

    private string Aggregate()
    {
        _isPlain = true;
        var aggregate = One(
            "COUNT(*)",
            $"COUNT({Column()})",
            $"COUNT(DISTINCT {Column()})",
            $"SUM({Number(1)})",
            $"MIN({One(Numbers)})",
            $"MAX({Number(1)})",
            "SUM(v.cost)"
        );
        _isPlain = false;
        return aggregate;
    }
}
