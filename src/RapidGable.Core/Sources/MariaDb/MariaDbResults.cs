using System.Globalization;
using System.Text;
using System.Text.Json;
using System.Xml;
using MySqlConnector;

namespace RapidGable.Sources.MariaDb;

/// <summary>All results of a procedure, each as the text of a JSON array with an object for each row.</summary>
internal static class MariaDbResults
{
    public static async Task<IReadOnlyList<string>> ReadAsync(
        MySqlDataReader reader,
        RequestAllowance request,
        CancellationToken cancellation
    )
    {
        var results = new List<string>();
        do
        {
            // The end of the call itself has no columns.
            if (reader.FieldCount > 0)
                results.Add(await ResultAsync(reader, request, cancellation));
        } while (await reader.NextResultAsync(cancellation));
        return results;
    }

    private static async Task<string> ResultAsync(MySqlDataReader reader, RequestAllowance request, CancellationToken cancellation)
    {
        var columns = reader.GetColumnSchema().Cast<MySqlDbColumn>().ToList();
        using var buffer = new MemoryStream();
        using var json = new Utf8JsonWriter(buffer);
        json.WriteStartArray();
        var held = 0L;
        while (await reader.ReadAsync(cancellation))
        {
            json.WriteStartObject();
            for (var i = 0; i < columns.Count; i++)
            {
                json.WritePropertyName(columns[i].ColumnName);
                Write(json, reader, i, columns[i].ProviderType);
            }
            json.WriteEndObject();
            await json.FlushAsync(cancellation);
            request.Take(buffer.Length - held);
            held = buffer.Length;
        }
        json.WriteEndArray();
        json.Flush();
        return Encoding.UTF8.GetString(buffer.GetBuffer(), 0, (int)buffer.Length);
    }

    private static void Write(Utf8JsonWriter json, MySqlDataReader reader, int column, MySqlDbType type)
    {
        if (reader.IsDBNull(column))
        {
            json.WriteNullValue();
            return;
        }
        switch (reader.GetValue(column))
        {
            case byte[] bytes:
                json.WriteStringValue(System.Buffers.Text.Base64Url.EncodeToString(bytes));
                break;
            case TimeSpan time:
                json.WriteStringValue(XmlConvert.ToString(time));
                break;
            case MySqlDateTime { IsValidDateTime: false }:
                json.WriteNullValue();
                break;
            case MySqlDateTime point:
                json.WriteStringValue(Text(point.GetDateTime(), type));
                break;
            case DateTime point:
                json.WriteStringValue(Text(point, type));
                break;
            case string text:
                json.WriteStringValue(text);
                break;
            case bool flag:
                json.WriteBooleanValue(flag);
                break;
            case Guid id:
                json.WriteStringValue(id);
                break;
            case var number:
                json.WriteRawValue(Convert.ToString(number, CultureInfo.InvariantCulture)!);
                break;
        }
    }

    private static string Text(DateTime point, MySqlDbType type) =>
        type is MySqlDbType.Date or MySqlDbType.Newdate
            ? point.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture)
            : point.ToString("yyyy-MM-ddTHH:mm:ss.FFFFFFZ", CultureInfo.InvariantCulture);
}
