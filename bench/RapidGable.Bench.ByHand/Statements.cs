namespace RapidGable.Bench.ByHand;

/// <summary>The statements of both engines; parameters are $1, $2.</summary>
internal static class Statements
{
    private const string StationColumns =
        "s.id, s.code, s.name, s.catchment_id, s.latitude, s.longitude, s.opened_on, s.closed_on, s.telemetered, s.datum_m,"
        + " s.access_notes, s.changed_at";
    private const string SensorColumns = "n.station_id, n.sensor_no, n.kind, n.unit, n.installed_at, n.firmware, n.settings";
    private const string ReadingColumns = "r.id, r.station_id, r.sensor_no, r.taken_at, r.value, r.quality, r.note";

    public const string StationByKey = $"SELECT {StationColumns} FROM station s WHERE s.id = $1";
    public const string Summary =
        "SELECT s.code, s.name, s.closed_on, r.taken_at, (SELECT COUNT(*) FROM sensor n WHERE n.station_id = s.id) FROM station s"
        + " LEFT JOIN reading r ON r.id = (SELECT x.id FROM reading x WHERE x.station_id = s.id"
        + " ORDER BY x.taken_at DESC, x.id DESC LIMIT 1)"
        + " WHERE s.code = $1";
    public const string CountStations = "SELECT COUNT(*) FROM station s WHERE s.telemetered = $1 AND s.id > $2";
    public const string FilteredStations =
        $"SELECT {StationColumns} FROM station s WHERE s.telemetered = $1 AND s.id > $2 ORDER BY s.name, s.id LIMIT 100";
    public const string StationsWithCatchment =
        $"SELECT {StationColumns}, k.id, k.name, k.parent_id, k.area_km2 FROM station s LEFT JOIN catchment k ON k.id = s.catchment_id"
        + " WHERE s.id > $1 ORDER BY s.id LIMIT 100";
    public const string FiftyStations = $"SELECT {StationColumns} FROM station s WHERE s.id > $1 ORDER BY s.id LIMIT 50";
    public const string SensorsOfFifty =
        $"SELECT {SensorColumns} FROM sensor n WHERE n.station_id IN (SELECT s.id FROM station s WHERE s.id > $1 ORDER BY s.id LIMIT 50)"
        + " ORDER BY n.station_id, n.sensor_no";
    public const string SensorByKey = $"SELECT {SensorColumns} FROM sensor n WHERE n.station_id = $1 AND n.sensor_no = $2";
    public const string NewestReadings =
        $"SELECT {ReadingColumns} FROM reading r WHERE r.station_id = $1 AND r.sensor_no = $2 ORDER BY r.taken_at DESC, r.id LIMIT 50";
    public const string Readings = $"SELECT {ReadingColumns} FROM reading r WHERE r.id > $1 ORDER BY r.id LIMIT $2";
    public const string Qualities =
        "SELECT quality, AVG(CAST(value AS DOUBLE PRECISION)), COUNT(*) FROM reading GROUP BY quality ORDER BY quality";
    public const string Insert =
        "INSERT INTO reading (station_id, sensor_no, taken_at, value, quality, note) VALUES ($1, $2, $3, $4, $5, $6) RETURNING id";
}
