using System.Globalization;
using CsCheck;
using RapidGable.Inspection;
using RapidGable.Model;
using RapidGable.Publishing;
using RapidGable.Queries;

namespace RapidGable.Core.Tests;

/// <summary>Values and their stored forms, both ways.</summary>
public class ConversionTests
{
    private static readonly EdmType Text = EdmType.String;
    private static readonly EdmType Whole = EdmType.Int64;
    private static readonly EnumType Kind = new("T", "Kind", [new EnumMember("level", 0, "L"), new EnumMember("flow", 1, "F")]);

    public static TheoryData<ValueConversion, object, object?> Decoded =>
        new()
        {
            { new BooleanConversion(Text, "Y", "N"), "Y", true },
            { new BooleanConversion(Text, "Y", "N"), "y", null },
            { new BooleanConversion(Whole, "1", "0"), 0L, false },
            { new BooleanConversion(EdmType.Decimal, "1", "0"), 1.0m, true },
            { new BooleanConversion(Whole, "1", "0"), 2L, null },
            { new EnumConversion(Text, Kind), "F", "flow" },
            { new EnumConversion(Text, Kind), "flow", null },
            { new TextConversion(Whole), 42L, "42" },
            { new TextConversion(EdmType.Decimal), 12.50m, "12.5" },
            { new TextConversion(EdmType.Boolean), true, "true" },
            { new TextConversion(EdmType.Date), new DateOnly(2024, 5, 1), "2024-05-01" },
            { new FormatConversion(Text, EdmType.Date, "dd.MM.yyyy"), "31.12.2023", new DateOnly(2023, 12, 31) },
            { new FormatConversion(Text, EdmType.Date, "dd.MM.yyyy"), "31.02.2023", null },
            { new FormatConversion(Whole, EdmType.Date, "yyyyMMdd"), 20231231L, new DateOnly(2023, 12, 31) },
            { new FormatConversion(Text, EdmType.TimeOfDay, "HHmm"), "0730", new TimeOnly(7, 30) },
            {
                new FormatConversion(Text, EdmType.DateTimeOffset, "yyyy-MM-dd HH:mm"),
                "2024-05-01 07:30",
                new DateTime(2024, 5, 1, 7, 30, 0, DateTimeKind.Utc)
            },
            { new UnitConversion(Whole, EdmType.Duration, "minutes", 60), 90L, TimeSpan.FromMinutes(90) },
            { new UnitConversion(Whole, EdmType.DateTimeOffset, "milliseconds", 0.001m), 1500L, DateTime.UnixEpoch.AddSeconds(1.5) },
            { new UnitConversion(Whole, EdmType.DateTimeOffset, "days", 86_400), long.MaxValue, null },
            { new UnitConversion(Whole, EdmType.DateTimeOffset, "seconds", 1), -99_999_999_999L, null },
            { new NumberConversion(Text, EdmType.Int32), "007", 7L },
            { new NumberConversion(Text, EdmType.Int32), "seven", null },
            { new NumberConversion(Text, EdmType.Decimal), "1234567890123456789.012345678", 1234567890123456789.012345678m },
            { new NumberConversion(Text, EdmType.Decimal), "12345678901234567890.0123456789", null },
            { new NumberConversion(Text, EdmType.Decimal), "000000000000000000000000000001.50", 1.5m },
            { new NumberConversion(Whole, new EdmType(EdmKind.Byte)), 256L, null },
            { new NumberConversion(EdmType.Double, Whole), 2.5, null },
            { new NumberConversion(Whole, EdmType.Decimal), 5L, 5m },
            { new GuidConversion(Text), "21EC2020-3AEA-1069-A2DD-08002B30309D", Guid.Parse("21ec2020-3aea-1069-a2dd-08002b30309d") },
            { new GuidConversion(EdmType.Binary), new byte[15], null },
        };

    [Theory]
    [MemberData(nameof(Decoded))]
    public void A_stored_value_becomes_a_published_one(ValueConversion conversion, object stored, object? published) =>
        Assert.Equal(published, conversion.Decode(stored));

    [Fact] // what can be searched by has exactly one stored form
    public void A_published_value_finds_its_stored_one()
    {
        ValueConversion[] all =
        [
            new UnitConversion(Whole, EdmType.Duration, "minutes", 60),
            new UnitConversion(Whole, EdmType.DateTimeOffset, "seconds", 1),
            new TextConversion(Whole),
            new FormatConversion(Whole, EdmType.Date, "yyyyMMdd"),
        ];
        Gen.Select(Gen.Int[0, all.Length - 1], Gen.Long[-9_999_999, 9_999_999])
            .Sample(
                (which, number) =>
                {
                    var conversion = all[which];
                    if (conversion.Decode(number) is { } published)
                        Assert.Equal(number, Convert.ToDecimal(conversion.Encode(published), CultureInfo.InvariantCulture));
                },
                iter: 5_000
            );
    }

    [Theory] // an order is promised only where texts sort like what they mean
    [InlineData("yyyy-MM-dd", ConvertedUse.Order)]
    [InlineData("yyyyMMdd", ConvertedUse.Order)]
    [InlineData("dd.MM.yyyy", ConvertedUse.Equality)]
    [InlineData("yyyy-dd-MM", ConvertedUse.Equality)]
    [InlineData("yyyy-MM-dd HH:mm:ss", ConvertedUse.Order)]
    [InlineData("HH:mm", ConvertedUse.Order)]
    [InlineData("mm:HH", ConvertedUse.Equality)]
    public void A_format_says_whether_it_sorts(string format, ConvertedUse use) =>
        Assert.Equal(use, new FormatConversion(Text, EdmType.DateTimeOffset, format).Use);

    [Theory] // where the parts of a text stand; nothing where that is not certain
    [InlineData("dd.MM.yyyy", CanonicalFunction.Year, 7, 4, 10)]
    [InlineData("dd.MM.yyyy", CanonicalFunction.Day, 1, 2, 10)]
    [InlineData("yyyyMMdd", CanonicalFunction.Month, 5, 2, 8)]
    [InlineData("yyyy-MM-dd'T'HH:mm:ss'Z'", CanonicalFunction.Second, 18, 2, 20)]
    [InlineData("'d'dd 'of' MMM yyyy", CanonicalFunction.Year, 12, 4, 15)]
    [InlineData("\\dddMMyyyy", CanonicalFunction.Day, 2, 2, 9)]
    [InlineData("yyyy-MM-dd HH:mm:ss.FFF", CanonicalFunction.Second, 18, 2, null)]
    [InlineData("d.M.yyyy", CanonicalFunction.Year, null, null, null)]
    [InlineData("yyyy-M-d", CanonicalFunction.Year, 1, 4, null)]
    [InlineData("yyyy-M-d", CanonicalFunction.Day, null, null, null)]
    [InlineData("dd.MM.yy", CanonicalFunction.Year, null, null, null)]
    [InlineData("dd MMM yyyy", CanonicalFunction.Month, null, null, null)]
    [InlineData("hh:mm tt", CanonicalFunction.Hour, null, null, null)]
    [InlineData("yyyy-MM-dd HH:mm zzz", CanonicalFunction.Hour, null, null, null)]
    [InlineData("yyyy-MM-ddTHH:mmK", CanonicalFunction.Year, null, null, null)]
    [InlineData("d", CanonicalFunction.Day, null, null, null)]
    [InlineData("yyyy-MM-dd", CanonicalFunction.Date, null, null, null)]
    public void A_part_has_its_place(string format, CanonicalFunction part, int? start, int? length, int? width)
    {
        var expected = start is { } first ? new TextPart(first, length!.Value, width) : null;
        Assert.Equal(expected, new FormatConversion(Text, EdmType.DateTimeOffset, format).Part(part));
    }

    [Fact] // a value that is finer than the format equals no stored one, and sorts after the one it would be cut to
    public void What_is_finer_than_the_format_is_not_cut()
    {
        var conversion = new FormatConversion(Text, EdmType.DateTimeOffset, "yyyy-MM-dd HH:mm");
        var exact = (string)conversion.Encode(new DateTime(2024, 5, 1, 7, 30, 0, DateTimeKind.Utc))!;
        var finer = (string)conversion.Encode(new DateTime(2024, 5, 1, 7, 30, 1, DateTimeKind.Utc))!;
        Assert.Equal("2024-05-01 07:30", exact);
        Assert.True(string.CompareOrdinal(exact, finer) < 0 && string.CompareOrdinal(finer, "2024-05-01 07:31") < 0);
    }

    private const string Loose = """
        CREATE TABLE t (id INTEGER PRIMARY KEY, n INTEGER, s TEXT, doc TEXT, raw BLOB, day TEXT);
        INSERT INTO t VALUES (1, 1, 'Y', '{"a": 1}', x'00112233445566778899aabbccddeeff', '2024-05-01'), (2, 7, 'maybe', '{"a": "x"}', x'00', 'soon');
        """;

    [Theory] // each way in which a declared type does not fit, with its place
    [InlineData("n: enumm", "unknown-type 7:", "'enumm'")]
    [InlineData("n: { type: date }", "no-conversion 7:", "Edm.Int64")]
    [InlineData("s: { type: duration }", "no-conversion 7:", "Edm.String")]
    [InlineData("s: boolean", "boolean-words 7:", "which stands for true")]
    [InlineData("s: { type: date, format: dd.MM }", "format 7:", "the whole date")]
    [InlineData("n: { type: duration, unit: minute }", "unit 7:", "Did you mean 'minutes'?")]
    [InlineData("s: { format: dd.MM.yyyy }", "missing 7:", "'type' is missing")]
    [InlineData("n: { stream: true }", "stream 7:", "only binary values and texts")]
    [InlineData("n: { stream: true, type: string }", "stream 7:", "no other 'type'")]
    [InlineData("n: { filtr: false }", "unknown-name 7:", "Did you mean 'filter'?")]
    [InlineData("n: { filter: maybe }", "flag 7:", "true or false")]
    [InlineData("n: { write: once }", "write 7:", "always, create or never")]
    [InlineData("m: int32", "no-column 7:", "Did you mean 'n'?")]
    [InlineData("n: 'decimal(2,5)'", "unknown-type 7:", "decimal(2,5)")]
    public async Task A_declared_type_that_does_not_fit_is_refused(string column, string start, string part)
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase(Loose)
            .WithService($"  - {{ from: t, columns: {{ {column} }} }}\n");
        await using var workspace = await folder.LoadAsync();
        var found = workspace
            .Diagnostics.Items.Select(d => $"{d.Code} {d.Location.Line}:{d.Location.Column} {d.Message} {d.Advice}")
            .ToList();
        Assert.Contains(found, f => f.StartsWith(start, StringComparison.Ordinal) && f.Contains(part));
    }

    [Theory] // checked against the data, over all rows
    [InlineData("n: boolean", "n: ", "'7' does not fit 1 and 0")]
    [InlineData("s: { type: boolean, \"true\": Y, \"false\": N }", "s: ", "'maybe'")]
    [InlineData("doc: Doc", "doc: ", "a: \"x\" is no Edm.Int32")]
    [InlineData("raw: guid", "raw: ", "1 bytes")]
    [InlineData("day: date", "day: ", "it is not a date")]
    [InlineData("s: collection(string)", "s: ", "it is not JSON")]
    public async Task Check_reads_every_value_through_its_conversion(string column, string start, string part)
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase(Loose)
            .Write(
                "services/s.yaml",
                $"title: S\nsource: main\nrules: {{ read: anyone }}\ntypes: {{ Doc: {{ properties: {{ a: int32 }} }} "
                    + $"}}\nsets:\n  - {{ from: t, columns: {{ {column} }} }}\n"
            );
        await using var workspace = await folder.LoadAsync();
        Assert.Empty(workspace.Diagnostics.Items);
        var fault = Assert.Single(await DataProof.ProveAsync(workspace, _ => { }, CancellationToken.None), f => f.Fault is not null);
        Assert.Contains(fault.Examples, e => e.StartsWith(start, StringComparison.Ordinal) && e.Contains(part));
    }

    [Theory]
    [InlineData("types: { A: { members: [x, x] } }", "member-twice")]
    [InlineData("types: { A: { members: { x: 1, y: 1 } } }", "member-twice")]
    [InlineData("types: { A: { members: [x-y] } }", "identifier")]
    [InlineData("types: { A: { members: [x], open: true } }", "type-kind")]
    [InlineData("types: { A: { description: nothing } }", "type-kind")]
    [InlineData("types: { A: { properties: { b: B } }, B: { properties: { a: A } } }", "type-cycle")]
    [InlineData("types: { A: { properties: { b: Nowhere } } }", "unknown-type")]
    [InlineData("types: { A: 5 }", "unknown-type")]
    public async Task A_type_that_makes_no_sense_is_refused(string types, string code)
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase(Loose)
            .Write("services/s.yaml", $"title: S\nsource: main\n{types}\nsets: [t]\n");
        await using var workspace = await folder.LoadAsync();
        Assert.Contains(workspace.Diagnostics.Items, d => d.Code == code);
    }

    [Theory] // groups, columns and orders that cannot be
    [InlineData("group: { g: [id, n] }", "group-key")]
    [InlineData("group: { g: [n, nothing] }", "no-column")]
    [InlineData("group: { g: [n], h: [n] }", "group-column")]
    [InlineData("group: { g: { type: X } }", "missing")]
    [InlineData("group: { s: [n] }", "name-collision")]
    [InlineData("show: [id], hide: [n]", "show-and-hide")]
    [InlineData("show: [n]", "key-hidden")]
    [InlineData("order: [nn]", "no-column")]
    [InlineData("order: [raw]", "order")]
    [InlineData("hide: [n], order: [n]", "order")]
    [InlineData("key: [id], keyless: true", "keyless-key")]
    [InlineData("rename: { n: a }, columns: { n: { name: b } }", "renamed-twice")]
    public async Task A_set_that_makes_no_sense_is_refused(string settings, string code)
    {
        using var folder = new TestWorkspace().WithSource().WithDatabase(Loose).WithService($"  - {{ from: t, {settings} }}\n");
        await using var workspace = await folder.LoadAsync();
        Assert.Contains(workspace.Diagnostics.Items, d => d.Code == code && d.Location.Line == 7);
    }

    [Theory]
    [InlineData("select: 'SELECT id, :x AS y FROM t', key: id", "parameters")]
    [InlineData("select: 'SELECT id, id FROM t', key: id", "two of its columns")]
    [InlineData("select: 'DELETE FROM t', key: id", "syntax error")]
    [InlineData("select: 'SELECT id FROM nowhere', key: id", "no such table")]
    public async Task A_select_that_cannot_be_published_is_refused(string settings, string part)
    {
        using var folder = new TestWorkspace().WithSource().WithDatabase(Loose).WithService($"  - {{ name: X, {settings} }}\n");
        await using var workspace = await folder.LoadAsync();
        Assert.Contains(part, Assert.Single(workspace.Diagnostics.Items, d => d.Code == "select").Message);
    }

    [Fact]
    public async Task Two_sets_share_a_complex_type_only_if_it_is_the_same()
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase(
                "CREATE TABLE a (id INTEGER PRIMARY KEY, x REAL NOT NULL, y REAL); CREATE TABLE b (id INTEGER PRIMARY KEY, x "
                    + "REAL NOT NULL, y REAL); CREATE TABLE c (id INTEGER PRIMARY KEY, x TEXT, y REAL)"
            )
            .WithService(
                "  - { from: a, group: { place: { type: Place, columns: [x, y] } } }\n  - { from: b, group: { place: { type: "
                    + "Place, columns: [x, y] } } }\n  - { from: c, group: { place: { type: Place, columns: [x, y] } } }\n"
            );
        await using var workspace = await folder.LoadAsync();
        Assert.Equal("type-differs", Assert.Single(workspace.Diagnostics.Items).Code);
        var model = workspace.Services[0].Model;
        Assert.Same(
            model.FindSet("a")!.Type.FindProperty("place")!.Type.Complex,
            model.FindSet("b")!.Type.FindProperty("place")!.Type.Complex
        );
    }

    [Fact] // letters of either case
    [Proves("T-19")]
    public async Task Uuids_of_mixed_case_are_found()
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithDatabase(
                "CREATE TABLE t (id UUID PRIMARY KEY NOT NULL); INSERT INTO t VALUES ('21EC2020-3AEA-1069-A2DD-08002B30309D'), "
                    + "('21ec2020-3aea-1069-a2dd-08002b30309e')"
            )
            .WithService("  - t\n");
        await using var workspace = await folder.LoadAsync();
        var service = new PublishedService(workspace.Services[0].Model, workspace.Sources, "r");
        foreach (var id in new[] { "21ec2020-3aea-1069-a2dd-08002b30309d", "21ec2020-3aea-1069-a2dd-08002b30309e" })
        {
            var lexed = NetworkFixture.Lex($"t({id})").Value!;
            var prepared = service.Prepare(lexed, Access.Caller.Anonymous).Value!;
            await using var run = (
                await QueryRun.StartAsync(
                    prepared,
                    QueryValues.Make(prepared.Request, lexed, null, DateTime.UnixEpoch).Value!,
                    CancellationToken.None
                )
            ).Value!;
            Assert.True(run.HasRow);
        }
    }
}
