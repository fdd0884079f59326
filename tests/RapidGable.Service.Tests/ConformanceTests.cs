using System.Text;
using System.Text.RegularExpressions;

namespace RapidGable.Service.Tests;

/// <summary>
/// docs/conformance.md: every row of the protocol checklist with the tests that show it, by their attribute <c>Proves</c>.
/// <c>make conformance</c> writes the table anew.
/// </summary>
public sealed partial class ConformanceTests
{
    private sealed record Row(string Id, string Tier, string Level, string Title);

    private static string PathOf(string file) => Path.Combine(Gable.Root, file);

    private static List<string[]> Table(string file) => [.. File.ReadAllLines(PathOf(file)).Select(l => l.Split('\t'))];

    [Fact]
    public void The_table_is_that_of_the_tests()
    {
        var rows = Table("tests/protocol-rows.tsv").Select(r => new Row(r[0], r[1], r[2], r[3])).ToList();
        var states = Table("tests/protocol-states.tsv").ToDictionary(r => r[0], r => (State: r[1], Why: r[2]));
        var shown = Shown();
        Assert.Equal("", string.Join(", ", states.Keys.Except(rows.Select(r => r.Id))));
        Assert.Equal(
            "",
            string.Join(
                ", ",
                states
                    .Where(s => s.Value.State == "by")
                    .SelectMany(s => s.Value.Why.Split(", "))
                    .Where(id => !shown.ContainsKey(id) && !states.ContainsKey(id))
            )
        );

        var text = new StringBuilder(
            """
            # Conformance

            Each row of the protocol checklist with the tests that show it. `make conformance` writes this table from the
            attributes of the tests, and `make test` checks it. A row that no test shows, and that is neither not applicable
            nor refused, is open.

            | row | what | level | tier | state | shown by |
            | --- | --- | --- | --- | --- | --- |

            """
        );
        var counts = new SortedDictionary<string, int>();
        var unmet = new List<string>();
        foreach (var row in rows)
        {
            var tests = shown.GetValueOrDefault(row.Id, []);
            var (state, why) =
                tests.Count > 0 ? ("met", Tests(tests))
                : !states.TryGetValue(row.Id, out var known) ? ("open", "")
                : known.State == "by" ? ("met", "rows " + known.Why)
                : (known.State, known.Why);
            if (state == "open" && row.Level == "MUST")
                unmet.Add(row.Id);
            counts[state] = counts.GetValueOrDefault(state) + 1;
            text.Append($"| {row.Id} | {row.Title.Replace("|", "\\|")} | {row.Level} | {row.Tier} | {state} | {why} |\n");
        }
        text.Append($"\n{string.Join(", ", counts.Select(c => $"{c.Value} {c.Key}"))}.\n");
        Assert.True(unmet.Count == 0, "No test shows " + string.Join(", ", unmet));
        var file = PathOf("docs/conformance.md");
        if (Environment.GetEnvironmentVariable("GABLE_WRITE") == "1")
            File.WriteAllText(file, text.ToString());
        Assert.True(
            File.Exists(file) && File.ReadAllText(file) == text.ToString(),
            "docs/conformance.md is not that of the tests. Run 'make conformance', look at the difference and commit it."
        );
    }

    private static string Tests(List<string> names) =>
        string.Join(", ", names.Take(3)) + (names.Count > 3 ? $" and {names.Count - 3} more" : "");

    /// <summary>The tests that show each row, in the order of their files.</summary>
    private static Dictionary<string, List<string>> Shown()
    {
        var shown = new Dictionary<string, List<string>>();
        var files = Directory.EnumerateFiles(PathOf("tests"), "*Tests.cs", SearchOption.AllDirectories).Where(f => !f.Contains("/obj/"));
        foreach (var file in files.Order(StringComparer.Ordinal))
        {
            var (rows, runs) = ("", false);
            foreach (var line in File.ReadLines(file))
            {
                if (line.StartsWith("    [Fact", StringComparison.Ordinal) || line.StartsWith("    [Theory", StringComparison.Ordinal))
                    runs = !line.Contains("Skip", StringComparison.Ordinal);
                else if (line.StartsWith("    [Proves(", StringComparison.Ordinal) || (rows.Length > 0 && !rows.EndsWith(']')))
                    rows += line.TrimEnd();
                if (MethodPattern().Match(line) is not { Success: true } method)
                    continue;
                foreach (var id in Ids(rows))
                {
                    Assert.True(runs, $"{method.Groups[1].Value} shows {id} and never runs.");
                    shown.TryAdd(id, []);
                    shown[id].Add(method.Groups[1].Value);
                }
                (rows, runs) = ("", false);
            }
        }
        return shown;
    }

    private static IEnumerable<string> Ids(string rows)
    {
        foreach (Match match in IdPattern().Matches(rows))
        {
            var (letter, first) = (match.Groups[1].Value, int.Parse(match.Groups[2].Value));
            var last = match.Groups[3].Success ? int.Parse(match.Groups[3].Value) : first;
            for (var n = first; n <= last; n++)
                yield return $"{letter}-{n:00}";
        }
    }

    [GeneratedRegex(@"\b([PUQJCALMRTX])-(\d{2,3})(?: to \1-(\d{2,3}))?")]
    private static partial Regex IdPattern();

    [GeneratedRegex(@"^    public (?:(?:async )?Task|void) (\w+)\(")]
    private static partial Regex MethodPattern();
}
