using System.Data.Common;
using System.Text.Json;

namespace RapidGable.Bench.ByHand;

/// <summary>The reader's values go straight into the JSON writer.</summary>
internal static class Floor
{
    private const string StationColumns = "s.id, s.code, s.name, s.catchment_id, s.latitude, s.longitude, s.opened_on, s.closed_on, s.telemetered, s.datum_m, s.access_notes, s.changed_at";
    private const string ReadingColumns = "id, station_id, sensor_no, taken_at, value, quality, note";

    public static void Map(WebApplication app, string root, Func<DbConnection> connect)
    {
        app.MapGet(root + "/station/{id}", (HttpContext c, long id) => RunAsync(c, connect, $"SELECT {StationColumns} FROM station s WHERE s.id = @a", [id], async (json, row) =>
        {
            await row.ReadAsync();
            json.WriteStartObject();
            Station(json, row, 0);
            json.WriteEndObject();
        }));
        app.MapGet(root + "/stations", (HttpContext c) => RunAsync(c, connect, "SELECT COUNT(*) FROM station WHERE telemetered = @a", [true], async (json, count) =>
        {
            await count.ReadAsync();
            json.WriteStartObject();
            json.WriteNumber("@odata.count", count.GetInt64(0));
            await count.DisposeAsync();
            await using var connection = connect();
            await connection.OpenAsync();
            await using var command = Command(connection, $"SELECT {StationColumns} FROM station s WHERE s.telemetered = @a ORDER BY s.name, s.id LIMIT 100", [true]);
            await using var row = await command.ExecuteReaderAsync();
            await ListAsync(c, json, row, r => Station(json, r, 0));
            json.WriteEndObject();
        }));
        app.MapGet(root + "/stations-with-catchment", (HttpContext c) => RunAsync(c, connect, $"SELECT {StationColumns}, k.id, k.name, k.parent_id, k.area_km2 FROM station s LEFT JOIN catchment k ON k.id = s.catchment_id ORDER BY s.id LIMIT 100", [], async (json, row) =>
        {
            json.WriteStartObject();
            await ListAsync(c, json, row, r =>
            {
                Station(json, r, 0);
                json.WriteStartObject("catchment");
                json.WriteNumber("id", r.GetInt64(12));
                json.WriteString("name", r.GetString(13));
                if (r.IsDBNull(14))
                    json.WriteNull("parent_id");
                else
                    json.WriteNumber("parent_id", r.GetInt64(14));
                json.WriteNumber("area_km2", r.GetDecimal(15));
                json.WriteEndObject();
            });
            json.WriteEndObject();
        }));
        app.MapGet(root + "/stations-with-sensors", async (HttpContext c) =>
        {
            await using var connection = connect();
            await connection.OpenAsync();
            await using var inner = Command(connection, "SELECT n.station_id, n.sensor_no, n.kind, n.unit, n.installed_at, n.firmware, n.settings FROM sensor n JOIN (SELECT id FROM station ORDER BY id LIMIT 50) s ON s.id = n.station_id ORDER BY n.station_id, n.sensor_no", []);
            var sensors = new Dictionary<long, List<object?[]>>();
            await using (var row = await inner.ExecuteReaderAsync())
            {
                while (await row.ReadAsync())
                {
                    var values = new object?[7];
                    row.GetValues(values!);
                    if (!sensors.TryGetValue(row.GetInt64(0), out var list))
                        sensors[row.GetInt64(0)] = list = [];
                    list.Add(values);
                }
            }
            await RunAsync(c, connect, $"SELECT {StationColumns} FROM station s ORDER BY s.id LIMIT 50", [], async (json, row) =>
            {
                json.WriteStartObject();
                await ListAsync(c, json, row, r =>
                {
                    Station(json, r, 0);
                    json.WriteStartArray("Sensors");
                    foreach (var sensor in sensors.GetValueOrDefault(r.GetInt64(0), []))
                    {
                        json.WriteStartObject();
                        json.WriteNumber("station_id", Convert.ToInt64(sensor[0]));
                        json.WriteNumber("sensor_no", Convert.ToInt64(sensor[1]));
                        json.WriteString("kind", (string)sensor[2]!);
                        json.WriteString("unit", (string)sensor[3]!);
                        json.WriteString("installed_at", sensor[4] is DateTime at ? at.ToString("O") : sensor[4]!.ToString());
                        json.WriteString("firmware", sensor[5] as string);
                        json.WriteString("settings", sensor[6] as string);
                        json.WriteEndObject();
                    }
                    json.WriteEndArray();
                });
                json.WriteEndObject();
            });
        });
        app.MapGet(root + "/readings", (HttpContext c, long after, int rows) => RunAsync(c, connect, $"SELECT {ReadingColumns} FROM reading WHERE id > @a ORDER BY id LIMIT @b", [after, rows], async (json, row) =>
        {
            json.WriteStartObject();
            await ListAsync(c, json, row, r => Reading(json, r));
            json.WriteEndObject();
        }));
        app.MapGet(root + "/qualities", (HttpContext c) => RunAsync(c, connect, "SELECT quality, AVG(CAST(value AS DOUBLE PRECISION)), COUNT(*) FROM reading GROUP BY quality ORDER BY quality", [], async (json, row) =>
        {
            json.WriteStartObject();
            await ListAsync(c, json, row, r =>
            {
                Text(json, "quality", r, 0);
                if (r.IsDBNull(1))
                    json.WriteNull("mean");
                else
                    json.WriteNumber("mean", r.GetDouble(1));
                json.WriteNumber("n", r.GetInt64(2));
            });
            json.WriteEndObject();
        }));
    }

    public static DbCommand Command(DbConnection connection, string sql, object[] values)
    {
        var command = connection.CreateCommand();
        command.CommandText = sql;
        for (var i = 0; i < values.Length; i++)
        {
            var parameter = command.CreateParameter();
            (parameter.ParameterName, parameter.Value) = ("@" + (char)('a' + i), values[i]);
            command.Parameters.Add(parameter);
        }
        return command;
    }

    private static async Task RunAsync(HttpContext context, Func<DbConnection> connect, string sql, object[] values, Func<Utf8JsonWriter, DbDataReader, Task> write)
    {
        context.Response.ContentType = "application/json";
        await using var connection = connect();
        await connection.OpenAsync();
        await using var command = Command(connection, sql, values);
        await using var reader = await command.ExecuteReaderAsync();
        await using var json = new Utf8JsonWriter(context.Response.BodyWriter);
        await write(json, reader);
    }

    private static async Task ListAsync(HttpContext context, Utf8JsonWriter json, DbDataReader row, Action<DbDataReader> write)
    {
        json.WriteStartArray("value");
        while (await row.ReadAsync())
        {
            json.WriteStartObject();
            write(row);
            json.WriteEndObject();
            if (json.BytesPending <= 32_768)
                continue;
            json.Flush();
            await context.Response.BodyWriter.FlushAsync();
        }
        json.WriteEndArray();
    }

    private static void Station(Utf8JsonWriter json, DbDataReader row, int at)
    {
        json.WriteNumber("id", row.GetInt64(at));
        json.WriteString("code", row.GetString(at + 1));
        json.WriteString("name", row.GetString(at + 2));
        json.WriteNumber("catchment_id", row.GetInt64(at + 3));
        json.WriteNumber("latitude", row.GetDouble(at + 4));
        json.WriteNumber("longitude", row.GetDouble(at + 5));
        json.WriteString("opened_on", Day(row, at + 6));
        json.WriteString("closed_on", Day(row, at + 7));
        json.WriteBoolean("telemetered", row.GetBoolean(at + 8));
        json.WriteNumber("datum_m", row.GetDecimal(at + 9));
        Text(json, "access_notes", row, at + 10);
        json.WriteString("changed_at", Moment(row, at + 11));
    }

    private static void Reading(Utf8JsonWriter json, DbDataReader row)
    {
        json.WriteNumber("id", row.GetInt64(0));
        json.WriteNumber("station_id", row.GetInt64(1));
        json.WriteNumber("sensor_no", row.GetInt64(2));
        json.WriteString("taken_at", Moment(row, 3));
        if (row.IsDBNull(4))
            json.WriteNull("value");
        else
            json.WriteNumber("value", row.GetDecimal(4));
        Text(json, "quality", row, 5);
        Text(json, "note", row, 6);
    }

    private static string? Day(DbDataReader row, int column) => row.IsDBNull(column) ? null : row is Microsoft.Data.Sqlite.SqliteDataReader ? row.GetString(column) : row.GetFieldValue<DateOnly>(column).ToString("O");

    private static string Moment(DbDataReader row, int column) => row is Microsoft.Data.Sqlite.SqliteDataReader ? row.GetString(column) : row.GetDateTime(column).ToString("O");

    private static void Text(Utf8JsonWriter json, string name, DbDataReader row, int column)
    {
        if (row.IsDBNull(column))
            json.WriteNull(name);
        else
            json.WriteString(name, row.GetString(column));
    }
}
