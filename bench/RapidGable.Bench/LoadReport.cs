using System.Globalization;
using System.Text;

/// <summary>The figures as lines of the terminal, as tables of the document and as bars.</summary>
internal sealed class LoadReport(IReadOnlyList<string> styles)
{
    private readonly StringBuilder _tables = new();
    private readonly List<(string Label, double Ratio)> _bars = [];
    private string _engine = "";
    private string _note = "";

    public void Heading(string engine)
    {
        EndTable();
        _engine = engine;
        var others = styles.Skip(1).ToList();
        Console.WriteLine(
            $"\n{engine, -46} {"at once", 7} {"requests/s", 10} {"p99 ms", 7} {"web µs", 7} {"db µs", 6} | "
                + string.Join("  ", others.Select(s => $"{s, -22}"))
        );
        _tables.Append(
            CultureInfo.InvariantCulture,
            $"\n## {(engine == "sqlite" ? "SQLite" : "PostgreSQL")}\n\n| what | at once | requests/s | p99 ms | web µs | database µs |"
        );
        _tables.Append(string.Concat(others.Select(s => $" {Words(s)} |")));
        _tables.Append(CultureInfo.InvariantCulture, $"\n| --- |{string.Concat(Enumerable.Repeat(" --- |", others.Count + 5))}\n");
    }

    /// <param name="rounds">The rounds of each style, in the order of the styles; fewer than the styles when the last were not
    /// asked.</param>
    public void Row(string what, int connections, IReadOnlyList<IReadOnlyList<Result>> rounds)
    {
        var own = Mean(rounds[0]);
        var against = rounds.Skip(1).Select(other => Against(rounds[0], other)).ToList();
        Console.WriteLine(
            string.Create(
                CultureInfo.InvariantCulture,
                $"  {what, -44} {connections, 7} {own.PerSecond, 10:0.0} {own.P99Milliseconds, 7:0.0} {own.Web, 7:0} {own.Database, 6:0} | "
            ) + string.Join("  ", against.Select(a => $"{a, -22}"))
        );
        _tables.Append(
            CultureInfo.InvariantCulture,
            $"| {what} | {connections} | {own.PerSecond:0.0} | {own.P99Milliseconds:0.0} | {own.Web:0} | {own.Database:0} |"
        );
        _tables.Append(string.Concat(against.Select(a => $" {a} |")) + string.Concat(Enumerable.Repeat(" |", styles.Count - rounds.Count)));
        _tables.Append('\n');
        var floor = styles.ToList().IndexOf("floor");
        if (floor < rounds.Count && connections != 4)
            _bars.Add(($"{_engine}: {what}", Mean(rounds[0]).PerSecond / Mean(rounds[floor]).PerSecond));
    }

    /// <summary>A text after the tables.</summary>
    public void Append(string text)
    {
        EndTable();
        _tables.Append(text);
    }

    /// <summary>A sentence below the table of the engine.</summary>
    public void Note(string text) => _note = text;

    private void EndTable()
    {
        _tables.Append(_note);
        _note = "";
    }

    public void Write(string root)
    {
        File.WriteAllText(Path.Combine(root, "docs/performance.md"), Introduction + _tables);
        File.WriteAllText(Path.Combine(root, "docs/performance.svg"), Bars());
    }

    /// <summary>
    /// The lowest and the highest of the rounds, and in brackets the means of the processor times of web process and database.
    /// </summary>
    private static string Against(IReadOnlyList<Result> own, IReadOnlyList<Result> other)
    {
        var ratios = own.Zip(other, (a, b) => a.PerSecond / b.PerSecond).Order().ToList();
        var (a, b) = (Mean(own), Mean(other));
        var database = a.Database > 0 ? string.Create(CultureInfo.InvariantCulture, $", {b.Database / a.Database:0.00}") : "";
        return string.Create(CultureInfo.InvariantCulture, $"{ratios[0]:0.00}–{ratios[^1]:0.00} ({b.Web / a.Web:0.00}{database})");
    }

    private static Result Mean(IReadOnlyList<Result> rounds) =>
        new(
            rounds.Average(r => r.PerSecond),
            rounds.Average(r => r.P99Milliseconds),
            rounds.Average(r => r.Web),
            // A server process that ended took its time with it.
            rounds.Average(r => r.Database is < 0 ? null : r.Database)
        );

    private static string Words(string style) =>
        style switch
        {
            "floor" => "the expert's program",
            "mapper" => "the micro-mapper",
            "orm" => "the object mapper",
            _ => "the service before",
        };

    private const string Introduction = """
        # Performance

        What `make bench` measured last, on one machine with two cores that also runs the load and the databases. Every program is a process
        of its own, over the same data, and gives the same rows. Addresses vary over all of the data; all are asked in turn, in three
        rounds.

        The expert's program is written by hand for speed and for these questions alone. It keeps as many sessions as there are cores and
        commands that are prepared once. Statements of one request go in one round trip. One kept JSON writer with names encoded in advance
        writes into the response's pipe. The micro-mapper and the object mapper are used as good practice has it: statements are prepared by
        themselves, contexts are pooled, nothing is tracked.

        A figure is the service's requests per second divided by theirs, from the lowest to the highest round. In brackets stands their
        processor time divided by the service's, of the web process and of the database server. Above 1 the service is better, below 1 it is
        behind.

        **Where the service is behind.** Against the expert's program it loses wherever a bar below is orange: on nearly every route of
        PostgreSQL, on a parent with its newest children, and most of all on writes of many rows, since each row is checked, written and
        answered by itself. Where it reads slower on PostgreSQL, its statement is longer than the one written by hand, so the database works
        longer too.

        Writes: a row is a reading, answered with itself. A batch of 100 is one JSON batch whose hundred requests are a group; theirs is an
        array that goes in by one statement. The file of 100,000 JSON lines is sent by `gable send --atomic --batch 100`, each line a
        repeatable request; the expert's program takes it as it is in one transaction, by the database's bulk load where it has one.

        ![Requests per second against the expert's program](performance.svg)

        """;

    private string Bars()
    {
        const string Title = "Requests per second of the service, divided by those of the expert's program, 16 at once";
        var height = (_bars.Count * 26) + 60;
        var svg = new StringBuilder(
            $"<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"900\" height=\"{height}\" font-family=\"sans-serif\" font-size=\"13\">"
                + $"<rect width=\"100%\" height=\"100%\" fill=\"#fff\"/><text x=\"16\" y=\"24\" font-size=\"15\">{Title}</text>"
        );
        for (var i = 0; i < _bars.Count; i++)
        {
            var (y, ratio) = (44 + (i * 26), _bars[i].Ratio);
            var color = ratio >= 1 ? "#2f7d5b" : "#b5703c";
            svg.Append(CultureInfo.InvariantCulture, $"<text x=\"16\" y=\"{y + 14}\">{_bars[i].Label}</text>");
            svg.Append(
                CultureInfo.InvariantCulture,
                $"<rect x=\"380\" y=\"{y}\" width=\"{ratio * 200:0}\" height=\"18\" fill=\"{color}\"/>"
            );
            svg.Append(CultureInfo.InvariantCulture, $"<text x=\"{388 + (ratio * 200):0}\" y=\"{y + 14}\">{ratio:0.00}</text>");
        }
        svg.Append(
            CultureInfo.InvariantCulture,
            $"<line x1=\"580\" y1=\"36\" x2=\"580\" y2=\"{height - 14}\" stroke=\"#444\" stroke-dasharray=\"4 3\"/></svg>\n"
        );
        return svg.ToString();
    }
}
