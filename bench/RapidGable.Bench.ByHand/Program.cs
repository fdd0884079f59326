// The same answers as the service gives, written by hand in three styles: the driver's reader straight into the JSON writer (the
// floor), a micro-mapper with a serializer (what a careful engineer writes), and an object-relational mapper (what most write).
// Arguments: the port, the SQLite file, the connection of the PostgreSQL database; or "send", an address, a file of JSON lines and how many go
// into one request.
using System.Data.Common;
using System.Net;
using Microsoft.Data.Sqlite;
using Npgsql;
using RapidGable.Bench.ByHand;

if (args is ["send", var address, var lines, var together])
{
    await Writes.SendAsync(address, lines, int.Parse(together));
    return;
}
var (port, file, postgres) = (int.Parse(args[0]), args[1], args[2]);
var builder = WebApplication.CreateSlimBuilder();
builder.Logging.ClearProviders();
builder.WebHost.ConfigureKestrel(k => k.Listen(IPAddress.Loopback, port));
var app = builder.Build();
await using var pool = NpgsqlDataSource.Create(postgres);
var writing = $"Data Source={file};Foreign Keys=True";
foreach (var (engine, connect) in new (string, Func<DbConnection>)[] { ("sqlite", () => new SqliteConnection($"Data Source={file};Mode=ReadOnly")), ("postgresql", pool.CreateConnection) })
{
    var isSqlite = engine == "sqlite";
    Func<DbConnection> change = isSqlite ? () => new SqliteConnection(writing) : connect;
    Writes.MapFloor(app, $"/floor/{engine}", change, isSqlite);
    Writes.MapMapper(app, $"/mapper/{engine}", change, isSqlite);
    Writes.MapOrm(app, $"/orm/{engine}", Orm.Opener(isSqlite ? writing : postgres, isSqlite));
    Floor.Map(app, $"/floor/{engine}", connect);
    Mapper.Map(app, $"/mapper/{engine}", connect);
    Orm.Map(app, $"/orm/{engine}", isSqlite ? $"Data Source={file};Mode=ReadOnly" : postgres, isSqlite);
}
await app.RunAsync();
