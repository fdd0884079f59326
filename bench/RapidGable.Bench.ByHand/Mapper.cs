using System.Data.Common;
using Dapper;

namespace RapidGable.Bench.ByHand;

internal sealed class MappedStation
{
    public long id { get; set; }
    public string code { get; set; } = "";
    public string name { get; set; } = "";
    public long catchment_id { get; set; }
    public double latitude { get; set; }
    public double longitude { get; set; }
    public string opened_on { get; set; } = "";
    public string? closed_on { get; set; }
    public bool telemetered { get; set; }
    public double datum_m { get; set; }
    public string? access_notes { get; set; }
    public string changed_at { get; set; } = "";
    public MappedCatchment? catchment { get; set; }
    public List<MappedSensor>? Sensors { get; set; }
}

internal sealed class MappedCatchment
{
    public long id { get; set; }
    public string name { get; set; } = "";
    public long? parent_id { get; set; }
    public double area_km2 { get; set; }
}

internal sealed class MappedSensor
{
    public long station_id { get; set; }
    public long sensor_no { get; set; }
    public string kind { get; set; } = "";
    public string unit { get; set; } = "";
    public string installed_at { get; set; } = "";
    public string? firmware { get; set; }
    public string? settings { get; set; }
}

internal sealed class MappedReading
{
    public long id { get; set; }
    public long station_id { get; set; }
    public long sensor_no { get; set; }
    public string taken_at { get; set; } = "";
    public double? value { get; set; }
    public string? quality { get; set; }
    public string? note { get; set; }
}

internal sealed class MappedQuality
{
    public string? quality { get; set; }
    public double? mean { get; set; }
    public long n { get; set; }
}

/// <summary>A micro-mapper makes objects, and a serializer writes them.</summary>
internal static class Mapper
{
    private const string Stations = "SELECT s.id, s.code, s.name, s.catchment_id, s.latitude, s.longitude, CAST(s.opened_on AS TEXT) AS opened_on, CAST(s.closed_on AS TEXT) AS closed_on, s.telemetered, CAST(s.datum_m AS DOUBLE PRECISION) AS datum_m, s.access_notes, CAST(s.changed_at AS TEXT) AS changed_at FROM station s";

    public static void Map(WebApplication app, string root, Func<DbConnection> connect)
    {
        app.MapGet(root + "/station/{id}", async (long id) =>
        {
            await using var connection = connect();
            return Results.Json(await connection.QuerySingleAsync<MappedStation>(Stations + " WHERE s.id = @id", new { id }));
        });
        app.MapGet(root + "/stations", async () =>
        {
            await using var connection = connect();
            var count = await connection.ExecuteScalarAsync<long>("SELECT COUNT(*) FROM station WHERE telemetered = @on", new { on = true });
            return Results.Json(new { count, value = await connection.QueryAsync<MappedStation>(Stations + " WHERE s.telemetered = @on ORDER BY s.name, s.id LIMIT 100", new { on = true }) });
        });
        app.MapGet(root + "/stations-with-catchment", async () =>
        {
            await using var connection = connect();
            return Results.Json(new { value = await connection.QueryAsync<MappedStation, MappedCatchment, MappedStation>(Stations.Replace(" FROM station s", ", k.id, k.name, k.parent_id, CAST(k.area_km2 AS DOUBLE PRECISION) AS area_km2 FROM station s LEFT JOIN catchment k ON k.id = s.catchment_id") + " ORDER BY s.id LIMIT 100", (s, k) => { s.catchment = k; return s; }) });
        });
        app.MapGet(root + "/stations-with-sensors", async () =>
        {
            await using var connection = connect();
            var stations = (await connection.QueryAsync<MappedStation>(Stations + " ORDER BY s.id LIMIT 50")).ToList();
            var sensors = (await connection.QueryAsync<MappedSensor>("SELECT n.station_id, n.sensor_no, n.kind, n.unit, CAST(n.installed_at AS TEXT) AS installed_at, n.firmware, CAST(n.settings AS TEXT) AS settings FROM sensor n JOIN (SELECT id FROM station ORDER BY id LIMIT 50) s ON s.id = n.station_id ORDER BY n.station_id, n.sensor_no")).ToLookup(s => s.station_id);
            foreach (var station in stations)
                station.Sensors = [.. sensors[station.id]];
            return Results.Json(new { value = stations });
        });
        app.MapGet(root + "/readings", async (long after, int rows) =>
        {
            await using var connection = connect();
            return Results.Json(new { value = await connection.QueryAsync<MappedReading>("SELECT id, station_id, sensor_no, CAST(taken_at AS TEXT) AS taken_at, CAST(value AS DOUBLE PRECISION) AS value, quality, note FROM reading WHERE id > @after ORDER BY id LIMIT @rows", new { after, rows }) });
        });
        app.MapGet(root + "/qualities", async () =>
        {
            await using var connection = connect();
            return Results.Json(new { value = await connection.QueryAsync<MappedQuality>("SELECT quality, AVG(CAST(value AS DOUBLE PRECISION)) AS mean, COUNT(*) AS n FROM reading GROUP BY quality ORDER BY quality") });
        });
    }
}
