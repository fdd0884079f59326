using RapidGable.Access;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Sources;

namespace RapidGable.Core.Tests;

/// <summary>On SQLite.</summary>
public sealed class SqliteFilterSemanticsTests : RicherSemanticsTests
{
    internal override Task PrepareAsync(TestWorkspace folder)
    {
        folder
            .WithSource()
            .WithDatabase(
                "CREATE TABLE item (id INTEGER PRIMARY KEY, s TEXT, n INTEGER, d DECIMAL(6,2), r REAL, b BOOLEAN, day DATE, at "
                    + "TIMESTAMP, loose TIMESTAMP, clock TIME, u UUID, span INTERVAL SECOND, other_id INTEGER REFERENCES item (id)); "
                    + Rows("1", "0", "900", "60", "3600", "0")
            );
        return Task.CompletedTask;
    }
}

/// <summary>On PostgreSQL.</summary>
public sealed class PostgresFilterSemanticsTests(PostgresServer server) : RicherSemanticsTests, IClassFixture<PostgresServer>
{
    internal override async Task PrepareAsync(TestWorkspace folder)
    {
        var database = await server.CreateDatabaseAsync();
        await server.ExecuteAsync(
            database,
            "CREATE TABLE item (id BIGINT PRIMARY KEY, s TEXT, n BIGINT, d DECIMAL(6,2), r DOUBLE PRECISION, b BOOLEAN, day "
                + "DATE, at TIMESTAMPTZ(3), loose TIMESTAMP(0), clock TIME, u UUID, span INTERVAL, other_id BIGINT); "
                + Rows("true", "false", "'PT15M'", "'PT1M'", "'PT1H'", "'PT0S'")
                + "; ALTER TABLE item ADD FOREIGN KEY (other_id) REFERENCES item (id) NOT VALID"
        );
        folder.Write("workspace.yaml", "title: T\n").Write("sources/main.yaml", server.SourceFile(database));
    }
}

/// <summary>On MariaDB.</summary>
public sealed class MariaDbFilterSemanticsTests(MariaDbServer server) : FilterSemanticsTests, IClassFixture<MariaDbServer>
{
    internal override async Task PrepareAsync(TestWorkspace folder)
    {
        var database = await server.CreateDatabaseAsync();
        await server.ExecuteAsync(
            database,
            "SET time_zone = '+00:00', foreign_key_checks = 0; CREATE TABLE item (id BIGINT PRIMARY KEY, s TEXT, n BIGINT, d "
                + "DECIMAL(6,2), r DOUBLE, b BOOLEAN, day DATE, at DATETIME(3), loose DATETIME, clock TIME(1), u UUID, span "
                + "TIME, other_id BIGINT, FOREIGN KEY (other_id) REFERENCES item (id)); "
                + Rows("1", "0", "'00:15:00'", "'00:01:00'", "'01:00:00'", "'00:00:00'").Replace("Z'", "'")
        );
        folder.Write("workspace.yaml", "title: T\n").Write("sources/main.yaml", server.SourceFile(database));
    }
}

/// <summary>
/// Engines that have a type for the time of day and infinite numbers; elsewhere such a column holds a duration, and the division fails.
/// </summary>
public abstract class RicherSemanticsTests : FilterSemanticsTests
{
    [Theory]
    [InlineData("clock eq 07:30:00", "1")]
    [InlineData("clock gt 07:30", "2,4")]
    [InlineData("hour(clock) eq 7", "1,2")]
    [InlineData("r div 0 gt 1", "1,5")]
    [InlineData("r div 0 lt 1", "2")]
    [InlineData("r div 0 eq INF", "1,5")]
    [InlineData("r divby (n sub n) eq -INF", "2")]
    [Proves("Q-32, Q-39")]
    public async Task What_this_engine_has_compares(string filter, string expected) =>
        Assert.Equal(expected, await IdsAsync("item?$filter=" + filter));
}

/// <summary>What filters and orders mean, shown on rows of a real database; every engine must give the same answers.</summary>
public abstract class FilterSemanticsTests : IAsyncLifetime
{
    private readonly TestWorkspace _folder = new();
    private Building.LoadedWorkspace _workspace = null!;
    private PublishedService _service = null!;

    internal abstract Task PrepareAsync(TestWorkspace folder);

    /// <summary>The rows, with the engine's way to write what differs.</summary>
    protected static string Rows(string yes, string no, string quarter, string minute, string hour, string nothing) =>
        $"""
            INSERT INTO item VALUES
              (1, 'Milk',   1, 0.1,  1.5,  {yes}, '2024-02-29', '2024-02-29T23:59:59.250Z', '2024-02-29 23:59:59', '07:30', '21ec2020-3aea-1069-a2dd-08002b30309d', {quarter}, 2),
              (2, 'Tea 50%_', 2, 0.2,  -1.5, {no}, '2023-12-31', '2024-01-01T00:00:00.000Z', '2024-01-01 00:00:00', '07:30:00.5', 'aaec2020-3aea-1069-a2dd-08002b30309d', {minute}, 3),
              (3, NULL,     NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL),
              (4, '  Ärger ', -7, 0.3,  0.0, {yes}, '2024-05-01', '2024-05-01T12:00:00.500Z', '2024-05-01 12:00:00', '23:59:59', NULL, {hour}, 99),
              (5, '',       7, 10.5, 2.5,  {no}, '2024-05-01', '2024-05-01T12:00:00.499Z', '2024-05-01 12:00:00', '00:00', NULL, {nothing}, NULL)
            """;

    public async Task InitializeAsync()
    {
        await PrepareAsync(_folder);
        _folder.WithService("  - item\n");
        _workspace = await _folder.LoadAsync();
        Assert.Empty(_workspace.Diagnostics.Items);
        _service = new PublishedService(_workspace.Services[0].Model, _workspace.Sources, "r");
    }

    public async Task DisposeAsync()
    {
        await _workspace.DisposeAsync();
        _folder.Dispose();
    }

    private protected async Task<string> IdsAsync(string url)
    {
        var lexed = NetworkFixture.Lex(url).Value!;
        var prepared = _service.Prepare(lexed, Caller.Anonymous);
        Assert.True(prepared.Fault is null, prepared.Fault?.Message);
        var values = QueryValues.Make(prepared.Value!.Request, lexed, null, new DateTime(2024, 5, 1, 12, 0, 0, DateTimeKind.Utc)).Value!;
        await using var run = (await QueryRun.StartAsync(prepared.Value, values, CancellationToken.None)).Value!;
        var ids = new List<long>();
        for (var more = run.HasRow; more; more = await run.Rows.ReadAsync(CancellationToken.None))
            ids.Add(run.Rows.GetInt64(0));
        return string.Join(',', ids);
    }

    [Theory]
    [InlineData("s eq 'Milk'", "1")]
    [InlineData("s ne 'Milk'", "2,3,4,5")]
    [InlineData("s eq null", "3")]
    [InlineData("s ne null", "1,2,4,5")]
    [InlineData("n gt 1", "2,5")]
    [InlineData("not (n gt 1)", "1,3,4")]
    [InlineData("n ge null", "3")]
    [InlineData("n gt null", "")]
    [InlineData("not (n lt null)", "1,2,3,4,5")]
    [InlineData("n eq n", "1,2,3,4,5")]
    [InlineData("n ge n", "1,2,3,4,5")]
    [InlineData("null eq null", "1,2,3,4,5")]
    [InlineData("contains(s,'l')", "1")] // case counts
    [InlineData("contains(s,'')", "1,2,4,5")]
    [InlineData("not contains(s,'l')", "2,4,5")]
    [InlineData("contains(s,'50%25_')", "2")]
    [InlineData("contains(s,'5_%25')", "")]
    [InlineData("startswith(s,'Te')", "2")]
    [InlineData("startswith(s,'te')", "")]
    [InlineData("endswith(s,'%25_')", "2")]
    [InlineData("endswith(s,'')", "1,2,4,5")]
    [InlineData("indexof(s,'ilk') eq 1", "1")]
    [InlineData("indexof(s,'zzz') eq -1", "1,2,4,5")]
    [InlineData("length(s) eq 8", "2,4")] // characters, not bytes
    [InlineData("tolower(s) eq '  ärger '", "4")]
    [InlineData("toupper(trim(s)) eq 'ÄRGER'", "4")]
    [InlineData("concat(concat(s,'-'),'x') eq 'Milk-x'", "1")]
    [InlineData("concat(s,null) eq null", "1,2,3,4,5")]
    [InlineData("b", "1,4")]
    [InlineData("not b", "2,5")]
    [InlineData("b eq false", "2,5")]
    [InlineData("(n gt 1) eq true", "2,5")]
    [InlineData("(n gt 1) eq false", "1,3,4")]
    [InlineData("b or n eq 2", "1,2,4")]
    [InlineData("b and n eq 1", "1")]
    [InlineData("n in (1,7)", "1,5")]
    [InlineData("n in (1,null)", "1,3")]
    [InlineData("not (n in (1,7))", "2,3,4")]
    [InlineData("n in ()", "")]
    [InlineData("d eq 0.1", "1")]
    [InlineData("d add 0.2 eq 0.3", "1")] // decimals as decimals
    [InlineData("d mul 3 eq 0.3", "1")]
    [InlineData("d gt 0.25 and d lt 11", "4,5")]
    [InlineData("n div 2 eq -3", "4")]
    [InlineData("n div 2 eq 3", "5")]
    [InlineData("n divby 2 eq 3.5", "5")]
    [InlineData("n mod 4 eq -3", "4")]
    [InlineData("n mod 4 eq 3", "5")]
    [InlineData("-n eq 7", "4")]
    [InlineData("n sub 1 eq 6", "5")]
    [InlineData("n add null eq null", "1,2,3,4,5")]
    [InlineData("round(r) eq 2", "1")]
    [InlineData("round(r) eq 3", "5")]
    [InlineData("round(r) eq -2", "2")]
    [InlineData("floor(r) eq -2", "2")]
    [InlineData("ceiling(r) eq 2", "1")]
    [InlineData("year(day) eq 2024", "1,4,5")]
    [InlineData("month(day) eq 2 and day(day) eq 29", "1")]
    [InlineData("hour(at) eq 23 and minute(at) eq 59 and second(at) eq 59", "1")]
    [InlineData("fractionalseconds(at) eq 0.25", "1")]
    [InlineData("date(at) eq 2024-05-01", "4,5")]
    [InlineData("time(at) eq 12:00:00.5", "4")]
    [InlineData("at ge 2024-05-01T12:00:00.5Z", "4")]
    [InlineData("at eq 2024-05-01T14:00:00.500%2B02:00", "4")]
    [InlineData("at gt 2024-05-01T12:00:00.4991Z", "4")]
    [InlineData("at ge 2024-05-01T12:00:00.4991Z", "4")]
    [InlineData("at lt 2024-01-01T00:00:00.0001Z", "2")]
    [InlineData("at eq 2024-05-01T12:00:00.4990000Z", "5")]
    [InlineData("loose lt 2024-02-29T23:59:59Z", "2")]
    [InlineData("loose lt at", "1,4,5")] // two forms of text, compared as times
    [InlineData("at lt now()", "1,2")]
    [InlineData("u eq 21EC2020-3AEA-1069-A2DD-08002B30309D", "1")]
    [InlineData("span gt duration'PT1M'", "1,4")]
    [InlineData("span gt 'PT1M'", "1,4")]
    [InlineData("other/n eq 2", "1")]
    [InlineData("other/n eq null", "2,3,4,5")]
    [InlineData("other eq null", "3,4,5")] // ; a row that refers to nothing has no related entity
    [InlineData("other/other/id eq 3", "1")]
    [InlineData("not (other/n gt 1)", "2,3,4,5")]
    [InlineData("substring(s,1) eq 'ilk'", "1")]
    [InlineData("substring(s,1,2) eq 'il'", "1")]
    [InlineData("substring(s,-2) eq 'lk'", "1")]
    [InlineData("substring(s,-99,1) eq 'M'", "1")]
    [InlineData("substring(s,99) eq ''", "1,2,4,5")]
    [InlineData("substring(s,0,0) eq ''", "1,2,4,5")]
    [InlineData("substring(s,0,-1) eq ''", "1,2,4,5")]
    [InlineData("substring(s,2,1) eq 'Ä'", "4")]
    [InlineData("substring(s,n) eq 'ilk'", "1")]
    [InlineData("substring(s,null) eq null", "1,2,3,4,5")]
    [InlineData("matchesPattern(s,'^M.*k$')", "1")]
    [InlineData("matchespattern(s,'m')", "")]
    [InlineData("matchesPattern(s,'[0-9]{2}%25')", "2")]
    [InlineData("not matchesPattern(s,'i')", "2,4,5")]
    [InlineData("totalseconds(span) eq 900", "1")]
    [InlineData("totaloffsetminutes(at) eq 0", "1,2,4,5")]
    [InlineData("at gt mindatetime() and at lt maxdatetime()", "1,2,4,5")]
    [InlineData("cast(n,Edm.String) eq '-7'", "4")]
    [InlineData("cast(b,Edm.String) eq 'true'", "1,4")]
    [InlineData("cast(u,Edm.String) eq '21ec2020-3aea-1069-a2dd-08002b30309d'", "1")]
    [InlineData("cast(day,Edm.String) eq '2024-02-29'", "1")]
    [InlineData("cast(r,Edm.Int32) eq 2", "1")]
    [InlineData("cast(r mul 10000000000,Edm.Int32) eq null", "1,2,3,5")]
    [InlineData("cast(n,Edm.Byte) eq null", "3,4")]
    [InlineData("cast(n,Edm.Double) div 2 eq 3.5", "5")]
    [InlineData("cast(n,Edm.Decimal) div 2 eq 3.5", "5")]
    [InlineData("cast(day,Edm.DateTimeOffset) eq 2024-05-01T00:00:00Z", "4,5")]
    [InlineData("cast(at,Edm.Date) eq 2024-05-01", "4,5")]
    [InlineData("cast(null,Edm.String) eq null", "1,2,3,4,5")]
    [InlineData("isof(s,Edm.String)", "1,2,4,5")]
    [InlineData("isof(s,Edm.PrimitiveType)", "1,2,4,5")]
    [InlineData("isof(n,Edm.String)", "")]
    [InlineData("case(n gt 1:'big',n lt 0:'small',true:'other') eq 'other'", "1,3")]
    [InlineData("case(n gt 1:'big',n lt 0:'small') eq null", "1,3")]
    [InlineData("case(b:n,true:0.5) eq 0.5", "2,3,5")]
    [InlineData("at add duration'PT0.25S' eq 2024-03-01T00:00:00.000Z sub duration'PT0.5S'", "1")]
    [InlineData("at add duration'P100D' gt 2024-08-09T00:00:00Z", "4,5")]
    [InlineData("at sub duration'P1D' lt 2023-12-31T00:00:00.001Z", "2")]
    [InlineData("at sub 2024-05-01T12:00:00Z gt duration'PT0.4995S'", "4")]
    [InlineData("2024-05-01T12:00:00Z sub at gt duration'P100D'", "2")]
    [InlineData("day add duration'P1D' eq 2024-03-01", "1")]
    [InlineData("day sub duration'PT1H' eq 2024-02-28", "1")]
    [InlineData("day sub 2023-12-31 eq duration'P60D'", "1")]
    [InlineData("span add duration'PT1M' eq duration'PT16M'", "1")]
    [InlineData("span mul 4 eq duration'PT1H'", "1")]
    [InlineData("2 mul span eq duration'PT2H'", "4")]
    [InlineData("span div 2 eq duration'PT30M'", "4")]
    [InlineData("-span eq duration'-PT1H'", "4")]
    [InlineData("span gt -duration'PT1M' and span lt duration'PT1M'", "5")]
    [InlineData("n eq @p&@p=2", "2")]
    [InlineData("n eq @p", "3")]
    [InlineData("n gt @p&@p=@q add 1&@q=0", "2,5")]
    [InlineData("n in @l&@l=[1,7]", "1,5")]
    [InlineData("n in @l&@l=[null]", "3")]
    [InlineData("s in @l&@l=[\"Milk\",\"x\"]", "1")]
    [InlineData("u in @l&@l=[\"21ec2020-3aea-1069-a2dd-08002b30309d\"]", "1")]
    [InlineData("day in @l&@l=[\"2024-02-29\"]", "1")]
    [InlineData("$root/item(2)/n eq n", "2")]
    [InlineData("n lt $root/item(@k)/n&@k=1", "4")]
    [InlineData("$this/n eq 2 and $it/n eq 2", "2")]
    [Proves(
        "Q-11, Q-26 to Q-31, Q-34, Q-37, Q-38, Q-40 to Q-44, Q-47, Q-49 to Q-52, Q-54, Q-59, Q-60, Q-64, Q-68, Q-69, T-60, " + "X-03, X-11"
    )]
    public async Task A_filter_means_what_the_standard_says(string filter, string expected) =>
        Assert.Equal(expected, await IdsAsync("item?$filter=" + filter));

    [Theory]
    [InlineData("$orderby=n", "3,4,1,2,5")]
    [InlineData("$orderby=n desc", "5,2,1,4,3")]
    [InlineData("$orderby=day,n desc", "3,2,1,5,4")]
    [InlineData("$orderby=length(s) desc,id", "2,4,1,5,3")]
    [InlineData("$orderby=other/n desc", "1,2,3,4,5")]
    [InlineData("$orderby=b", "3,2,5,1,4")]
    [InlineData("$orderby=n&$skip=1&$top=2", "4,1")]
    [InlineData("$skip=99", "")]
    [InlineData("$top=0", "")]
    [InlineData("$compute=n mul 2 as twice&$filter=twice gt 2&$orderby=twice desc", "5,2")]
    [InlineData("$compute=n mul 2 as twice,twice add 1 as more&$filter=more eq 3", "1")]
    [InlineData("$search=milk", "1")]
    [InlineData("$search=MILK OR tea", "1,2")]
    [InlineData("$search=NOT milk", "2,3,4,5")]
    [InlineData("$search=\"tea 50%25_\"", "2")]
    [InlineData("$search=(tea OR milk) NOT tea", "1")]
    [InlineData("$search=ärger&$filter=n lt 0", "4")]
    [InlineData("$search=or", "")]
    [Proves("Q-31, Q-72 to Q-75, Q-78, Q-79, Q-94")]
    public async Task An_order_puts_nulls_first(string options, string expected) =>
        Assert.Equal(expected, await IdsAsync("item?" + options));

    [Theory]
    [InlineData("n div 0 eq 1")]
    [InlineData("n mod 0 eq 1")]
    [InlineData("d divby 0 eq 1")]
    [InlineData("1 div (n sub n) eq 1")]
    [InlineData("span div 0 eq duration'PT1S'")]
    [Proves("Q-39")]
    public async Task Dividing_by_zero_fails(string filter)
    {
        var exception = await Assert.ThrowsAsync<SourceException>(() => IdsAsync("item?$filter=" + filter));
        Assert.Equal(SourceFaultKind.DivisionByZero, exception.Kind);
    }

    [Theory]
    [InlineData("$top=-1", "number")]
    [InlineData("$skip=-1", "number")]
    [InlineData("$filter=span eq 'soon'", "type")]
    [InlineData("$filter=day in @l&@l=[\"soon\"]", "type")]
    [InlineData("$filter=matchesPattern(s,'(')", "pattern")]
    public async Task A_wrong_value_is_refused_though_its_shape_is_known(string options, string code)
    {
        var lexed = NetworkFixture.Lex("item?" + options).Value!;
        var prepared = _service.Prepare(lexed, Caller.Anonymous).Value!;
        var made = QueryValues.Make(prepared.Request, lexed, null, DateTime.UnixEpoch);
        var fault = made.Fault ?? (await QueryRun.StartAsync(prepared, made.Value!, CancellationToken.None)).Fault;
        Assert.Equal((400, code), (fault?.Status, fault?.Code));
    }
}
