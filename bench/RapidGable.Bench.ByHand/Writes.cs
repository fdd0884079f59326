using System.Data.Common;
using System.Globalization;
using System.Net.Http.Headers;
using System.Text.Json;
using Dapper;

namespace RapidGable.Bench.ByHand;

/// <summary>Readings that are added, in the three styles: one with its row as the answer, or many in one transaction with their numbers.</summary>
internal static class Writes
{
    private const string Insert = "INSERT INTO reading (station_id, sensor_no, taken_at, value, quality, note) VALUES (@a, @b, @c, @d, @e, @f) RETURNING id";

    public static void MapFloor(WebApplication app, string root, Func<DbConnection> connect, bool isSqlite)
    {
        app.MapPost(root + "/reading", async (HttpContext context) =>
        {
            using var body = await JsonDocument.ParseAsync(context.Request.Body);
            await using var connection = connect();
            await connection.OpenAsync();
            await using var command = Floor.Command(connection, Insert, Values(body.RootElement, isSqlite));
            var id = (long)(await command.ExecuteScalarAsync())!;
            context.Response.StatusCode = 201;
            context.Response.Headers.Location = $"{root}/reading/{id}";
            context.Response.ContentType = "application/json";
            await using var json = new Utf8JsonWriter(context.Response.BodyWriter);
            json.WriteStartObject();
            json.WriteNumber("id", id);
            foreach (var member in body.RootElement.EnumerateObject())
                member.WriteTo(json);
            json.WriteEndObject();
        });
        app.MapPost(root + "/readings", async (HttpContext context) =>
        {
            using var body = await JsonDocument.ParseAsync(context.Request.Body);
            await using var connection = connect();
            await connection.OpenAsync();
            await using var transaction = await connection.BeginTransactionAsync();
            var numbers = new List<long>();
            DbCommand? command = null;
            foreach (var item in body.RootElement.EnumerateArray())
            {
                var values = Values(item, isSqlite);
                if (command is null)
                {
                    command = Floor.Command(connection, Insert, values);
                    command.Transaction = transaction;
                }
                for (var i = 0; i < values.Length; i++)
                    command.Parameters[i].Value = values[i];
                numbers.Add((long)(await command.ExecuteScalarAsync())!);
            }
            await transaction.CommitAsync();
            await (command?.DisposeAsync() ?? default);
            return Results.Json(numbers);
        });
    }

    public static void MapMapper(WebApplication app, string root, Func<DbConnection> connect, bool isSqlite)
    {
        var sql = isSqlite ? "INSERT INTO reading (station_id, sensor_no, taken_at, value, quality, note) VALUES (@station_id, @sensor_no, @taken_at, @value, @quality, @note) RETURNING id"
            : "INSERT INTO reading (station_id, sensor_no, taken_at, value, quality, note) VALUES (@station_id, @sensor_no, CAST(@taken_at AS timestamptz), @value, @quality, @note) RETURNING id";
        app.MapPost(root + "/reading", async (MappedReading reading) =>
        {
            await using var connection = connect();
            reading.id = await connection.ExecuteScalarAsync<long>(sql, reading);
            return Results.Json(reading, statusCode: 201);
        });
        app.MapPost(root + "/readings", async (List<MappedReading> readings) =>
        {
            await using var connection = connect();
            await connection.OpenAsync();
            await using var transaction = await connection.BeginTransactionAsync();
            foreach (var reading in readings)
                reading.id = await connection.ExecuteScalarAsync<long>(sql, reading, transaction);
            await transaction.CommitAsync();
            return Results.Json(readings.Select(r => r.id));
        });
    }

    public static void MapOrm(WebApplication app, string root, Func<Network> open)
    {
        app.MapPost(root + "/reading", async (Reading reading) =>
        {
            await using var network = open();
            network.Add(reading);
            await network.SaveChangesAsync();
            return Results.Json(reading, statusCode: 201);
        });
        app.MapPost(root + "/readings", async (List<Reading> readings) =>
        {
            await using var network = open();
            network.AddRange(readings);
            await network.SaveChangesAsync();
            return Results.Json(readings.Select(r => r.id));
        });
    }

    /// <summary>Sends the lines of a file to an address, so many in a request.</summary>
    public static async Task SendAsync(string address, string file, int together)
    {
        using var client = new HttpClient();
        foreach (var lines in File.ReadLines(file).Chunk(together))
        {
            using var content = new StringContent($"[{string.Join(',', lines)}]", MediaTypeHeaderValue.Parse("application/json"));
            using var response = await client.PostAsync(new Uri(address), content);
            response.EnsureSuccessStatusCode();
        }
    }

    private static object[] Values(JsonElement item, bool isSqlite)
    {
        var at = item.GetProperty("taken_at").GetDateTime();
        return
        [
            item.GetProperty("station_id").GetInt64(), item.GetProperty("sensor_no").GetInt64(),
            isSqlite ? at.ToString("yyyy-MM-ddTHH:mm:ss.fffZ", CultureInfo.InvariantCulture) : at,
            item.GetProperty("value").GetDecimal(), item.GetProperty("quality").GetString()!, item.GetProperty("note").GetString()!,
        ];
    }
}
