using System.Globalization;
using System.Text.Json;
using CsCheck;
using RapidGable.Drafting;
using YamlDotNet.Serialization;

namespace RapidGable.Core.Tests;

/// <summary>Edits of single values of a text: what is asked for changes, and nothing else.</summary>
public class YamlEditTests
{
    private const string Service = """
        # Rivers and what is measured in them.
        title: Rivers          # shown to people
        source: network

        sets:
          - river   # table, 5 columns, key id
          - from: station   # table
            name: Stations
            columns:
              # Names differ upstream.
              code: { rename: number }
              height_m:
                type: Decimal
            allow: [read, create]
          # - secret   # left out
          - { from: reading, name: Readings }

        rules:
          read: anyone

        """;

    private static YamlEdit.Step[] Path(string path) =>
        [.. path.Split('/').Select(s => int.TryParse(s, CultureInfo.InvariantCulture, out var at) ? (YamlEdit.Step)at : (YamlEdit.Step)s)];

    private static JsonElement Json(string text) => JsonDocument.Parse(text).RootElement;

    /// <summary>The lines that differ, those that went with '-' and those that came with '+'.</summary>
    private static string Difference(string before, string after)
    {
        var (old, now) = (before.Split('\n').ToList(), after.Split('\n').ToList());
        while (old.Count > 0 && now.Count > 0 && old[0] == now[0])
        {
            old.RemoveAt(0);
            now.RemoveAt(0);
        }
        while (old.Count > 0 && now.Count > 0 && old[^1] == now[^1])
        {
            old.RemoveAt(old.Count - 1);
            now.RemoveAt(now.Count - 1);
        }
        return string.Join('\n', old.Select(l => "-" + l).Concat(now.Select(l => "+" + l)));
    }

    [Theory] // path, value -> the lines that change
    [InlineData("title", "\"Waters\"", "-title: Rivers          # shown to people\n+title: Waters          # shown to people")]
    [InlineData(
        "title",
        "\"Rivers of the Alder Basin\"",
        "-title: Rivers          # shown to people\n+title: Rivers of the Alder Basin          # shown to people"
    )]
    [InlineData("title", "\"a: b #\"", "-title: Rivers          # shown to people\n+title: \"a: b #\"          # shown to people")]
    [InlineData("about/owner", "\"Water office\"", "+about: { owner: Water office }")]
    [InlineData("rules/create", "[\"office\", \"field\"]", "+  create: [office, field]")]
    [InlineData(
        "sets/0/name",
        "\"Rivers\"",
        "-  - river   # table, 5 columns, key id\n+  - from: river   # table, 5 columns, key id\n+    name: Rivers"
    )]
    [InlineData(
        "sets/0/columns/name/type",
        "\"String\"",
        "-  - river   # table, 5 columns, key id\n+  - from: river   # table, 5 columns, key id\n+    columns: { name: { type: String } }"
    )]
    [InlineData("sets/1/name", "\"Gauges\"", "-    name: Stations\n+    name: Gauges")]
    [InlineData("sets/1/page", "50", "+    page: 50")]
    [InlineData("sets/1/allow", "[\"read\"]", "-    allow: [read, create]\n+    allow: [read]")]
    [InlineData("sets/1/columns/code/type", "\"String\"", "-      code: { rename: number }\n+      code: { rename: number, type: String }")]
    [InlineData("sets/1/columns/height_m/unit", "\"m\"", "+        unit: m")]
    [InlineData(
        "sets/1/columns/height_m",
        "{\"hidden\":true}",
        "-      height_m:\n-        type: Decimal\n+      height_m: { hidden: true }"
    )]
    [InlineData("sets/1/columns/lake/description", "\"What it is.\"", "+      lake: { description: What it is. }")]
    [InlineData("sets/2/page", "5", "-  - { from: reading, name: Readings }\n+  - { from: reading, name: Readings, page: 5 }")]
    [InlineData("sets/3", "\"lake\"", "+  - lake")]
    [InlineData("sets/3", "{\"from\":\"lake\",\"name\":\"Lakes\"}", "+  - { from: lake, name: Lakes }")]
    [InlineData("sets/1/allow/2", "\"update\"", "-    allow: [read, create]\n+    allow: [read, create, update]")]
    public void A_value_is_set(string path, string value, string difference)
    {
        var text = Service.ReplaceLineEndings("\n");
        Assert.Equal(difference, Difference(text, YamlEdit.Set(text, Path(path), Json(value))));
        // Line ends stay as they are.
        var other = text.Replace("\n", "\r\n");
        var edited = YamlEdit.Set(other, Path(path), Json(value));
        Assert.Equal(YamlEdit.Set(text, Path(path), Json(value)), edited.Replace("\r\n", "\n"));
        Assert.DoesNotContain('\n', edited.Replace("\r\n", ""));
    }

    [Theory]
    [InlineData("sets/1/name", "-    name: Stations")]
    [InlineData("sets/1/columns/code", "-      code: { rename: number }")]
    [InlineData("sets/1/columns/height_m/type", "-      height_m:\n-        type: Decimal")]
    [InlineData(
        "sets/1/columns",
        "-    columns:\n-      # Names differ upstream.\n-      code: { rename: number }\n-      height_m:\n-        type: Decimal"
    )]
    [InlineData("sets/1/from", "-  - from: station   # table\n-    name: Stations\n+  - name: Stations")]
    [InlineData("sets/1/allow/0", "-    allow: [read, create]\n+    allow: [create]")]
    [InlineData("sets/1/allow/1", "-    allow: [read, create]\n+    allow: [read]")]
    [InlineData("sets/2/name", "-  - { from: reading, name: Readings }\n+  - { from: reading }")]
    [InlineData("sets/2", "-  - { from: reading, name: Readings }")]
    [InlineData("sets/0", "-  - river   # table, 5 columns, key id")]
    [InlineData("rules/read", "-rules:\n-  read: anyone")]
    [InlineData("nothing/there", "")]
    public void A_value_is_removed(string path, string difference)
    {
        var text = Service.ReplaceLineEndings("\n");
        Assert.Equal(difference, Difference(text, YamlEdit.Remove(text, Path(path))));
    }

    [Theory]
    [InlineData("", "title", "title: T\n")]
    [InlineData("# only a comment\n", "title", "# only a comment\ntitle: T\n")]
    [InlineData("a: 1", "title", "a: 1\ntitle: T\n")]
    [InlineData("title:\n", "title", "title: T\n")]
    [InlineData("title: |\n  One\n  two\nb: 2\n", "title", "title: T\nb: 2\n")]
    [InlineData("title: # note\n  a: 1\nb: 2\n", "title", "title: T  # note\nb: 2\n")]
    [InlineData("sets:\n- a\n- b\n", "sets/2", "sets:\n- a\n- b\n- T\n")]
    [InlineData("sets: [a]\n", "sets/0/name", "sets: [{ from: a, name: T }]\n")]
    [InlineData("sets: []\n", "sets/0", "sets: [T]\n")]
    [InlineData("\"a b\": { c: 1 }\n", "a b/c", "\"a b\": { c: T }\n")]
    [InlineData("a: [[b], [c]]\n", "a/1/0", "a: [[b], [T]]\n")]
    [InlineData("a: { b: { c: 1 } } # x }\n", "a/d", "a: { b: { c: 1 }, d: T } # x }\n")]
    public void Other_forms_are_edited_as_they_are(string text, string path, string expected) =>
        Assert.Equal(expected, YamlEdit.Set(text, Path(path), Json("\"T\"")));

    [Fact]
    public void What_gets_too_long_for_a_line_is_put_into_several()
    {
        var text = $"sets:\n  - {{ from: river, name: {new string('R', 40)}, description: {new string('d', 40)} }}   # note\n  - lake\n";
        Assert.Equal(
            $"sets:\n  - from: river\n    name: {new string('R', 40)}\n    description: {new string('d', 40)}   # note\n"
                + "    page: 5\n  - lake\n",
            YamlEdit.Set(text, Path("sets/0/page"), Json("5"))
        );
        var many = JsonSerializer.SerializeToElement(Enumerable.Range(0, 4).ToDictionary(i => $"column{i}", _ => new string('x', 30)));
        Assert.Equal(
            "a: 1\nrename:\n" + string.Concat(Enumerable.Range(0, 4).Select(i => $"  column{i}: {new string('x', 30)}\n")),
            YamlEdit.Set("a: 1\n", Path("rename"), many)
        );
    }

    [Theory]
    [InlineData("a: *b\n", "a", "alias")]
    [InlineData("a: [\n", "a", "no YAML")]
    [InlineData("a: 1\n", "a/b", "leads nowhere")]
    [InlineData("a: [1]\n", "a/7", "no item 7")]
    [InlineData("- 1\n", "a", "leads nowhere")]
    public void What_has_no_such_place_is_told(string text, string path, string message) =>
        Assert.Contains(message, Assert.Throws<InvalidDataException>(() => YamlEdit.Set(text, Path(path), Json("1"))).Message);

    [Fact] // whatever is set is read back, and the rest is as it was
    public void What_is_set_reads_back()
    {
        var texts = Gen.OneOf(
            Gen.String[Gen.Char["ab: #'\"[]{},-?*&!|>%@`~\\0.\u00e9\u05d0<\t"], 1, 12],
            OneOf("yes", "null", "~", "1e3", "0x10", "- a", "a: b", "a #b", "2024-01-01", "Rivers of the Basin", "it's", "a,b")
        );
        var names = new[] { "name", "description", "page", "columns", "rules" };
        Gen.Select(Gen.Int[0, 2], OneOf(names), texts, Gen.Bool)
            .Sample(
                (set, name, value, isRemoved) =>
                {
                    var path = Path($"sets/{set}/{name}");
                    var text = Service.ReplaceLineEndings("\n");
                    var edited = YamlEdit.Set(text, path, JsonSerializer.SerializeToElement(value));
                    var (before, after) = (Sets(text), Sets(edited));
                    Assert.Equal(value, ((Dictionary<object, object>)after[set])[name]);
                    Assert.Equal(before.Where((_, i) => i != set).Select(Shown), after.Where((_, i) => i != set).Select(Shown));
                    if (isRemoved)
                        Assert.False(((Dictionary<object, object>)Sets(YamlEdit.Remove(edited, path))[set]).ContainsKey(name));
                },
                iter: 2_000
            );
    }

    private static Gen<string> OneOf(params string[] texts) => Gen.Int[0, texts.Length - 1].Select(i => texts[i]);

    private static List<object> Sets(string text) =>
        (List<object>)((Dictionary<object, object>)new Deserializer().Deserialize<object>(text)!)["sets"];

    private static string Shown(object value) => JsonSerializer.Serialize(value);
}
