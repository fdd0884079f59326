using System.Globalization;
using System.Text.Json;

namespace RapidGable.Bench.ByHand;

/// <summary>A reading that a client sends.</summary>
internal readonly record struct SentReading(long Station, long Sensor, DateTime TakenAt, decimal Value, string Quality, string Note)
{
    public static Task<JsonDocument> ParseAsync(HttpRequest request) => JsonDocument.ParseAsync(request.Body);

    public static SentReading Of(JsonElement item) =>
        new(
            item.GetProperty("station_id"u8).GetInt64(),
            item.GetProperty("sensor_no"u8).GetInt64(),
            item.GetProperty("taken_at"u8).GetDateTime(),
            item.GetProperty("value"u8).GetDecimal(),
            item.GetProperty("quality"u8).GetString()!,
            item.GetProperty("note"u8).GetString()!
        );

    public object?[] AsValues() => [Station, Sensor, TakenAt, Value, Quality, Note];

    /// <summary>With its time as the text that SQLite keeps.</summary>
    public object?[] AsText() =>
        [Station, Sensor, TakenAt.ToString("yyyy-MM-ddTHH:mm:ss.fffZ", CultureInfo.InvariantCulture), Value, Quality, Note];

    /// <summary>Many as one array for each column.</summary>
    public static object?[] AsColumns(SentReading[] all) =>
        [
            Array.ConvertAll(all, r => r.Station),
            Array.ConvertAll(all, r => r.Sensor),
            Array.ConvertAll(all, r => r.TakenAt),
            Array.ConvertAll(all, r => r.Value),
            Array.ConvertAll(all, r => r.Quality),
            Array.ConvertAll(all, r => r.Note),
        ];

    public void Answer(HttpResponse response, Rows rows, long id)
    {
        response.StatusCode = 201;
        response.Headers.Location = $"reading/{id}";
        rows.Start(response);
        rows.Json.WriteStartObject();
        rows.Json.WriteNumber("id"u8, id);
        rows.Json.WriteNumber("station_id"u8, Station);
        rows.Json.WriteNumber("sensor_no"u8, Sensor);
        rows.Json.WriteString("taken_at"u8, TakenAt);
        rows.Json.WriteNumber("value"u8, Value);
        rows.Json.WriteString("quality"u8, Quality);
        rows.Json.WriteString("note"u8, Note);
        rows.Json.WriteEndObject();
        rows.End();
    }
}
