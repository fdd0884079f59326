using Microsoft.Data.Sqlite;

namespace RapidGable.Bench.ByHand;

/// <summary>A kept session of SQLite: commands are prepared at their first use, and read synchronously, as the driver works.</summary>
internal sealed class SqliteSession
{
    private readonly SqliteConnection _connection;
    private readonly Dictionary<string, SqliteCommand> _commands = [];

    public SqliteSession(string connection)
    {
        _connection = new SqliteConnection(connection);
        _connection.Open();
        using var settings = _connection.CreateCommand();
        settings.CommandText = "PRAGMA mmap_size = 268435456; PRAGMA cache_size = -8000";
        settings.ExecuteNonQuery();
    }

    public Rows Rows { get; } = new(hasTimesAsText: true);

    public SqliteTransaction Begin() => _connection.BeginTransaction();

    public SqliteCommand Command(string sql, ReadOnlySpan<object?> values)
    {
        if (!_commands.TryGetValue(sql, out var command))
        {
            command = _connection.CreateCommand();
            command.CommandText = sql;
            for (var i = 0; i < values.Length; i++)
                command.Parameters.Add(new SqliteParameter { ParameterName = $"${i + 1}" });
            _commands[sql] = command;
        }
        for (var i = 0; i < values.Length; i++)
            command.Parameters[i].Value = values[i] ?? DBNull.Value;
        return command;
    }

    public SqliteDataReader Read(string sql, params ReadOnlySpan<object?> values) => Command(sql, values).ExecuteReader();
}

/// <summary>The routes over SQLite.</summary>
internal static class SqliteByHand
{
    public static void Map(WebApplication app, string root, string file)
    {
        var sessions = new SessionPool<SqliteSession>(() => new SqliteSession($"Data Source={file};Mode=ReadOnly"));
        void Get(string path, Func<HttpContext, SqliteSession, ValueTask> answer) =>
            app.MapGet(root + path, (HttpContext context) => sessions
                    .UseAsync((context, answer), static (state, session) =>
                    {
                        session.Rows.Start(state.context.Response);
                        return state.answer(state.context, session);
                    })
                    .AsTask());

        Get("/station/{id}", (context, session) =>
        {
            using var row = session.Read(Statements.StationByKey, context.Number("id"));
            row.Read();
            session.Rows.Single(row, session.Rows.Station);
            session.Rows.End();
            return default;
        });
        Get("/summary", (context, session) =>
        {
            using var row = session.Read(Statements.Summary, context.Text("station"));
            row.Read();
            session.Rows.Single(row, session.Rows.Summary);
            session.Rows.End();
            return default;
        });
        Get("/stations", async (context, session) =>
        {
            long count;
            using (var counted = session.Read(Statements.CountStations, context.Flag("on"), context.Number("after")))
            {
                counted.Read();
                count = counted.GetInt64(0);
            }
            using var row = session.Read(Statements.FilteredStations, context.Flag("on"), context.Number("after"));
            await ListAsync(context, session, row, session.Rows.Station, count);
        });
        Get("/stations-with-catchment", async (context, session) =>
        {
            using var row = session.Read(Statements.StationsWithCatchment, context.Number("after"));
            await ListAsync(context, session, row, session.Rows.StationWithCatchment);
        });
        Get("/stations-with-sensors", async (context, session) =>
        {
            using var child = session.Read(Statements.SensorsOfFifty, context.Number("after"));
            using var row = session.Read(Statements.FiftyStations, context.Number("after"));
            var hasChild = child.Read();
            await ListAsync(context, session, row, Station);

            void Station(System.Data.Common.DbDataReader station)
            {
                session.Rows.Station(station);
                session.Rows.StartSensors();
                for (; hasChild && child.GetInt64(0) == station.GetInt64(0); hasChild = child.Read())
                    session.Rows.Single(child, session.Rows.Sensor);
                session.Rows.Json.WriteEndArray();
            }
        });
        Get("/sensor-with-newest", (context, session) =>
        {
            var (station, sensor) = (context.Number("station"), context.Number("sensor"));
            using var parent = session.Read(Statements.SensorByKey, station, sensor);
            using var child = session.Read(Statements.NewestReadings, station, sensor);
            parent.Read();
            session.Rows.Single(parent, row =>
            {
                session.Rows.Sensor(row);
                session.Rows.StartReadings();
                while (child.Read())
                    session.Rows.Single(child, session.Rows.Reading);
                session.Rows.Json.WriteEndArray();
            });
            session.Rows.End();
            return default;
        });
        Get("/readings", async (context, session) =>
        {
            using var row = session.Read(Statements.Readings, context.Number("after"), context.Number("rows"));
            await ListAsync(context, session, row, session.Rows.Reading);
        });
        Get("/readings-csv", async (context, session) =>
        {
            using var row = session.Read(Statements.Readings, context.Number("after"), context.Number("rows"));
            await CsvRows.SendAsync(context.Response, row, hasTimesAsText: true, isAsynchronous: false);
        });
        Get("/qualities", async (context, session) =>
        {
            using var row = session.Read(Statements.Qualities);
            await ListAsync(context, session, row, session.Rows.Quality);
        });
    }

    /// <summary>One writer, since SQLite takes one at a time.</summary>
    public static void MapWrites(WebApplication app, string root, string file)
    {
        var sessions = new SessionPool<SqliteSession>(() => new SqliteSession($"Data Source={file};Foreign Keys=True"), 1);
        app.MapPost(root + "/reading", async (HttpContext context) =>
        {
            using var body = await SentReading.ParseAsync(context.Request);
            await sessions.UseAsync((context, body), static (state, session) =>
            {
                var reading = SentReading.Of(state.body.RootElement);
                var id = (long)session.Command(Statements.Insert, reading.AsText()).ExecuteScalar()!;
                reading.Answer(state.context.Response, session.Rows, id);
                return default;
            });
        });
        app.MapPost(root + "/readings", async (HttpContext context) =>
        {
            using var body = await SentReading.ParseAsync(context.Request);
            await sessions.UseAsync((context, body), static (state, session) =>
            {
                using var transaction = session.Begin();
                session.Rows.Start(state.context.Response);
                session.Rows.Json.WriteStartArray();
                foreach (var item in state.body.RootElement.EnumerateArray())
                {
                    var command = session.Command(Statements.Insert, SentReading.Of(item).AsText());
                    command.Transaction = transaction;
                    session.Rows.Json.WriteNumberValue((long)command.ExecuteScalar()!);
                    command.Transaction = null;
                }
                transaction.Commit();
                session.Rows.Json.WriteEndArray();
                session.Rows.End();
                return default;
            });
        });
        app.MapPost(root + "/file", async (HttpContext context) =>
        {
            using var lines = new StreamReader(context.Request.Body);
            await sessions.UseAsync(lines, static async (lines, session) =>
            {
                using var transaction = session.Begin();
                while (await lines.ReadLineAsync() is { } line)
                {
                    using var item = System.Text.Json.JsonDocument.Parse(line);
                    var command = session.Command(Statements.Insert, SentReading.Of(item.RootElement).AsText());
                    command.Transaction = transaction;
                    command.ExecuteScalar();
                    command.Transaction = null;
                }
                transaction.Commit();
            });
        });
    }

    private static async ValueTask ListAsync(
        HttpContext context,
        SqliteSession session,
        SqliteDataReader row,
        Action<System.Data.Common.DbDataReader> columns,
        long? count = null
    )
    {
        session.Rows.StartList(count);
        while (row.Read())
        {
            session.Rows.Single(row, columns);
            if (session.Rows.IsPieceFull)
                await session.Rows.SendPieceAsync(context.Response);
        }
        session.Rows.EndList();
        session.Rows.End();
    }
}
