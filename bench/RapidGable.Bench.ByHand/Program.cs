// The same answers as the service gives, written by hand in three styles: the driver's reader straight into the JSON writer (the
// floor, as an expert writes it for speed), a micro-mapper with a serializer, and an object-relational mapper, both as good practice
// has them.
// Arguments: the port, the SQLite file, the connection of the PostgreSQL database; or "send", an address, a file of JSON lines and how
// many go
// into one request, 0 for all of it as it is.
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

// Good practice of mappers: statements are prepared by themselves once they come again.
await using var pool = NpgsqlDataSource.Create(postgres);
var prepared = postgres + ";Max Auto Prepare=50;Auto Prepare Min Usages=2";
await using var preparing = NpgsqlDataSource.Create(prepared);
var reading = $"Data Source={file};Mode=ReadOnly";
var writing = $"Data Source={file};Foreign Keys=True";

SqliteByHand.Map(app, "/floor/sqlite", file);
SqliteByHand.MapWrites(app, "/floor/sqlite", file);
Mapper.Map(app, "/mapper/sqlite", () => new SqliteConnection(reading));
Writes.MapMapper(app, "/mapper/sqlite", () => new SqliteConnection(writing), isSqlite: true);
Orm.Map(app, "/orm/sqlite", reading, isSqlite: true);
Writes.MapOrm(app, "/orm/sqlite", Orm.Opener(writing, isSqlite: true));

var sessions = new SessionPool<PostgresSession>(() => new PostgresSession(pool));
PostgresByHand.Map(app, "/floor/postgresql", sessions);
PostgresByHand.MapWrites(app, "/floor/postgresql", sessions);
Mapper.Map(app, "/mapper/postgresql", preparing.CreateConnection);
Writes.MapMapper(app, "/mapper/postgresql", preparing.CreateConnection, isSqlite: false);
Orm.Map(app, "/orm/postgresql", prepared, isSqlite: false);
Writes.MapOrm(app, "/orm/postgresql", Orm.Opener(prepared, isSqlite: false));
await app.RunAsync();
