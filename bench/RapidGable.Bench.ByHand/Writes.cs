using System.Data.Common;
using System.Net.Http.Headers;
using Dapper;

namespace RapidGable.Bench.ByHand;

/// <summary>
/// Readings that are added by the two mappers: one with its row as the answer, or many in one transaction with their numbers.
/// </summary>
internal static class Writes
{
    public static void MapMapper(WebApplication app, string root, Func<DbConnection> connect, bool isSqlite)
    {
        var sql = isSqlite
            ? "INSERT INTO reading (station_id, sensor_no, taken_at, value, quality, note) VALUES (@station_id, @sensor_no, "
                + "@taken_at, @value, @quality, @note) RETURNING id"
            : "INSERT INTO reading (station_id, sensor_no, taken_at, value, quality, note) VALUES (@station_id, @sensor_no, "
                + "CAST(@taken_at AS timestamptz), @value, @quality, @note) RETURNING id";
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

    /// <summary>Sends the lines of a file to an address, so many in a request; 0 = all of them as they are in one.</summary>
    public static async Task SendAsync(string address, string file, int together)
    {
        using var client = new HttpClient { Timeout = TimeSpan.FromMinutes(5) };
        if (together == 0)
        {
            using var whole = new StreamContent(File.OpenRead(file));
            using var answer = await client.PostAsync(new Uri(address), whole);
            answer.EnsureSuccessStatusCode();
            return;
        }
        foreach (var lines in File.ReadLines(file).Chunk(together))
        {
            using var content = new StringContent($"[{string.Join(',', lines)}]", MediaTypeHeaderValue.Parse("application/json"));
            using var response = await client.PostAsync(new Uri(address), content);
            response.EnsureSuccessStatusCode();
        }
    }
}
