using System.Text.RegularExpressions;
using CsCheck;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.OData;
using RapidGable.Requests.Rest;

namespace RapidGable.Core.Tests;

/// <summary>On SQLite.</summary>
public sealed class SqliteRandomFilterTests : RandomFilterTests
{
    internal override Task PrepareAsync(TestWorkspace folder, string insert)
    {
        folder
            .WithSource()
            .WithDatabase("CREATE TABLE row (id INTEGER PRIMARY KEY, n INTEGER, m INTEGER, d DECIMAL(6,2), s TEXT, b BOOLEAN); " + insert);
        return Task.CompletedTask;
    }
}

/// <summary>On PostgreSQL.</summary>
public sealed class PostgresRandomFilterTests(PostgresServer server) : RandomFilterTests, IClassFixture<PostgresServer>
{
    internal override async Task PrepareAsync(TestWorkspace folder, string insert)
    {
        var database = await server.CreateDatabaseAsync();
        await server.ExecuteAsync(
            database,
            "CREATE TABLE row (id BIGINT PRIMARY KEY, n BIGINT, m INTEGER, d DECIMAL(6,2), s TEXT, b BOOLEAN); " + insert
        );
        folder.Write("workspace.yaml", "title: T\n").Write("sources/main.yaml", server.SourceFile(database));
    }
}

/// <summary>On MariaDB.</summary>
public sealed class MariaDbRandomFilterTests(MariaDbServer server) : RandomFilterTests, IClassFixture<MariaDbServer>
{
    private protected override string Quoted => "`row`";

    // A SELECT gives numbers there.
    private protected override bool SelectsBooleans => false;

    internal override async Task PrepareAsync(TestWorkspace folder, string insert)
    {
        var database = await server.CreateDatabaseAsync();
        await server.ExecuteAsync(
            database,
            "CREATE TABLE `row` (id BIGINT PRIMARY KEY, n BIGINT, m INTEGER, d DECIMAL(6,2), s TEXT, b BOOLEAN); "
                + insert.Replace("INTO row", "INTO `row`")
        );
        folder.Write("workspace.yaml", "title: T\n").Write("sources/main.yaml", server.SourceFile(database));
    }
}

/// <summary>Random filters: the database must keep the rows that a small evaluator, written apart from all SQL, keeps.</summary>
public abstract class RandomFilterTests : IAsyncLifetime
{
    private static readonly Row[] Rows = MakeRows();
    private readonly TestWorkspace _folder = new();
    private Building.LoadedWorkspace _workspace = null!;
    private PublishedService _service = null!;

    private sealed record Row(long Id, long? N, long? M, decimal? D, string? S, bool? B);

    internal abstract Task PrepareAsync(TestWorkspace folder, string insert);

    /// <summary>The table's name, which is a word of SQL, as the engine quotes it.</summary>
    private protected virtual string Quoted => "\"row\"";

    /// <summary>Whether the columns of a SELECT may be booleans.</summary>
    private protected virtual bool SelectsBooleans => true;

    public async Task InitializeAsync()
    {
        string Text(object? value) =>
            value switch
            {
                null => "NULL",
                string s => $"'{s}'",
                bool b => b ? "true" : "false",
                var other => FormattableString.Invariant($"{other}"),
            };
        await PrepareAsync(
            _folder,
            "INSERT INTO row VALUES "
                + string.Join(", ", Rows.Select(r => $"({r.Id}, {Text(r.N)}, {Text(r.M)}, {Text(r.D)}, {Text(r.S)}, {Text(r.B)})"))
        );
        _folder.WithService(
            "  - row\nqueries:\n  - name: Between\n    key: id\n    parameters: { low: int64, high: { type: int64, default: 60 } }\n"
                + $"    select: SELECT r.*, ':no' AS no_parameter FROM {Quoted} r WHERE r.id >= :low AND r.id <= :high -- :neither\n"
        );
        _workspace = await _folder.LoadAsync();
        Assert.Empty(_workspace.Diagnostics.Items);
        _service = new PublishedService(_workspace.Services[0].Model, _workspace.Sources, "r");
    }

    public async Task DisposeAsync()
    {
        await _workspace.DisposeAsync();
        _folder.Dispose();
    }

    private static Row[] MakeRows()
    {
        var random = new Random(11);
        T? Maybe<T>(T value)
            where T : struct => random.Next(4) == 0 ? null : value;
        string[] texts = ["", "a", "A", "ab", "Ab c", "bca", "zz"];
        return
        [
            .. Enumerable
                .Range(1, 60)
                .Select(i => new Row(
                    i,
                    Maybe((long)random.Next(-3, 4)),
                    Maybe((long)random.Next(0, 3)),
                    Maybe(random.Next(-4, 5) * 0.25m),
                    random.Next(4) == 0 ? null : texts[random.Next(texts.Length)],
                    Maybe(random.Next(2) == 0)
                )),
        ];
    }

    private static Gen<string> Number(int depth) =>
        depth == 0
            ? Of("n", "m", "d", "0", "1", "2", "-1", "0.25", "1.5", "null")
            : Gen.Frequency(
                (3, Number(0)),
                (2, Gen.Select(Number(depth - 1), Of("add", "sub", "mul"), Number(depth - 1), (a, op, b) => $"({a} {op} {b})")),
                (1, Text(0).Select(t => $"length({t})")),
                (1, Number(0).Where(x => !x.StartsWith('-')).Select(x => $"-({x})"))
            );

    private static Gen<string> Text(int depth) =>
        depth == 0
            ? Of("s", "'a'", "'Ab c'", "''", "'b'")
            : Gen.Frequency(
                (3, Text(0)),
                (1, Text(0).Select(t => $"tolower({t})")),
                (1, Text(0).Select(t => $"toupper({t})")),
                (1, Gen.Select(Text(0), Text(0), (a, b) => $"concat({a},{b})"))
            );

    private static Gen<string> Condition(int depth)
    {
        var comparison = Of("eq", "ne", "gt", "ge", "lt", "le");
        var leaf = Gen.Frequency(
            (4, Gen.Select(Number(1), comparison, Number(1), (a, op, b) => $"{a} {op} {b}")),
            (2, Gen.Select(Text(1), comparison, Text(1), (a, op, b) => $"{a} {op} {b}")),
            (1, Gen.Select(Text(1), Of("eq", "ne"), (a, op) => $"{a} {op} null")),
            (2, Gen.Select(Of("contains", "startswith", "endswith"), Text(1), Text(0), (f, a, b) => $"{f}({a},{b})")),
            (1, Of("b", "b eq true", "b ne false", "true", "false")),
            (1, Gen.Select(Of("n", "m", "d"), Of("(1,2)", "(0,null)", "()", "(0.25,-1)"), (a, list) => $"{a} in {list}")),
            (1, Of("s in ('a','zz',null)", "s in ('A')"))
        );
        return depth == 0
            ? leaf
            : Gen.Frequency(
                (2, leaf),
                (2, Gen.Select(Condition(depth - 1), Of("and", "or"), Condition(depth - 1), (a, op, b) => $"({a} {op} {b})")),
                (2, Condition(depth - 1).Select(a => $"not ({a})")),
                (1, Gen.Select(Condition(depth - 1), Of("eq", "ne"), Condition(depth - 1), (a, op, b) => $"(({a}) {op} ({b}))"))
            );
    }

    private static Gen<string> Of(params string[] texts) => Gen.OneOf(Array.ConvertAll(texts, Gen.Const));

    [Fact]
    [Proves("Q-25 to Q-31, X-01, X-02")]
    public void The_database_keeps_the_rows_that_the_standard_keeps() =>
        Condition(3)
            .Sample(
                filter =>
                {
                    var lexed = NetworkFixture.Lex("row?$select=id&$top=1000&$filter=" + Uri.EscapeDataString(filter)).Value!;
                    var syntax = RequestParser.Parse(lexed).Value!;
                    var expected = Rows.Where(r => Evaluate(syntax.Filter!, r, lexed.Literals) is true).Select(r => r.Id);
                    Assert.Equal(expected, KeptAsync(lexed).GetAwaiter().GetResult());
                },
                iter: 1_500,
                threads: 1
            );

    [Fact] // a filter, an order and a page on top of a query's rows
    public void A_query_with_parameters_is_filtered_as_the_standard_says() =>
        Gen.Select(
                Condition(2).Where(c => SelectsBooleans || !Regex.IsMatch(Regex.Replace(c, "'[^']*'", ""), @"\bb\b")),
                Gen.Int[1, 60],
                Gen.Int[1, 60],
                Gen.Int[0, 5],
                Gen.Bool
            )
            .Sample(
                (filter, low, high, skip, isDescending) =>
                {
                    var call = isDescending ? $"Between(high={high},low={low})" : $"Between(low={low},high={high})";
                    var order = isDescending ? "&$orderby=id desc" : "";
                    var lexed = NetworkFixture
                        .Lex($"{call}?$select=id&$top=1000&$skip={skip}{order}&$filter=" + Uri.EscapeDataString(filter))
                        .Value!;
                    var syntax = RequestParser.Parse(lexed).Value!;
                    var kept = Rows.Where(r => r.Id >= low && r.Id <= high)
                        .Where(r => Evaluate(syntax.Filter!, r, lexed.Literals) is true)
                        .Select(r => r.Id);
                    Assert.Equal((isDescending ? kept.Reverse() : kept).Skip(skip), KeptAsync(lexed).GetAwaiter().GetResult());
                },
                iter: 400,
                threads: 1
            );

    /// <summary>A parameter of the plain REST face, and the condition that means the same.</summary>
    private static Gen<(string Parameter, string Condition)> Match()
    {
        static string Quoted(string text) => $"'{text}'";
        static string Written(string text) => text is "" or "null" || text.Contains(' ') ? $"\"{text}\"" : text;
        var number = Of("0", "1", "2", "-1", "0.25", "1.5").Select(v => (Written: v, Literal: v));
        var text = Of("", "a", "A", "ab", "Ab c", "zz").Select(v => (Written: Written(v), Literal: Quoted(v)));
        Gen<(string, Func<string, string>)> Term(Gen<(string Written, string Literal)> value, bool isText)
        {
            var plain = Gen.Frequency(
                (4, value.Select(v => (v.Written, (Func<string, string>)(p => $"{p} eq {v.Literal}")))),
                (
                    2,
                    Gen.Select(value, value, (a, b) =>
                        ($"{a.Written}..{b.Written}", (Func<string, string>)(p => $"({p} ge {a.Literal} and {p} le {b.Literal})"))
                    )
                ),
                (1, value.Select(v => (v.Written + "..", (Func<string, string>)(p => $"{p} ge {v.Literal}")))),
                (1, value.Select(v => (".." + v.Written, (Func<string, string>)(p => $"{p} le {v.Literal}")))),
                (1, Gen.Const(("null", (Func<string, string>)(p => $"{p} eq null"))))
            );
            var part = Of("a", "A", "b", "z");
            return !isText
                ? plain
                : Gen.Frequency(
                    (3, plain),
                    (1, part.Select(v => (v + "*", (Func<string, string>)(p => $"startswith({p},'{v}')")))),
                    (1, part.Select(v => ("*" + v, (Func<string, string>)(p => $"endswith({p},'{v}')")))),
                    (1, part.Select(v => ($"*{v}*", (Func<string, string>)(p => $"contains({p},'{v}')"))))
                );
        }
        Gen<(string, string)> Of2(string[] names, Gen<(string, Func<string, string>)> term) =>
            Gen.Select(Gen.OneOf(Array.ConvertAll(names, Gen.Const)), term.Array[1, 3], Gen.Bool, (name, terms, isNegated) =>
            {
                var any = string.Join(" or ", terms.Select(t => t.Item2(name)));
                var hasNull = terms.Any(t => t.Item1 == "null");
                var condition =
                    !isNegated ? $"({any})"
                    : hasNull ? $"(not ({any}))"
                    : $"({name} eq null or not ({any}))";
                return ($"{name}={(isNegated ? "!" : "")}{string.Join(',', terms.Select(t => t.Item1))}", condition);
            });
        return Gen.Frequency(
            (3, Of2(["n", "m", "d"], Term(number, isText: false))),
            (3, Of2(["s"], Term(text, isText: true))),
            (1, Of2(["b"], Of("true", "false").Select(v => (v, (Func<string, string>)(p => $"{p} eq {v}")))))
        );
    }

    [Fact] // the parameters of plain REST mean what their conditions mean
    public void Parameters_keep_the_rows_that_their_conditions_keep() =>
        Match()
            .Array[1, 3]
            .Where(m => m.Select(p => p.Parameter.Split('=')[0]).Distinct().Count() == m.Length)
            // A fraction is no value of a whole number, and is refused.
            .Where(m => !m.Any(p => p.Parameter[0] is 'n' or 'm' && (p.Parameter.Contains("0.25") || p.Parameter.Contains("1.5"))))
            .Sample(
                matches =>
                {
                    var filter = string.Join(" and ", matches.Select(m => m.Condition));
                    var lexed = NetworkFixture.Lex("row?$select=id&$top=1000&$filter=" + Uri.EscapeDataString(filter)).Value!;
                    var query = string.Join(
                        '&',
                        matches.Select(m => m.Parameter.Split('=') is var p ? $"{p[0]}={Uri.EscapeDataString(p[1])}" : "")
                    );
                    var rest = RestRequest.Of("row", query + "&rows=1..1000&fields=id", new RestPaths(_service.Model)).Value!;
                    Assert.True(
                        KeptAsync(lexed).GetAwaiter().GetResult().SequenceEqual(KeptAsync(rest).GetAwaiter().GetResult()),
                        $"{string.Join('&', matches.Select(m => m.Parameter))} is not {filter}"
                    );
                },
                iter: 600,
                threads: 1
            );

    private async Task<List<long>> KeptAsync(ISpelledRequest lexed)
    {
        var prepared = _service.Prepare(lexed, Caller.Anonymous);
        Assert.True(prepared.Fault is null, prepared.Fault?.Message);
        var values = QueryValues.Make(prepared.Value!.Request, lexed, null, DateTime.UnixEpoch).Value!;
        await using var run = (await QueryRun.StartAsync(prepared.Value, values, CancellationToken.None)).Value!;
        var ids = new List<long>();
        for (var more = run.HasRow; more; more = await run.Rows.ReadAsync(CancellationToken.None))
            ids.Add(run.Rows.GetInt64(0));
        return ids;
    }

    /// <summary>null, bool, decimal or string.</summary>
    private static object? Evaluate(ExpressionSyntax expression, Row row, IReadOnlyList<Literal> literals)
    {
        object? Value(ExpressionSyntax inner) => Evaluate(inner, row, literals);
        switch (expression)
        {
            case NullSyntax:
                return null;
            case LiteralSyntax literal:
                return literals[literal.Slot].Value is long number ? (decimal)number : literals[literal.Slot].Value;
            case PathSyntax path:
                return path.Names[0].Text switch
                {
                    "id" => (decimal)row.Id,
                    "n" => (decimal?)row.N,
                    "m" => (decimal?)row.M,
                    "d" => row.D,
                    "s" => row.S,
                    _ => row.B,
                };
            case UnarySyntax { Operator: UnaryOperator.Not } not:
                return Value(not.Operand) is bool truth ? !truth : null;
            case UnarySyntax negation:
                return -(decimal?)Value(negation.Operand);
            case InSyntax isIn:
                return isIn.Members.Any(m => Equals(Value(m), Value(isIn.Operand)));
            case CallSyntax call:
                return Call(call.Name, [.. call.Arguments.Select(Value)]);
            case BinarySyntax binary:
                return Binary(binary.Operator, Value(binary.Left), Value(binary.Right));
            default:
                throw new InvalidOperationException(expression.GetType().Name);
        }
    }

    private static object? Call(string name, object?[] arguments)
    {
        if (arguments.Contains(null))
            return null;
        var text = (string)arguments[0]!;
        return name switch
        {
            "length" => (decimal)text.Length,
            "tolower" => text.ToLowerInvariant(),
            "toupper" => text.ToUpperInvariant(),
            "concat" => text + arguments[1],
            "contains" => text.Contains((string)arguments[1]!, StringComparison.Ordinal),
            "startswith" => text.StartsWith((string)arguments[1]!, StringComparison.Ordinal),
            _ => text.EndsWith((string)arguments[1]!, StringComparison.Ordinal),
        };
    }

    private static object? Binary(BinaryOperator op, object? left, object? right)
    {
        switch (op)
        {
            case BinaryOperator.And:
                return left is false || right is false ? false
                    : left is null || right is null ? null
                    : true;
            case BinaryOperator.Or:
                return left is true || right is true ? true
                    : left is null || right is null ? null
                    : false;
            case BinaryOperator.Eq:
                return Equals(left, right);
            case BinaryOperator.Ne:
                return !Equals(left, right);
            case BinaryOperator.Add:
                return (decimal?)left + (decimal?)right;
            case BinaryOperator.Sub:
                return (decimal?)left - (decimal?)right;
            case BinaryOperator.Mul:
                return (decimal?)left * (decimal?)right;
        }
        if (left is null || right is null)
            return op is BinaryOperator.Ge or BinaryOperator.Le && left is null && right is null;
        var order = left is string text ? string.CompareOrdinal(text, (string)right) : ((decimal)left).CompareTo((decimal)right);
        return op switch
        {
            BinaryOperator.Gt => order > 0,
            BinaryOperator.Ge => order >= 0,
            BinaryOperator.Lt => order < 0,
            _ => order <= 0,
        };
    }
}
