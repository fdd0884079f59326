using System.Net.Http.Headers;
using System.Text;
using System.Text.Json;
using Microsoft.AspNetCore.Builder;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Core.Tests;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Publishing;
using RapidGable.Service.Hosting;
using RapidGable.Sources;

namespace RapidGable.Service.Tests;

public sealed class SqliteHttpWriteRuleTests() : HttpWriteRuleTests(Engine.Sqlite);

public sealed class PostgresHttpWriteRuleTests(PostgresServer server)
    : HttpWriteRuleTests(Engine.PostgreSql, server),
        IClassFixture<PostgresServer>;

public sealed class MariaDbHttpWriteRuleTests(MariaDbServer server)
    : HttpWriteRuleTests(Engine.MariaDb, null, server),
        IClassFixture<MariaDbServer>;

/// <summary>
/// The random rules about writing once more over HTTP: each change as a request, as a part of a batch, and in a group of one, whatever
/// comes. What is let through and what is then in the table is what the evaluator says that knows no SQL.
/// </summary>
public abstract class HttpWriteRuleTests(Engine engine, PostgresServer? postgres = null, MariaDbServer? mariaDb = null)
    : RandomWriteRuleTests(engine, postgres, mariaDb),
        IAsyncLifetime
{
    private readonly Dictionary<string, Caller> _lent = [];
    private readonly HttpClient _client = new();
    private readonly Random _ways = new(7);
    private LoadedWorkspace? _served;
    private WebApplication? _app;

    protected override int Worlds => 24;

    async Task IAsyncLifetime.DisposeAsync()
    {
        await StopAsync();
        _client.Dispose();
        await DisposeAsync();
    }

    private async Task StopAsync()
    {
        if (_app is null)
            return;
        await _app.StopAsync();
        await _app.DisposeAsync();
    }

    private protected override async Task<(RequestFault? Fault, string Rows)> TryAsync(
        LoadedWorkspace workspace,
        PublishedService service,
        Caller caller,
        Change change
    )
    {
        if (!ReferenceEquals(_served, workspace))
        {
            await StopAsync();
            _app = ServiceHost.Build(workspace, new ServiceOptions(0, IsQuiet: true, Lent: _lent, IsTrial: true));
            await _app.StartAsync();
            _served = workspace;
        }
        _lent["key"] = caller;
        var (status, body) = _ways.Next(3) switch
        {
            0 => await SendAsync(caller, change.Verb.ToString().ToUpperInvariant(), change.Path.Replace(" ", "%20"), change.Body),
            1 => await PartAsync(caller, change, ""),
            _ => await PartAsync(caller, change, "\"atomicityGroup\":\"g\","),
        };
        if (status >= 300)
            return (new RequestFault(status, "refused", body), "");
        var source = workspace.Sources["main"];
        string rows;
        await using (var session = await source.OpenSessionAsync(SessionKind.Plain, CancellationToken.None))
            rows = await RowsAsync(session);
        await RestoreAsync(source);
        return (null, rows);
    }

    /// <summary>Puts the rows back as they were.</summary>
    private static async Task RestoreAsync(ISource source)
    {
        await using var session = await source.OpenSessionAsync(SessionKind.Changing, CancellationToken.None);
        foreach (
            var statement in RuleWorld
                .Tables.Split(";\n", StringSplitOptions.RemoveEmptyEntries)
                .Where(s => s.StartsWith("INSERT", StringComparison.Ordinal))
                .Prepend("DELETE FROM technician")
                .Prepend("DELETE FROM visit")
        )
            await session.ExecuteAsync(statement.TrimEnd(';'), ReadOnlyMemory<StoredValue>.Empty, CancellationToken.None);
        await session.CommitAsync(CancellationToken.None);
    }

    private async Task<(int Status, string Body)> SendAsync(Caller caller, string method, string path, string? body)
    {
        using var request = new HttpRequestMessage(new HttpMethod(method), $"{_app!.Urls.First()}/odata/s/{path}");
        request.Headers.Add("OData-Version", "4.01");
        if (caller.IsSignedIn)
            request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", "key");
        if (body is not null)
            request.Content = new StringContent(body, Encoding.UTF8, "application/json");
        using var response = await _client.SendAsync(request);
        return ((int)response.StatusCode, await response.Content.ReadAsStringAsync());
    }

    private async Task<(int Status, string Body)> PartAsync(Caller caller, Change change, string group)
    {
        var body = change.Body is null ? "" : $",\"body\":{change.Body}";
        var (status, text) = await SendAsync(
            caller,
            "POST",
            "$batch",
            $$"""{"requests":[{"id":"1",{{group}}"method":"{{change.Verb.ToString().ToUpperInvariant()}}","url":"{{change.Path.Replace(" ", "%20")}}","headers":{"content-type":"application/json","odata-version":"4.01"}{{body}}}]}"""
        );
        Assert.True(status == 200, text);
        return (JsonDocument.Parse(text).RootElement.GetProperty("responses")[0].GetProperty("status").GetInt32(), text);
    }
}
