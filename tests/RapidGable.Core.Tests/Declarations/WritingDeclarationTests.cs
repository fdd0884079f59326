using RapidGable.Declarations;

namespace RapidGable.Core.Tests;

/// <summary>What is declared of written values and cannot be kept, each with its place and with what to write instead.</summary>
public class WritingDeclarationTests
{
    private const string Tables = """
        CREATE TABLE station (id INTEGER PRIMARY KEY, code TEXT NOT NULL UNIQUE, name TEXT);
        CREATE TABLE visit (id INTEGER PRIMARY KEY, number TEXT, planned DATE, done TIMESTAMP, minutes INTEGER, cost DECIMAL(8,2), purpose TEXT, photo BLOB, station_id INTEGER REFERENCES station (id));
        CREATE TABLE note (id INTEGER PRIMARY KEY, what TEXT, at TIMESTAMP, size INTEGER);
        CREATE TABLE answers (id INTEGER PRIMARY KEY, answer TEXT);
        """;

    private static async Task<List<Diagnostic>> FaultsAsync(string sets, string source = "")
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .Write("sources/main.yaml", $"engine: sqlite\nfile: data.db\nread-only: false\n{source}")
            .WithDatabase(Tables)
            .WithService($"  - {{ from: station, name: Stations }}\n{sets}");
        await using var workspace = await folder.LoadAsync();
        return [.. workspace.Diagnostics.Items];
    }

    [Theory]
    [InlineData("minutes: { generate: uuid }", "generate 11:28", "'minutes' is Edm.Int64, and a uuid is made for a uuid or a text.")]
    [InlineData(
        "minutes: { generate: now }",
        "generate 11:28",
        "'minutes' is Edm.Int64, and the time is made for a point in time, a date or a time of day."
    )]
    [InlineData(
        "purpose: { generate: number }",
        "generate 11:28",
        "'purpose' is Edm.String, and 'number' makes whole numbers; for a text write a prefix, as in VIS-{00000}."
    )]
    [InlineData("minutes: { generate: \"VIS-{000}\" }", "generate 11:28", "'minutes' is Edm.Int64, and numbers with a prefix are texts.")]
    [InlineData("number: { generate: tomorrow }", "generate 11:27", "'tomorrow' cannot be generated for Edm.String.")]
    [InlineData(
        "number: { generate: \"= station/nam\" }",
        "generate 11:27",
        "The expression cannot be computed: 'station' has no property 'nam'. Did you mean 'name'?"
    )]
    [InlineData(
        "number: { generate: \"= \" }",
        "generate 11:27",
        "The expression cannot be computed: At position 0 of the expression: expected a property, a value or '(', but it ends there."
    )]
    [InlineData(
        "minutes: { generate: \"= station/name\" }",
        "generate 11:28",
        "The expression gives Edm.String, and Edm.Int64 is what the column holds."
    )]
    [InlineData(
        "number: { generate: uuid, default: now }",
        "generate 11:42",
        "'generate', 'regenerate' and 'default' exclude each other: each says where the value comes from."
    )]
    [InlineData(
        "photo: { stream: true, generate: uuid }",
        "generate 11:40",
        "'photo' is Edm.Stream, and only single plain values are made."
    )]
    [InlineData("minutes: { default: many }", "generate 11:27", "'many' cannot be generated for Edm.Int64.")]
    [InlineData("minutes: { minimum: ten }", "value-rule 11:27", "'ten' is not a value of Edm.Int64.")]
    [InlineData("purpose: { minimum: 1 }", "value-rule 11:27", "'purpose' is Edm.String, which has no minimum and no maximum.")]
    [InlineData("minutes: { minimum: 10, maximum: 5 }", "value-rule 11:27", "'minimum' (10) is more than 'maximum' (5).")]
    [InlineData("planned: { maximum: 2024-13-01 }", "value-rule 11:27", "'2024-13-01' is not a value of Edm.Date.")]
    [InlineData("minutes: { min-length: 2 }", "value-rule 11:7", "'minutes' is Edm.Int64, and only texts have a length.")]
    [InlineData("purpose: { min-length: 5, max-length: 2 }", "value-rule 11:18", "'min-length' (5) is more than 'max-length' (2).")]
    [InlineData("purpose: { max-length: 0 }", "number 11:30", "'max-length' must be a whole number from 1 to 2147483647, not '0'.")]
    [InlineData(
        "purpose: { pattern: \"(\" }",
        "value-rule 11:27",
        "'(' is not a regular expression: Invalid pattern '(' at offset 1. Not enough )'s."
    )]
    [InlineData("minutes: { pattern: \"[0-9]\" }", "value-rule 11:27", "'minutes' is Edm.Int64, and only texts match a pattern.")]
    [InlineData("minutes: { values: [15, long] }", "value-rule 11:31", "'long' is not a value of Edm.Int64.")]
    [InlineData(
        "photo: { stream: true, values: [x] }",
        "value-rule 11:39",
        "'photo' is Edm.Stream, and rules are about single plain values."
    )]
    [InlineData("purpose: { exists: Stations }", "value-rule 11:26", "'Stations' is not a set and its property, such as Stations/code.")]
    [InlineData("purpose: { exists: Station/code }", "value-rule 11:26", "There is no set 'Station'. Did you mean 'Stations'?")]
    [InlineData("purpose: { exists: Stations/cod }", "value-rule 11:26", "'Stations' has no property 'cod'. Did you mean 'code'?")]
    [InlineData("minutes: { exists: Stations/code }", "value-rule 11:26", "'Stations/code' is Edm.String, and 'minutes' is Edm.Int64.")]
    [InlineData("purpose: { message: Say why. }", "value-rule 11:27", "'purpose' has a 'message' and no rule that it is about.")]
    [InlineData("purpose: { write: sometimes }", "write 11:25", "'sometimes' does not say when a property may be written.")]
    public async Task A_column_that_cannot_be_so_is_told(string column, string place, string message) =>
        Tells(await FaultsAsync($"  - from: visit\n    name: Visits\n    columns:\n      {column}\n"), place, message);

    [Theory]
    [InlineData(1.0, null, double.NaN, false)]
    [InlineData(null, 5.0, double.NaN, false)]
    [InlineData(null, null, double.NaN, true)]
    [InlineData(1.0, null, double.PositiveInfinity, true)]
    [InlineData(1.0, 5.0, double.PositiveInfinity, false)]
    [InlineData(1.0, 5.0, 5.0, true)]
    public void What_is_no_number_is_within_no_bounds(double? least, double? most, double value, bool isKept) =>
        Assert.Equal(isKept, new Model.ValueRules { Minimum = least, Maximum = most }.Fault(value) is null);

    [Theory]
    [InlineData("valid: x", "shape 10:12", "'valid' must be a list of rules.")]
    [InlineData("valid: [x]", "shape 10:13", "each rule under 'valid' holds names with values, such as 'where' and 'message'.")]
    [InlineData(
        "valid: [{ message: m }]",
        "value-rule 10:13",
        "A rule under 'valid' says with 'where' what a row fulfils, or with 'unique' which columns no two rows share."
    )]
    [InlineData(
        "valid: [{ where: cost gt 1, unique: [number] }]",
        "value-rule 10:13",
        "A rule under 'valid' says with 'where' what a row fulfils, or with 'unique' which columns no two rows share."
    )]
    [InlineData(
        "valid: [{ where: cst gt 1 }]",
        "value-rule 10:22",
        "The rule cannot be kept: 'visit' has no property 'cst'. Did you mean 'cost'?"
    )]
    [InlineData(
        "valid: [{ where: cost }]",
        "value-rule 10:22",
        "The rule cannot be kept: the condition must be true or false, and this is 'cost' (Edm.Decimal)."
    )]
    [InlineData(
        "valid: [{ where: cost gt }]",
        "value-rule 10:22",
        "The rule cannot be kept: At position 7 of the condition: expected a property, a value or '(', but it ends there."
    )]
    [InlineData(
        "valid: [{ where: cost gt 1, on: delete }]",
        "value-rule 10:37",
        "A rule about what is written is about create or update, not 'delete'."
    )]
    [InlineData(
        "valid: [{ where: cost gt 1, on: updte }]",
        "value-rule 10:37",
        "A rule about what is written is about create or update, not 'updte'. Did you mean 'update'?"
    )]
    [InlineData("valid: [{ where: cost gt 1, who: [anyone, boss] }]", "rule 10:39", "'anyone' stands alone, not in a list of roles.")]
    [InlineData("valid: [{ where: cost gt 1, column: cst }]", "no-column 10:41", "'visit' has no column 'cst'. Did you mean 'cost'?")]
    [InlineData("valid: [{ unique: [numbr] }]", "no-column 10:24", "'visit' has no column 'numbr'. Did you mean 'number'?")]
    [InlineData("valid: [{ where: cost gt 1, when: create }]", "unknown-name 10:33", "'when' is not known in a rule under 'valid'.")]
    [InlineData("log: note", "shape 10:10", "'log' must hold names with values.")]
    [InlineData("log: { columns: { who: what } }", "missing 10:10", "'to' is missing: the table that takes a row for each change.")]
    [InlineData("log: { to: note }", "log 10:10", "'columns' is missing: what each column of the table takes.")]
    [InlineData("log: { to: nota, columns: { who: what } }", "no-object 10:16", "The source has no table 'nota'. Did you mean 'note'?")]
    [InlineData("log: { to: note, columns: { who: wat } }", "no-column 10:38", "'note' has no column 'wat'. Did you mean 'what'?")]
    [InlineData("log: { to: note, columns: { whom: what } }", "log 10:33", "'whom' cannot be logged. Did you mean 'who'?")]
    [InlineData(
        "log: { to: note, columns: { when: size } }",
        "log 10:39",
        "The column 'size' is Edm.Int64, and 'when' is noted as a point in time or a text."
    )]
    [InlineData(
        "log: { to: note, columns: { before: at } }",
        "log 10:41",
        "The column 'at' is Edm.DateTimeOffset, and 'before' is noted as a text."
    )]
    [InlineData(
        "compute: { label: concat(number, }",
        "compute 10:23",
        "'label' cannot be computed: At position 13 of the expression: expected ',' or ')' in the call of concat, but it ends there."
    )]
    [InlineData("compute: { 1st: number }", "identifier 10:16", "'1st' cannot be a public name.")]
    [InlineData("compute: { number: purpose }", "name-collision 10:16", "'Visits' has another property or column called 'number'.")]
    [InlineData(
        "compute: { label: station }",
        "compute 10:23",
        "'label' cannot be computed: A related entity is not a value; name one of its properties."
    )]
    [InlineData(
        "compute: { label: purpose eq @region }",
        "compute 10:23",
        "'label' is not a single plain value that is the same for everybody."
    )]
    [InlineData("compute: label", "shape 10:14", "'compute' must hold names with values.")]
    public async Task Rules_notes_and_computed_properties_that_cannot_be_are_told(string declared, string place, string message) =>
        Tells(await FaultsAsync($"  - from: visit\n    name: Visits\n    {declared}\n"), place, message);

    [Theory]
    [InlineData("answrs", "The source 'main' has no table 'answrs'. Did you mean 'answers'?")]
    [InlineData("answers", "The table 'answers' needs a text 'id' as its key and a text 'answer'.")]
    public async Task A_table_that_keeps_no_answers_is_told_with_the_one_that_does(string table, string message)
    {
        var found = await FaultsAsync("", $"repeats: {table}\n");
        Tells(found, "repeats 4:10", message);
        Assert.Contains("CREATE TABLE gable_repeats", found[0].Advice);
    }

    [Fact]
    public async Task What_can_be_is_taken_as_it_stands()
    {
        Assert.Empty(
            await FaultsAsync(
                """
                  - from: visit
                    name: Visits
                    columns:
                      number: { generate: "VIS-{00000}" }
                      planned: { default: now, minimum: 2000-01-01, maximum: 2100-12-31 }
                      done: { regenerate: now }
                      minutes: { default: 15, minimum: 1, maximum: 600 }
                      purpose: { required: true, min-length: 3, max-length: 200, pattern: "[A-Z].*", message: Begin with a capital. }
                      station_id: { exists: Stations/id }
                    valid:
                      - { where: done eq null or date(done) ge planned, column: done, message: Later. }
                      - { unique: [station_id, planned], on: create, who: technician }
                    log: { to: note, columns: { after: what, when: at } }
                    compute: { label: "concat(number,concat(' ',station/name))" }
                """
            )
        );
    }

    private static void Tells(List<Diagnostic> found, string place, string message) =>
        Assert.Contains((place, message), found.Select(d => ($"{d.Code} {d.Location.Line}:{d.Location.Column}", d.Message)));
}
