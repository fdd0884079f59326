using System.Globalization;
using System.Text.Json;
using RapidGable.Drafting;

namespace RapidGable.Core.Tests;

/// <summary>Changes of a design become the lines that a person would write.</summary>
public class DesignEditTests
{
    private const string Service = """
        title: Rivers
        source: network

        sets:
          - river   # table, 5 columns
          - from: station   # the gauges
            hide: [notes, photo]   # personal
            columns:
              day: date
              kind: { type: SensorKind, description: What it measures }
              code: { name: number }
          - from: latest
            keyless: true
          - { from: alert, show: [id, level] }
          - from: visit
            hide: report

        """;

    private static DesignChange Change(int? set, string path, string? value) =>
        new(
            set,
            [
                .. path.Split('/')
                    .Select(s => int.TryParse(s, CultureInfo.InvariantCulture, out var at) ? (YamlEdit.Step)at : (YamlEdit.Step)s),
            ],
            value is null ? null : JsonDocument.Parse(value).RootElement
        );

    [Theory] // set, path, value -> the lines that go and come
    [InlineData(0, "name", "\"Rivers\"", "-  - river   # table, 5 columns\n+  - from: river   # table, 5 columns\n+    name: Rivers")]
    [InlineData(1, "name", "\"Stations\"", "+    name: Stations")]
    [InlineData(1, "name", "\"\"", "")]
    [InlineData(1, "key", "[\"code\"]", "+    key: code")]
    [InlineData(1, "key", "[\"code\",\"day\"]", "+    key: [code, day]")]
    [InlineData(2, "key", "[\"id\"]", "-    keyless: true\n+    key: id")]
    [InlineData(2, "key", "[]", "")]
    [InlineData(3, "keyless", "true", "-  - { from: alert, show: [id, level] }\n+  - { from: alert, keyless: true, show: [id, level] }")]
    [InlineData(1, "allow", "[\"read\",\"create\"]", "+    allow: [read, create]")]
    [InlineData(1, "allow", "[\"read\"]", "")]
    [InlineData(1, "hide/code", "true", "-    hide: [notes, photo]   # personal\n+    hide: [notes, photo, code]   # personal")]
    [InlineData(1, "hide/photo", "false", "-    hide: [notes, photo]   # personal\n+    hide: [notes]   # personal")]
    [InlineData(1, "hide/photo", "true", "")]
    [InlineData(4, "hide/report", "false", "-    hide: report")]
    [InlineData(4, "hide/done", "true", "-    hide: report\n+    hide: [report, done]")]
    [InlineData(0, "hide/mouth", "true", "-  - river   # table, 5 columns\n+  - from: river   # table, 5 columns\n+    hide: [mouth]")]
    [InlineData(3, "hide/level", "true", "-  - { from: alert, show: [id, level] }\n+  - { from: alert, show: [id] }")]
    [InlineData(3, "hide/since", "false", "-  - { from: alert, show: [id, level] }\n+  - { from: alert, show: [id, level, since] }")]
    [InlineData(1, "columns/notes/name", "\"remarks\"", "+    rename: { notes: remarks }")]
    [InlineData(1, "columns/code/name", "\"no\"", "-      code: { name: number }\n+      code: { name: \"no\" }")]
    [InlineData(1, "columns/code/name", null, "-      code: { name: number }")]
    [InlineData(1, "columns/day/type", "\"datetimeoffset\"", "-      day: date\n+      day: datetimeoffset")]
    [InlineData(1, "columns/day/type", null, "-      day: date")]
    [InlineData(1, "columns/day/description", "\"The day\"", "-      day: date\n+      day: { type: date, description: The day }")]
    [InlineData(1, "columns/day/description", null, "")]
    [InlineData(
        1,
        "columns/kind/description",
        null,
        "-      kind: { type: SensorKind, description: What it measures }\n+      kind: SensorKind"
    )]
    [InlineData(1, "columns/height/measured-in", "\"m\"", "+      height: { measured-in: m }")]
    [InlineData(1, "columns/level/type", "\"decimal(9,2)\"", "+      level: \"decimal(9,2)\"")]
    [InlineData(
        1,
        "rules",
        """[{"who":["anyone"],"may":["read"]},{"who":["office","field"],"may":["read","update"],"rows":"region eq @region"}]""",
        "+    rules:\n+      - { who: anyone, may: read }\n"
            + "+      - { who: [office, field], may: [read, update], rows: region eq @region }"
    )]
    [InlineData(1, "order", "[\"day desc\"]", "+    order: [day desc]")]
    [InlineData(
        4,
        "relations/station",
        """{"to":"Stations","on":["station_id"]}""",
        "+    relations: { station: { to: Stations, on: station_id } }"
    )]
    [InlineData(null, "rules", """[{"who":["anyone"],"may":["read"]}]""", "+rules:\n+  - { who: anyone, may: read }")]
    [InlineData(4, "hide", """[{"a":1},{"b":[2,3]}]""", "-    hide: report\n+    hide:\n+      - { a: 1 }\n+      - { b: [2, 3] }")]
    [InlineData(null, "title", "\"All rivers\"", "-title: Rivers\n+title: All rivers")]
    public void A_change_is_written_in_its_shortest_form(int? set, string path, string? value, string difference) =>
        Assert.Equal(difference, Difference(Service, DesignEdit.Apply(Service, Change(set, path, value))));

    [Theory]
    [InlineData(9, "name")]
    [InlineData(-1, "name")]
    [InlineData(0, "")]
    [InlineData(1, "hide/3/x")]
    public void What_leads_nowhere_is_refused(int set, string path) =>
        Assert.Throws<InvalidDataException>(() =>
            DesignEdit.Apply(Service, path.Length == 0 ? new DesignChange(set, [], null) : Change(set, path, "\"x\""))
        );

    /// <summary>The lines that are only before, with '-', and only after, with '+'.</summary>
    private static string Difference(string before, string after)
    {
        var (old, now) = (before.Split('\n').ToList(), after.Split('\n').ToList());
        var kept = old.Intersect(now).ToHashSet();
        return string.Join(
            '\n',
            old.Where(l => !kept.Contains(l)).Select(l => "-" + l).Concat(now.Where(l => !kept.Contains(l)).Select(l => "+" + l))
        );
    }
}
