// The same answers as the service gives, written by hand in three styles: the driver's reader straight into the JSON writer (the
// floor), a micro-mapper with a serializer (what a careful engineer writes), and an object-relational mapper (what most write).
// Arguments: the port, the SQLite file, the connection of the PostgreSQL database.
using System.Data.Common;
using System.Net;
using Microsoft.Data.Sqlite;
using Npgsql;
using RapidGable.Bench.ByHand;

var (port, file, postgres) = (int.Parse(args[0]), args[1], args[2]);
var builder = WebApplication.CreateSlimBuilder();
builder.Logging.ClearProviders();
builder.WebHost.ConfigureKestrel(k => k.Listen(IPAddress.Loopback, port));
var app = builder.Build();
await using var pool = NpgsqlDataSource.Create(postgres);
foreach (var (engine, connect) in new (string, Func<DbConnection>)[] { ("sqlite", () => new SqliteConnection($"Data Source={file};Mode=ReadOnly")), ("postgresql", pool.CreateConnection) })
{
    Floor.Map(app, $"/floor/{engine}", connect);
    Mapper.Map(app, $"/mapper/{engine}", connect);
    Orm.Map(app, $"/orm/{engine}", engine == "sqlite" ? $"Data Source={file};Mode=ReadOnly" : postgres, engine == "sqlite");
}
await app.RunAsync();
