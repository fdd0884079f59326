using System.Text.Json;
using System.Text.Json.Serialization;

namespace RapidGable.Clients.Fieldwork;

/// <summary>What the generated part leaves open: members that are not set are not sent, where null would take a value away.</summary>
public partial class FieldworkClient
{
    static partial void UpdateJsonSerializerSettings(JsonSerializerOptions settings) =>
        settings.DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull;
}
