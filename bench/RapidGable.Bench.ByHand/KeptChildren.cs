using System.Buffers;
using System.Data.Common;
using Npgsql;

namespace RapidGable.Bench.ByHand;

/// <summary>Sensors as JSON, written while they are read, with the place of each station's in it.</summary>
internal sealed class KeptChildren
{
    private readonly ArrayBufferWriter<byte> _bytes = new(16_384);
    private readonly Dictionary<long, Range> _places = [];

    public static async ValueTask<KeptChildren> ReadAsync(NpgsqlDataReader row)
    {
        var kept = new KeptChildren();
        var rows = new Rows(hasTimesAsText: false);
        rows.Json.Reset(kept._bytes);
        long? station = null;
        var start = 0;
        while (await row.ReadAsync())
        {
            if (row.GetInt64(0) != station)
            {
                kept.Close(rows, station, ref start);
                station = row.GetInt64(0);
                rows.Json.WriteStartArray();
            }
            rows.Single(row, rows.Sensor);
        }
        kept.Close(rows, station, ref start);
        return kept;
    }

    public void WriteStation(Rows rows, DbDataReader station)
    {
        rows.Station(station);
        rows.Json.WritePropertyName("Sensors");
        if (_places.TryGetValue(station.GetInt64(0), out var place))
            rows.Json.WriteRawValue(_bytes.WrittenSpan[place], skipInputValidation: true);
        else
            rows.Json.WriteRawValue("[]"u8, skipInputValidation: true);
    }

    private void Close(Rows rows, long? station, ref int start)
    {
        if (station is not { } id)
            return;
        rows.Json.WriteEndArray();
        rows.Json.Flush();
        _places[id] = start.._bytes.WrittenCount;
        start = _bytes.WrittenCount;
        rows.Json.Reset(_bytes);
    }
}
