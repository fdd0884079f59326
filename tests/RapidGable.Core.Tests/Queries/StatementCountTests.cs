using RapidGable.Access;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Payloads.Json;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.OData;
using RapidGable.Sources;

namespace RapidGable.Core.Tests;

/// <summary>The number of statements for a request does not depend on the number of rows.</summary>
public class StatementCountTests(NetworkFixture network) : IClassFixture<NetworkFixture>
{
    [Theory]
    [InlineData("Stations?$top=1&$expand=Sensors", 2)]
    [InlineData("Stations?$top=50&$expand=Sensors", 2)]
    [InlineData("Stations?$top=50&$expand=Sensors,catchment", 2)]
    [InlineData("Stations?$top=50&$expand=Sensors,Visits,catchment&$count=true", 4)]
    [InlineData("Stations?$top=50", 1)]
    [InlineData("Stations?$filter=id eq 0&$expand=Sensors", 2)]
    [InlineData("Stations(1)/Sensors", 1)]
    [InlineData("Stations(9999)/Sensors", 2)]
    [InlineData("Stations(1)/Sensors/$count", 1)]
    [InlineData("Visits?$top=50&$expand=technician,station&$orderby=technician/full_name", 1)]
    [Proves("X-24")]
    public async Task Statements_are_counted(string url, int expected)
    {
        var source = new CountingSource(network.Workspace.Sources["main"]);
        var service = new PublishedService(network.Service.Model, new Dictionary<string, ISource> { ["main"] = source }, "r");
        var lexed = NetworkFixture.Lex(url).Value!;
        var prepared = service.Prepare(lexed, Caller.Anonymous).Value!;
        var values = QueryValues.Make(prepared.Request, lexed, null, DateTime.UnixEpoch).Value!;
        await using (var run = (await QueryRun.StartAsync(prepared, values, CancellationToken.None)).Value!)
        {
            using var output = new PayloadOutput((_, _) => default);
            if (prepared.Request.Path.Kind != ResourceKind.Count)
                await ODataJsonWriter
                    .For(prepared, new PayloadFormat(ODataVersion.V40, MetadataLevel.Minimal, false))
                    .WriteAsync(
                        run,
                        new LinkBuilder("http://x/", LexedRequest.Read("Stations", "").Value!),
                        output,
                        CancellationToken.None
                    );
        }
        Assert.Equal(expected, source.Statements);
        Assert.Equal(0, source.OpenSessions);
    }

    [Theory] // a relation into another source: batches, never a statement for each row
    [InlineData("Samples?$top=1&$expand=station", 2, 1)]
    [InlineData("Samples?$top=300&$expand=station", 2, 3)]
    [InlineData("Samples?$top=300&$expand=station,Results&$count=true", 4, 3)]
    [InlineData("Samples?$filter=station_code eq ''&$expand=station", 2, 0)]
    [InlineData("Samples(ed690b96-d0b7-45f9-86a2-c28097766975)/station", 1, 1)]
    public async Task Statements_over_two_sources_are_counted(string url, int lab, int stations)
    {
        using var folder = new TestWorkspace()
            .WithSource()
            .WithNetwork(100)
            .WithLab()
            .Write(
                "services/s.yaml",
                """
                title: S
                source: lab
                rules: { read: anyone }
                page: 300
                sets:
                  - { from: sample, name: Samples, relations: { station: { to: Stations, on: { station_code: code }, back: samples } } }
                  - { from: result, name: Results }
                  - { from: station, source: main, name: Stations, hide: [photo] }
                """
            );
        await using var workspace = await folder.LoadAsync();
        var sources = workspace.Sources.ToDictionary(s => s.Key, s => new CountingSource(s.Value));
        var service = new PublishedService(workspace.Services[0].Model, sources.ToDictionary(s => s.Key, s => (ISource)s.Value), "r");
        var lexed = NetworkFixture.Lex(url).Value!;
        var prepared = service.Prepare(lexed, Caller.Anonymous).Value!;
        var values = QueryValues.Make(prepared.Request, lexed, null, DateTime.UnixEpoch).Value!;
        await using (var run = (await QueryRun.StartAsync(prepared, values, CancellationToken.None)).Value!)
        {
            using var output = new PayloadOutput((_, _) => default);
            await ODataJsonWriter
                .For(prepared, new PayloadFormat(ODataVersion.V40, MetadataLevel.Minimal, false))
                .WriteAsync(run, new LinkBuilder("http://x/", LexedRequest.Read("Samples", "").Value!), output, CancellationToken.None);
        }
        Assert.Equal((lab, stations), (sources["lab"].Statements, sources["main"].Statements));
        Assert.All(sources.Values, s => Assert.Equal(0, s.OpenSessions));
    }

    /// <summary>Counts what goes through to the real source.</summary>
    private sealed class CountingSource(ISource inner) : ISource
    {
        public int Statements { get; private set; }

        public int OpenSessions { get; private set; }

        public string Name => inner.Name;

        public string Address => inner.Address;

        public SqlDialect Dialect => inner.Dialect;

        public Task<SourceCatalog> ReadCatalogAsync(CancellationToken cancellation) => inner.ReadCatalogAsync(cancellation);

        public Task<SourceObject> DescribeAsync(SourceObject item, CancellationToken cancellation) =>
            inner.DescribeAsync(item, cancellation);

        public Task<SourceObject> DescribeQueryAsync(
            string name,
            string select,
            ReadOnlyMemory<StoredValue> arguments,
            CancellationToken cancellation
        ) => inner.DescribeQueryAsync(name, select, arguments, cancellation);

        public Task<IReadOnlyList<SourceColumn>?> DescribeChangeAsync(
            string sql,
            ReadOnlyMemory<StoredValue> arguments,
            CancellationToken cancellation
        ) => inner.DescribeChangeAsync(sql, arguments, cancellation);

        public async ValueTask<ISourceSession> OpenSessionAsync(
            SessionKind kind,
            IReadOnlyList<(string Setting, string Value)> settings,
            RequestAllowance request,
            CancellationToken cancellation
        )
        {
            OpenSessions++;
            return new Session(this, await inner.OpenSessionAsync(kind, cancellation));
        }

        public ValueTask DisposeAsync() => default;

        private sealed class Session(CountingSource source, ISourceSession inner) : ISourceSession
        {
            public ValueTask<IRowCursor> QueryAsync(string sql, ReadOnlyMemory<StoredValue> parameters, CancellationToken cancellation)
            {
                source.Statements++;
                return inner.QueryAsync(sql, parameters, cancellation);
            }

            public ValueTask<long> ExecuteAsync(string sql, ReadOnlyMemory<StoredValue> parameters, CancellationToken cancellation) =>
                inner.ExecuteAsync(sql, parameters, cancellation);

            public ValueTask SerializeAsync(string subject, CancellationToken cancellation) => inner.SerializeAsync(subject, cancellation);

            public ValueTask CommitAsync(CancellationToken cancellation) => inner.CommitAsync(cancellation);

            public ValueTask DisposeAsync()
            {
                source.OpenSessions--;
                return inner.DisposeAsync();
            }
        }
    }
}
