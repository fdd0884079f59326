using System.Data.Common;
using System.Text.Json;
using Npgsql;
using NpgsqlTypes;

namespace RapidGable.Bench.ByHand;

/// <summary>A kept session of PostgreSQL: statements of one request go in one round trip, prepared at their first use.</summary>
internal sealed class PostgresSession
{
    private readonly NpgsqlConnection _connection;
    private readonly Dictionary<string, NpgsqlBatch> _batches = [];

    public PostgresSession(NpgsqlDataSource source) => _connection = source.OpenConnection();

    public NpgsqlConnection Connection => _connection;

    public Rows Rows { get; } = new(hasTimesAsText: false);

    /// <param name="name">What the statements are kept under.</param>
    /// <param name="make">Makes them, with typed parameters; every one takes the same values.</param>
    public async ValueTask<NpgsqlDataReader> ReadAsync(string name, Func<NpgsqlBatch> make, params object?[] values)
    {
        if (!_batches.TryGetValue(name, out var batch))
        {
            batch = make();
            batch.Connection = _connection;
            _batches[name] = batch;
            Bind(batch, values);
            await batch.PrepareAsync();
        }
        Bind(batch, values);
        return await batch.ExecuteReaderAsync();
    }

    private static void Bind(NpgsqlBatch batch, object?[] values)
    {
        foreach (var command in batch.BatchCommands)
        {
            for (var i = 0; i < command.Parameters.Count; i++)
                command.Parameters[i].Value = values[i] ?? DBNull.Value;
        }
    }

    public static Func<NpgsqlBatch> Of(NpgsqlDbType[] types, params string[] statements) =>
        () =>
        {
            var batch = new NpgsqlBatch();
            foreach (var statement in statements)
            {
                var command = new NpgsqlBatchCommand(statement);
                foreach (var type in types)
                    command.Parameters.Add(new NpgsqlParameter { NpgsqlDbType = type });
                batch.BatchCommands.Add(command);
            }
            return batch;
        };
}

/// <summary>The routes over PostgreSQL.</summary>
internal static class PostgresByHand
{
    private static readonly NpgsqlDbType[] None = [];
    private static readonly NpgsqlDbType[] Number = [NpgsqlDbType.Bigint];
    private static readonly NpgsqlDbType[] Text = [NpgsqlDbType.Text];
    private static readonly NpgsqlDbType[] Numbers = [NpgsqlDbType.Bigint, NpgsqlDbType.Bigint];
    private static readonly NpgsqlDbType[] FlagAndNumber = [NpgsqlDbType.Boolean, NpgsqlDbType.Bigint];
    private static readonly NpgsqlDbType[] ReadingTypes =
    [
        NpgsqlDbType.Bigint,
        NpgsqlDbType.Bigint,
        NpgsqlDbType.TimestampTz,
        NpgsqlDbType.Numeric,
        NpgsqlDbType.Text,
        NpgsqlDbType.Text,
    ];

    private const string InsertMany =
        "INSERT INTO reading (station_id, sensor_no, taken_at, value, quality, note)"
        + " SELECT * FROM unnest($1, $2, $3, $4, $5, $6) RETURNING id";

    private const string CopyIn = "COPY reading (station_id, sensor_no, taken_at, value, quality, note) FROM STDIN (FORMAT BINARY)";

    public static void Map(WebApplication app, string root, SessionPool<PostgresSession> sessions)
    {
        void Get(string path, Func<HttpContext, PostgresSession, ValueTask> answer) =>
            app.MapGet(root + path, (HttpContext context) => sessions
                    .UseAsync((context, answer), static (state, session) =>
                    {
                        session.Rows.Start(state.context.Response);
                        return state.answer(state.context, session);
                    })
                    .AsTask());

        var station = PostgresSession.Of(Number, Statements.StationByKey);
        Get("/station/{id}", async (context, session) =>
        {
            await using var row = await session.ReadAsync("station", station, context.Number("id"));
            await row.ReadAsync();
            session.Rows.Single(row, session.Rows.Station);
            session.Rows.End();
        });
        var summary = PostgresSession.Of(Text, Statements.Summary);
        Get("/summary", async (context, session) =>
        {
            await using var row = await session.ReadAsync("summary", summary, context.Text("station"));
            await row.ReadAsync();
            session.Rows.Single(row, session.Rows.Summary);
            session.Rows.End();
        });
        var stations = PostgresSession.Of(FlagAndNumber, Statements.CountStations, Statements.FilteredStations);
        Get("/stations", async (context, session) =>
        {
            await using var row = await session.ReadAsync("stations", stations, context.Flag("on"), context.Number("after"));
            await row.ReadAsync();
            var count = row.GetInt64(0);
            await row.NextResultAsync();
            await ListAsync(context, session, row, session.Rows.Station, count);
        });
        var withCatchment = PostgresSession.Of(Number, Statements.StationsWithCatchment);
        Get("/stations-with-catchment", async (context, session) =>
        {
            await using var row = await session.ReadAsync("with-catchment", withCatchment, context.Number("after"));
            await ListAsync(context, session, row, session.Rows.StationWithCatchment);
        });
        // The children come first and are kept as JSON by their parent.
        var withSensors = PostgresSession.Of(Number, Statements.SensorsOfFifty, Statements.FiftyStations);
        Get("/stations-with-sensors", async (context, session) =>
        {
            await using var row = await session.ReadAsync("with-sensors", withSensors, context.Number("after"));
            var children = await KeptChildren.ReadAsync(row);
            await row.NextResultAsync();
            await ListAsync(context, session, row, parent => children.WriteStation(session.Rows, parent));
        });
        var withNewest = PostgresSession.Of(Numbers, Statements.SensorByKey, Statements.NewestReadings);
        Get("/sensor-with-newest", async (context, session) =>
        {
            var rows = session.Rows;
            await using var row = await session.ReadAsync("newest", withNewest, context.Number("station"), context.Number("sensor"));
            await row.ReadAsync();
            rows.Json.WriteStartObject();
            rows.Sensor(row);
            rows.StartReadings();
            await row.NextResultAsync();
            while (await row.ReadAsync())
                rows.Single(row, rows.Reading);
            rows.Json.WriteEndArray();
            rows.Json.WriteEndObject();
            rows.End();
        });
        var readings = PostgresSession.Of(Numbers, Statements.Readings);
        Get("/readings", async (context, session) =>
        {
            await using var row = await session.ReadAsync("readings", readings, context.Number("after"), context.Number("rows"));
            await ListAsync(context, session, row, session.Rows.Reading);
        });
        Get("/readings-csv", async (context, session) =>
        {
            await using var row = await session.ReadAsync("readings", readings, context.Number("after"), context.Number("rows"));
            await CsvRows.SendAsync(context.Response, row, hasTimesAsText: false, isAsynchronous: true);
        });
        var qualities = PostgresSession.Of(None, Statements.Qualities);
        Get("/qualities", async (context, session) =>
        {
            await using var row = await session.ReadAsync("qualities", qualities);
            await ListAsync(context, session, row, session.Rows.Quality);
        });
    }

    public static void MapWrites(WebApplication app, string root, SessionPool<PostgresSession> sessions)
    {
        var insert = PostgresSession.Of(ReadingTypes, Statements.Insert);
        var insertMany = PostgresSession.Of([.. ReadingTypes.Select(t => t | NpgsqlDbType.Array)], InsertMany);
        app.MapPost(root + "/reading", async (HttpContext context) =>
        {
            using var body = await SentReading.ParseAsync(context.Request);
            await sessions.UseAsync((context, body, insert), static async (state, session) =>
            {
                var reading = SentReading.Of(state.body.RootElement);
                await using var row = await session.ReadAsync("insert", state.insert, reading.AsValues());
                await row.ReadAsync();
                reading.Answer(state.context.Response, session.Rows, row.GetInt64(0));
            });
        });
        app.MapPost(root + "/readings", async (HttpContext context) =>
        {
            using var body = await SentReading.ParseAsync(context.Request);
            await sessions.UseAsync((context, body, insertMany), static async (state, session) =>
            {
                var columns = SentReading.AsColumns([.. state.body.RootElement.EnumerateArray().Select(SentReading.Of)]);
                await using var row = await session.ReadAsync("insert-many", state.insertMany, columns);
                session.Rows.Start(state.context.Response);
                session.Rows.Json.WriteStartArray();
                while (await row.ReadAsync())
                    session.Rows.Json.WriteNumberValue(row.GetInt64(0));
                session.Rows.Json.WriteEndArray();
                session.Rows.End();
            });
        });
        app.MapPost(root + "/file", async (HttpContext context) =>
        {
            using var lines = new StreamReader(context.Request.Body);
            await sessions.UseAsync(lines, static async (lines, session) =>
            {
                await using var copy = await session.Connection.BeginBinaryImportAsync(CopyIn);
                while (await lines.ReadLineAsync() is { } line)
                {
                    using var item = JsonDocument.Parse(line);
                    var reading = SentReading.Of(item.RootElement);
                    await copy.StartRowAsync();
                    await copy.WriteAsync(reading.Station, NpgsqlDbType.Bigint);
                    await copy.WriteAsync(reading.Sensor, NpgsqlDbType.Bigint);
                    await copy.WriteAsync(reading.TakenAt, NpgsqlDbType.TimestampTz);
                    await copy.WriteAsync(reading.Value, NpgsqlDbType.Numeric);
                    await copy.WriteAsync(reading.Quality, NpgsqlDbType.Text);
                    await copy.WriteAsync(reading.Note, NpgsqlDbType.Text);
                }
                await copy.CompleteAsync();
            });
        });
    }

    private static async ValueTask ListAsync(
        HttpContext context,
        PostgresSession session,
        NpgsqlDataReader row,
        Action<DbDataReader> columns,
        long? count = null
    )
    {
        session.Rows.StartList(count);
        while (await row.ReadAsync())
        {
            session.Rows.Single(row, columns);
            if (session.Rows.IsPieceFull)
                await session.Rows.SendPieceAsync(context.Response);
        }
        session.Rows.EndList();
        session.Rows.End();
    }
}
