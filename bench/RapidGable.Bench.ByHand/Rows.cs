using System.Buffers;
using System.Data.Common;
using System.Globalization;
using System.Text.Encodings.Web;
using System.Text.Json;

namespace RapidGable.Bench.ByHand;

/// <summary>
/// One kept JSON writer over the response's pipe, which is sent in pieces of 32 KB, and the columns of the tables with names that are
/// encoded once.
/// </summary>
internal sealed class Rows
{
    private const int Piece = 32_768;

    private static readonly JsonWriterOptions Options = new()
    {
        Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
        SkipValidation = true,
    };
    private static readonly JsonEncodedText Count = JsonEncodedText.Encode("@odata.count");
    private static readonly JsonEncodedText Value = JsonEncodedText.Encode("value");
    private static readonly JsonEncodedText[] StationNames = Encoded(
        "id code name catchment_id latitude longitude opened_on closed_on telemetered datum_m access_notes changed_at"
    );
    private static readonly JsonEncodedText[] SummaryNames = Encoded("code name closed_on last_reading_at sensors");
    private static readonly JsonEncodedText[] CatchmentNames = Encoded("id name parent_id area_km2");
    private static readonly JsonEncodedText[] SensorNames = Encoded("station_id sensor_no kind unit installed_at firmware settings");
    private static readonly JsonEncodedText[] ReadingNames = Encoded("id station_id sensor_no taken_at value quality note");
    private static readonly JsonEncodedText[] QualityNames = Encoded("quality mean n");
    private static readonly JsonEncodedText Catchment = JsonEncodedText.Encode("catchment");
    private static readonly JsonEncodedText Sensors = JsonEncodedText.Encode("Sensors");
    private static readonly JsonEncodedText Readings = JsonEncodedText.Encode("Readings");

    private readonly Utf8JsonWriter _json = new(new ArrayBufferWriter<byte>(1), Options);
    private readonly bool _hasTimesAsText;

    /// <param name="hasTimesAsText">Whether the engine keeps dates and times as ISO text.</param>
    public Rows(bool hasTimesAsText) => _hasTimesAsText = hasTimesAsText;

    public Utf8JsonWriter Json => _json;

    public void Start(HttpResponse response)
    {
        response.ContentType = "application/json";
        _json.Reset(response.BodyWriter);
    }

    public void Single(DbDataReader row, Action<DbDataReader> columns)
    {
        _json.WriteStartObject();
        columns(row);
        _json.WriteEndObject();
    }

    public void StartList(long? count = null)
    {
        _json.WriteStartObject();
        if (count is { } number)
            _json.WriteNumber(Count, number);
        _json.WriteStartArray(Value);
    }

    public void EndList()
    {
        _json.WriteEndArray();
        _json.WriteEndObject();
    }

    public bool IsPieceFull => _json.BytesPending > Piece;

    public async ValueTask SendPieceAsync(HttpResponse response)
    {
        _json.Flush();
        await response.BodyWriter.FlushAsync();
    }

    public void End() => _json.Flush();

    public void StartSensors() => _json.WriteStartArray(Sensors);

    public void StartReadings() => _json.WriteStartArray(Readings);

    public void Station(DbDataReader row)
    {
        _json.WriteNumber(StationNames[0], row.GetInt64(0));
        _json.WriteString(StationNames[1], row.GetString(1));
        _json.WriteString(StationNames[2], row.GetString(2));
        _json.WriteNumber(StationNames[3], row.GetInt64(3));
        _json.WriteNumber(StationNames[4], row.GetDouble(4));
        _json.WriteNumber(StationNames[5], row.GetDouble(5));
        Day(StationNames[6], row, 6);
        Day(StationNames[7], row, 7);
        _json.WriteBoolean(StationNames[8], row.GetBoolean(8));
        Number(StationNames[9], row, 9);
        Text(StationNames[10], row, 10);
        Moment(StationNames[11], row, 11);
    }

    public void Summary(DbDataReader row)
    {
        _json.WriteString(SummaryNames[0], row.GetString(0));
        _json.WriteString(SummaryNames[1], row.GetString(1));
        Day(SummaryNames[2], row, 2);
        Moment(SummaryNames[3], row, 3);
        _json.WriteNumber(SummaryNames[4], row.GetInt64(4));
    }

    public void StationWithCatchment(DbDataReader row)
    {
        Station(row);
        _json.WriteStartObject(Catchment);
        _json.WriteNumber(CatchmentNames[0], row.GetInt64(12));
        _json.WriteString(CatchmentNames[1], row.GetString(13));
        if (row.IsDBNull(14))
            _json.WriteNull(CatchmentNames[2]);
        else
            _json.WriteNumber(CatchmentNames[2], row.GetInt64(14));
        Number(CatchmentNames[3], row, 15);
        _json.WriteEndObject();
    }

    public void Sensor(DbDataReader row)
    {
        _json.WriteNumber(SensorNames[0], row.GetInt64(0));
        _json.WriteNumber(SensorNames[1], row.GetInt64(1));
        _json.WriteString(SensorNames[2], row.GetString(2));
        _json.WriteString(SensorNames[3], row.GetString(3));
        Moment(SensorNames[4], row, 4);
        Text(SensorNames[5], row, 5);
        Text(SensorNames[6], row, 6);
    }

    public void Reading(DbDataReader row)
    {
        _json.WriteNumber(ReadingNames[0], row.GetInt64(0));
        _json.WriteNumber(ReadingNames[1], row.GetInt64(1));
        _json.WriteNumber(ReadingNames[2], row.GetInt64(2));
        Moment(ReadingNames[3], row, 3);
        Number(ReadingNames[4], row, 4);
        Text(ReadingNames[5], row, 5);
        Text(ReadingNames[6], row, 6);
    }

    public void Quality(DbDataReader row)
    {
        Text(QualityNames[0], row, 0);
        if (row.IsDBNull(1))
            _json.WriteNull(QualityNames[1]);
        else
            _json.WriteNumber(QualityNames[1], row.GetDouble(1));
        _json.WriteNumber(QualityNames[2], row.GetInt64(2));
    }

    private void Number(JsonEncodedText name, DbDataReader row, int column)
    {
        if (row.IsDBNull(column))
            _json.WriteNull(name);
        else if (_hasTimesAsText)
            _json.WriteNumber(name, row.GetDouble(column));
        else
            _json.WriteNumber(name, row.GetDecimal(column));
    }

    private void Day(JsonEncodedText name, DbDataReader row, int column)
    {
        if (_hasTimesAsText || row.IsDBNull(column))
        {
            Text(name, row, column);
            return;
        }
        Span<char> text = stackalloc char[10];
        row.GetFieldValue<DateOnly>(column).TryFormat(text, out _, "O", CultureInfo.InvariantCulture);
        _json.WriteString(name, text);
    }

    private void Moment(JsonEncodedText name, DbDataReader row, int column)
    {
        if (_hasTimesAsText || row.IsDBNull(column))
            Text(name, row, column);
        else
            _json.WriteString(name, row.GetDateTime(column));
    }

    private void Text(JsonEncodedText name, DbDataReader row, int column)
    {
        if (row.IsDBNull(column))
            _json.WriteNull(name);
        else
            _json.WriteString(name, row.GetString(column));
    }

    private static JsonEncodedText[] Encoded(string names) => [.. names.Split(' ').Select(n => JsonEncodedText.Encode(n))];
}
