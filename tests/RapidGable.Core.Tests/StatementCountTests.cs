using RapidGable.Access;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Queries;
using RapidGable.Requests;
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
    [InlineData("Stations?$filter=id eq 0&$expand=Sensors", 1)]
    [InlineData("Stations(1)/Sensors", 1)]
    [InlineData("Stations(9999)/Sensors", 2)]
    [InlineData("Stations(1)/Sensors/$count", 1)]
    [InlineData("Visits?$top=50&$expand=technician,station&$orderby=technician/full_name", 1)]
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
                await ODataJsonWriter.For(prepared, new PayloadFormat(ODataVersion.V40, MetadataLevel.Minimal, false)).WriteAsync(run, new LinkBuilder("http://x/", RequestAddress.Read("Stations", "").Value!), output, CancellationToken.None);
        }
        Assert.Equal(expected, source.Statements);
        Assert.Equal(0, source.OpenSessions);
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

        public Task<SourceObject> DescribeAsync(SourceObject item, CancellationToken cancellation) => inner.DescribeAsync(item, cancellation);

        public Task<SourceObject> DescribeQueryAsync(string name, string select, CancellationToken cancellation) => inner.DescribeQueryAsync(name, select, cancellation);

        public async ValueTask<ISourceSession> OpenSessionAsync(SessionKind kind, CancellationToken cancellation)
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

            public ValueTask DisposeAsync()
            {
                source.OpenSessions--;
                return inner.DisposeAsync();
            }
        }
    }
}
