using System.Buffers;
using System.Buffers.Text;
using System.Data.Common;
using System.Globalization;
using System.IO.Pipelines;
using System.Text;
using CsvHelper;

namespace RapidGable.Bench.ByHand;

/// <summary>Readings as CSV: by hand into the response's pipe, in pieces of 32 KB, and by a library from objects.</summary>
internal static class CsvRows
{
    private const int Piece = 32_768;
    private static readonly SearchValues<byte> Quoted = SearchValues.Create(",\"\r\n"u8);

    /// <param name="hasTimesAsText">Whether the engine keeps times as ISO text.</param>
    public static async ValueTask SendAsync(HttpResponse response, DbDataReader row, bool hasTimesAsText, bool isAsynchronous)
    {
        response.ContentType = "text/csv";
        var pipe = response.BodyWriter;
        pipe.Write("id,station_id,sensor_no,taken_at,value,quality,note\r\n"u8);
        while (isAsynchronous ? await row.ReadAsync() : row.Read())
        {
            Write(pipe, row, hasTimesAsText);
            if (pipe.UnflushedBytes > Piece)
                await pipe.FlushAsync();
        }
        await pipe.FlushAsync();
    }

    /// <summary>What a mapper gives, by a library.</summary>
    public static async Task SendAsync<T>(HttpResponse response, IEnumerable<T> rows)
    {
        response.ContentType = "text/csv";
        await using var text = new StreamWriter(response.Body, new UTF8Encoding(false));
        await using var csv = new CsvWriter(text, CultureInfo.InvariantCulture);
        await csv.WriteRecordsAsync(rows);
    }

    private static void Write(PipeWriter pipe, DbDataReader row, bool hasTimesAsText)
    {
        for (var column = 0; column < 3; column++)
        {
            Utf8Formatter.TryFormat(row.GetInt64(column), pipe.GetSpan(20), out var written);
            pipe.Advance(written);
            pipe.Write(","u8);
        }
        if (hasTimesAsText)
            Text(pipe, row, 3);
        else
        {
            row.GetDateTime(3).TryFormat(pipe.GetSpan(40), out var written, "yyyy-MM-ddTHH:mm:ss.fffZ", CultureInfo.InvariantCulture);
            pipe.Advance(written);
        }
        pipe.Write(","u8);
        if (!row.IsDBNull(4))
        {
            pipe.Advance(Number(pipe.GetSpan(40), row, hasTimesAsText));
        }
        pipe.Write(","u8);
        Text(pipe, row, 5);
        pipe.Write(","u8);
        Text(pipe, row, 6);
        pipe.Write("\r\n"u8);
    }

    private static int Number(Span<byte> text, DbDataReader row, bool isDouble)
    {
        int length;
        if (isDouble)
            row.GetDouble(4).TryFormat(text, out length, provider: CultureInfo.InvariantCulture);
        else
            row.GetDecimal(4).TryFormat(text, out length, provider: CultureInfo.InvariantCulture);
        return length;
    }

    private static void Text(PipeWriter pipe, DbDataReader row, int column)
    {
        if (row.IsDBNull(column))
            return;
        var text = row.GetString(column);
        var length = Encoding.UTF8.GetBytes(text, pipe.GetSpan(Encoding.UTF8.GetMaxByteCount(text.Length)));
        if (length > 0 && pipe.GetSpan(length)[..length].IndexOfAny(Quoted) < 0)
            pipe.Advance(length);
        else
            pipe.Write(Encoding.UTF8.GetBytes($"\"{text.Replace("\"", "\"\"", StringComparison.Ordinal)}\""));
    }
}
