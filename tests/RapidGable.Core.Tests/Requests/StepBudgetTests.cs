using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Publishing;
using RapidGable.Requests.Rest;

namespace RapidGable.Core.Tests;

/// <summary>A request pays for its own work alone, and twice the input is not much more than twice the work.</summary>
public sealed class StepBudgetTests : IAsyncLifetime
{
    private readonly TestWorkspace _folder = new();
    private LoadedWorkspace _workspace = null!;

    private PublishedService Service { get; set; } = null!;

    private RestPaths Paths => new(Service.Model);

    public async Task InitializeAsync()
    {
        _folder.WithSource().WithNetwork(10);
        _folder.Write(
            "services/s.yaml",
            $"title: S\nsource: main\nnamespace: T\nrules:\n  read: anyone\nsql: {{ who: anyone }}\nsets:\n{NetworkFixture.AllSets}"
        );
        _workspace = await _folder.LoadAsync();
        Service = new PublishedService(_workspace.Services[0].Model, _workspace.Sources, "r");
    }

    public async Task DisposeAsync()
    {
        await _workspace.DisposeAsync();
        _folder.Dispose();
    }

    private RequestFault? Rest(string query, StepBudget? steps = null) =>
        RestRequest.Of("Stations", query.Replace(" ", "%20"), Paths).Is(out var request, out var fault) ? Prepared(request, steps) : fault;

    private RequestFault? OData(string query) =>
        NetworkFixture.Lex("Stations?" + query).Is(out var request, out var fault) ? Prepared(request, null) : fault;

    private RequestFault? Prepared(Requests.ISpelledRequest request, StepBudget? cancelled)
    {
        if (cancelled is not null)
            request.Steps.Cancellation = cancelled.Cancellation;
        return Service.Prepare(request, Caller.Anonymous).Fault;
    }

    private RequestFault? Sql(string text) => Service.PrepareSql(text, new Dictionary<string, object?>(), Caller.Anonymous).Fault;

    [Fact]
    public void Filters_of_other_requests_do_not_count()
    {
        // Each has a shape of its own, so that none is found among the plans.
        for (var i = 1; i <= 1_500; i++)
        {
            var terms = string.Join(" or ", Enumerable.Range(0, 5).Select(b => (i >> b & 1) == 1 ? "id eq 1" : "id ne 1"));
            var sums = string.Concat(Enumerable.Repeat(" add 1", i % 50));
            Assert.Null(Rest($"filter=({terms}) and id gt 1{sums}"));
            Assert.Null(OData($"$filter=({terms}) and id gt 1{sums}"));
        }
    }

    /// <summary>What is nested n times. Each engine-independent form that has ever been written out more than once is among them.</summary>
    public static TheoryData<string, string, string, string> Nested =>
        new()
        {
            { "sql", "SELECT id FROM Stations WHERE 1 = ", "CASE WHEN {0} BETWEEN 1 AND 2 THEN 1 ELSE 2 END", "id" },
            { "sql", "SELECT id FROM Stations WHERE ", "({0}) IN (TRUE, FALSE)", "id IN (1, 2)" },
            { "sql", "SELECT id FROM Stations WHERE ", "({0}) NOT IN (TRUE, FALSE, TRUE, FALSE)", "id IN (1, 2)" },
            { "sql", "SELECT id FROM Stations WHERE ", "({0}) = (NOT (id = 3))", "id = 1" },
            { "sql", "SELECT id FROM Stations WHERE ", "({0}) IS NULL", "id = 1" },
            { "sql", "SELECT id FROM Stations WHERE ", "CASE WHEN {0} THEN TRUE ELSE FALSE END", "id = 1" },
            { "sql", "SELECT id FROM Stations WHERE ", "coalesce({0}, TRUE)", "id = 1" },
            { "sql", "SELECT id FROM Stations WHERE name = ", "lower({0})", "name" },
            { "sql", "SELECT id FROM Stations WHERE id = ", "({0} + 1)", "id" },
            { "sql", "SELECT id, COUNT(*) AS n FROM Stations GROUP BY id HAVING ", "({0}) IN (TRUE, FALSE)", "COUNT(*) = 1" },
            { "odata", "$filter=", "({0}) eq true", "id eq 1" },
            { "odata", "$filter=", "({0}) ne (closed_on eq null)", "closed_on gt 2020-01-01" },
            { "odata", "$filter=", "not ({0})", "id eq 1" },
            { "odata", "$filter=", "({0}) in (true,false)", "id eq 1" },
            { "odata", "$filter=", "case({0}:true,true:false)", "id eq 1" },
            { "odata", "$filter=id eq ", "({0} add 1)", "id" },
            { "odata", "$filter=name eq ", "trim({0})", "name" },
            { "odata", "$filter=", "catchment/Stations/any(s{1}:{0})", "id eq 1" },
            { "rest", "filter=", "({0}) eq true", "id eq 1" },
            { "rest", "filter=", "not ({0})", "id eq 1" },
            { "rest", "filter=id eq ", "({0} mul 1)", "id" },
        };

    [Theory, MemberData(nameof(Nested))]
    public void Twice_the_input_is_not_four_times_the_work(string form, string start, string nesting, string core)
    {
        RequestFault? Ask(int depth)
        {
            var text = core;
            for (var i = 0; i < depth; i++)
                text = string.Format(System.Globalization.CultureInfo.InvariantCulture, nesting, text, i);
            return form switch
            {
                "sql" => Sql(start + text),
                "rest" => Rest(start + text),
                _ => OData(start + text),
            };
        }
        long Work(int depth)
        {
            Ask(depth);
            Service.Forget();
            var before = GC.GetAllocatedBytesForCurrentThread();
            Ask(depth);
            return GC.GetAllocatedBytesForCurrentThread() - before;
        }
        var depths = nesting.Contains("any(") ? (Least: 2, Most: 4) : (Least: 12, Most: 24);
        Assert.Null(Ask(depths.Least));
        // Texts that contain each other grow with the square of the depth, and nothing grows faster.
        var (once, twice) = (Work(depths.Least), Work(depths.Most));
        Assert.True(twice < 5 * once, $"{once} bytes, then {twice}");
    }

    [Fact]
    public void A_caller_who_has_left_is_not_worked_for()
    {
        using var left = new CancellationTokenSource();
        left.Cancel();
        var filter = "filter=" + string.Join(" or ", Enumerable.Repeat("id eq 1", 200));
        Assert.Throws<OperationCanceledException>(() => Rest(filter, new StepBudget { Cancellation = left.Token }));
    }

    [Fact]
    public void A_budget_ends()
    {
        var steps = new StepBudget();
        for (var i = 0; i < Limits.RequestSteps; i++)
            steps.Step();
        Assert.Equal("too-large", Assert.ThrowsAny<FaultException>(steps.Step).Fault.Code);
    }

    [Theory]
    [InlineData(50, 1, null)]
    [InlineData(51, 1, "put together from more than 50")]
    [InlineData(40, 30_000, "more than 1048576 characters")]
    public void Texts_that_are_put_together_are_bounded(int texts, int characters, string? fault)
    {
        var text = "SELECT id, " + string.Join(" || ", Enumerable.Repeat(":p", texts)) + " AS x FROM Stations";
        var arguments = new Dictionary<string, object?> { ["p"] = new string('x', characters) };
        var found = Service.PrepareSql(text, arguments, Caller.Anonymous).Fault;
        if (fault is null)
            Assert.Null(found);
        else
            Assert.Contains(fault, found?.Message);
    }

    [Theory]
    [InlineData("SELECT id FROM Stations", "argument")]
    [InlineData("SELECT id FROM Stations WHERE id IN ({0})", "too-large")]
    [InlineData("SELECT id FROM Stations WHERE {1}", "too-large")]
    public void Ten_thousand_parameters_and_one_ten_thousand_times_are_told(string text, string code)
    {
        var many = Enumerable.Range(0, 10_000).ToDictionary(i => $"p{i}", i => (object?)(long)i);
        var list = string.Join(',', Enumerable.Repeat(":p1", 10_000));
        var terms = string.Join(" OR ", Enumerable.Repeat("id = :p1", 5_000));
        var whole = string.Format(System.Globalization.CultureInfo.InvariantCulture, text, list, terms);
        Assert.Equal(code, Service.PrepareSql(whole, many, Caller.Anonymous).Fault?.Code);
    }

    [Fact]
    public void Many_texts_that_are_put_together_are_bounded_together()
    {
        var columns = Enumerable.Range(0, 20).Select(i => $"lower({string.Join(" || ", Enumerable.Repeat(":p", 20))}) AS x{i}");
        var arguments = new Dictionary<string, object?> { ["p"] = new string('x', 25_000) };
        var fault = Service.PrepareSql($"SELECT {string.Join(", ", columns)} FROM Stations", arguments, Caller.Anonymous).Fault;
        Assert.Contains("4194304 characters", fault?.Message);
    }
}
