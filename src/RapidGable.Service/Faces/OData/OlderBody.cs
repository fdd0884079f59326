using System.Text.Json;
using RapidGable.Expressions;

namespace RapidGable.Service.Faces.OData;

/// <summary>Bodies in the JSON of OData 1 to 3, which older clients send to whatever answers.</summary>
internal static class OlderBody
{
    /// <summary>What is wrong with a body of those versions; null = it is none of them.</summary>
    public static RequestFault? Fault(JsonElement body)
    {
        if (body.ValueKind != JsonValueKind.Object)
            return null;
        var isWrapped =
            body.TryGetProperty("d", out var inner)
            && inner.ValueKind is JsonValueKind.Object or JsonValueKind.Array
            && body.EnumerateObject().Count() == 1;
        var isVerbose = isWrapped || (body.TryGetProperty("__metadata", out var metadata) && metadata.ValueKind == JsonValueKind.Object);
        return !isVerbose
            ? null
            : new RequestFault(
                400,
                "older-version",
                "The body is verbose JSON of OData 2 or 3, with 'd' or '__metadata'. This address speaks 4.0 and 4.01, "
                    + "whose bodies hold the properties alone; set the client to version 4. Version 2 is not spoken here."
            );
    }
}
