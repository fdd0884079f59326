using System.Text.Json;
using Microsoft.AspNetCore.Http;

namespace RapidGable.Service.Management;

/// <summary>Bodies of the management interface: bounded, JSON, and without nulls where a list is to hold something.</summary>
internal static class ManagementBody
{
    /// <summary>Bytes of a body; texts of a workspace are among them.</summary>
    public const int MostBytes = 8 * 1024 * 1024;

    /// <exception cref="JsonException">When the body is no such object.</exception>
    /// <exception cref="BadHttpRequestException">413, when it is larger than it may be.</exception>
    public static async Task<T> ReadAsync<T>(HttpContext context, JsonSerializerOptions options, int most = MostBytes)
        where T : class
    {
        using var whole = new MemoryStream();
        var chunk = new byte[16 * 1024];
        int count;
        while ((count = await context.Request.Body.ReadAsync(chunk, context.RequestAborted)) > 0)
        {
            whole.Write(chunk, 0, count);
            if (whole.Length > most)
                throw new BadHttpRequestException($"The body is larger than {most} bytes.", StatusCodes.Status413PayloadTooLarge);
        }
        using var document = JsonDocument.Parse(whole.GetBuffer().AsMemory(0, (int)whole.Length));
        Check(document.RootElement);
        return document.RootElement.Deserialize<T>(options) ?? throw new JsonException("The body is null.");
    }

    private static void Check(JsonElement value)
    {
        switch (value.ValueKind)
        {
            case JsonValueKind.Array:
                foreach (var item in value.EnumerateArray())
                {
                    if (item.ValueKind == JsonValueKind.Null)
                        throw new JsonException("A list holds null.");
                    Check(item);
                }
                break;
            case JsonValueKind.Object:
                // What stands under 'value' becomes a part of a file, and may be anything.
                foreach (var member in value.EnumerateObject().Where(m => m.Name != "value"))
                    Check(member.Value);
                break;
        }
    }
}
