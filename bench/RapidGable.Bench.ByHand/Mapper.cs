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

internal sealed class MappedSummary
{
    public string code { get; set; } = "";
    public string name { get; set; } = "";
    public string? closed_on { get; set; }
    public string? last_reading_at { get; set; }
    public long sensors { get; set; }
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
    public List<MappedReading>? Readings { get; set; }
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
    private const string StationColumns =
        "s.id, s.code, s.name, s.catchment_id, s.latitude, s.longitude, CAST(s.opened_on AS TEXT) AS opened_on,"
        + " CAST(s.closed_on AS TEXT) AS closed_on, s.telemetered, CAST(s.datum_m AS DOUBLE PRECISION) AS datum_m, s.access_notes,"
        + " CAST(s.changed_at AS TEXT) AS changed_at";
    private const string Stations = $"SELECT {StationColumns} FROM station s";
    private const string Summary =
        "SELECT s.code, s.name, CAST(s.closed_on AS TEXT) AS closed_on, CAST(r.taken_at AS TEXT) AS last_reading_at,"
        + " (SELECT COUNT(*) FROM sensor n WHERE n.station_id = s.id) AS sensors FROM station s LEFT JOIN reading r ON r.id ="
        + " (SELECT x.id FROM reading x WHERE x.station_id = s.id ORDER BY x.taken_at DESC, x.id DESC LIMIT 1) WHERE s.code = @station";
    private const string WithCatchment =
        $"SELECT {StationColumns}, k.id, k.name, k.parent_id, CAST(k.area_km2 AS DOUBLE PRECISION) AS area_km2"
        + " FROM station s LEFT JOIN catchment k ON k.id = s.catchment_id WHERE s.id > @after ORDER BY s.id LIMIT 100";
    private const string Sensors =
        "SELECT n.station_id, n.sensor_no, n.kind, n.unit, CAST(n.installed_at AS TEXT) AS installed_at, n.firmware,"
        + " CAST(n.settings AS TEXT) AS settings FROM sensor n";
    private const string SensorsOfFifty =
        Sensors
        + " JOIN (SELECT id FROM station WHERE id > @after ORDER BY id LIMIT 50) s ON s.id = n.station_id ORDER BY "
        + "n.station_id, n.sensor_no";
    private const string Readings =
        "SELECT id, station_id, sensor_no, CAST(taken_at AS TEXT) AS taken_at, CAST(value AS DOUBLE PRECISION) AS value, "
        + "quality, note FROM reading r";

    public static void Map(WebApplication app, string root, Func<DbConnection> connect)
    {
        app.MapGet(root + "/station/{id}", async (long id) =>
        {
            await using var connection = connect();
            return Results.Json(await connection.QuerySingleAsync<MappedStation>(Stations + " WHERE s.id = @id", new { id }));
        });
        app.MapGet(root + "/summary", async (string station) =>
        {
            await using var connection = connect();
            return Results.Json(await connection.QuerySingleAsync<MappedSummary>(Summary, new { station }));
        });
        app.MapGet(root + "/stations", async (bool on, long after) =>
        {
            await using var connection = connect();
            const string Where = " WHERE s.telemetered = @on AND s.id > @after";
            var count = await connection.ExecuteScalarAsync<long>("SELECT COUNT(*) FROM station s" + Where, new { on, after });
            var found = await connection.QueryAsync<MappedStation>(
                Stations + Where + " ORDER BY s.name, s.id LIMIT 100",
                new { on, after }
            );
            return Results.Json(new { count, value = found });
        });
        app.MapGet(root + "/stations-with-catchment", async (long after) =>
        {
            await using var connection = connect();
            var found = await connection.QueryAsync<MappedStation, MappedCatchment, MappedStation>(
                WithCatchment,
                (s, k) =>
                {
                    s.catchment = k;
                    return s;
                },
                new { after }
            );
            return Results.Json(new { value = found });
        });
        app.MapGet(root + "/stations-with-sensors", async (long after) =>
        {
            await using var connection = connect();
            var stations = (
                await connection.QueryAsync<MappedStation>(Stations + " WHERE s.id > @after ORDER BY s.id LIMIT 50", new { after })
            ).ToList();
            var sensors = (await connection.QueryAsync<MappedSensor>(SensorsOfFifty, new { after })).ToLookup(s => s.station_id);
            foreach (var station in stations)
                station.Sensors = [.. sensors[station.id]];
            return Results.Json(new { value = stations });
        });
        app.MapGet(root + "/sensor-with-newest", async (long station, long sensor) =>
        {
            await using var connection = connect();
            var found = await connection.QuerySingleAsync<MappedSensor>(
                Sensors + " WHERE n.station_id = @station AND n.sensor_no = @sensor",
                new { station, sensor }
            );
            found.Readings = (
                await connection.QueryAsync<MappedReading>(
                    Readings + " WHERE r.station_id = @station AND r.sensor_no = @sensor ORDER BY r.taken_at DESC, r.id LIMIT 50",
                    new { station, sensor }
                )
            ).ToList();
            return Results.Json(found);
        });
        app.MapGet(root + "/readings", async (long after, int rows) =>
        {
            await using var connection = connect();
            return Results.Json(
                new
                {
                    value = await connection.QueryAsync<MappedReading>(
                        Readings + " WHERE id > @after ORDER BY id LIMIT @rows",
                        new { after, rows }
                    ),
                }
            );
        });
        app.MapGet(root + "/readings-csv", async (HttpContext context, long after, int rows) =>
        {
            await using var connection = connect();
            var page = Readings + " WHERE id > @after ORDER BY id LIMIT @rows";
            await CsvRows.SendAsync(context.Response, await connection.QueryAsync<MappedReading>(page, new { after, rows }));
        });
        app.MapGet(root + "/qualities", async () =>
        {
            await using var connection = connect();
            return Results.Json(
                new
                {
                    value = await connection.QueryAsync<MappedQuality>(
                        "SELECT quality, AVG(CAST(value AS DOUBLE PRECISION)) AS mean, COUNT(*) AS n FROM reading GROUP BY "
                            + "quality ORDER BY quality"
                    ),
                }
            );
        });
    }
}
