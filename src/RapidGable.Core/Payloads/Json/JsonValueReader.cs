using System.Globalization;
using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using RapidGable.Changes;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Payloads.Json;

/// <summary>
/// JSON values -> published values of a type (JSON format 7). Nothing is cut or rounded: a value that does not fit is a fault (M-21).
/// </summary>
/// <param name="numbersAsText">Int64 and Decimal come as strings (<c>IEEE754Compatible=true</c>).</param>
/// <param name="faults">Receives what is wrong, with its path.</param>
internal sealed class JsonValueReader(bool numbersAsText, ICollection<RequestFault> faults)
{
    private static readonly JsonWriterOptions Relaxed = new() { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping };

    /// <summary>The value of a property; null = null, or a fault that has been noted.</summary>
    /// <param name="path">Where it stands in the body.</param>
    /// <param name="isMerged">Members that are missing in a complex value stay as they are.</param>
    public object? Read(JsonElement value, Property property, string path, bool isMerged = false)
    {
        if (value.ValueKind == JsonValueKind.Null && !property.Type.IsCollection)
        {
            if (!property.Nullable)
                Wrong(path, $"'{path}' cannot be null.", "required");
            return null;
        }
        return property.Conversion is JsonConversion ? Json(value, property.Type, path, isMerged) : Primitive(value, property.Type, path);
    }

    /// <summary>One plain value.</summary>
    public object? Primitive(JsonElement value, EdmType type, string path)
    {
        var read = Read(value, type, out var fault);
        if (fault is not null)
            Wrong(path, $"'{path}' {fault}.", "value");
        return read;
    }

    private void Wrong(string path, string message, string code) => faults.Add(new RequestFault(400, code, message, path));

    private object? Read(JsonElement value, EdmType type, out string? fault)
    {
        fault = null;
        if (type.IsNumeric && type.Kind is not (EdmKind.Single or EdmKind.Double))
            return Number(value, type, out fault);
        switch (type.Kind)
        {
            case EdmKind.Boolean when value.ValueKind is JsonValueKind.True or JsonValueKind.False:
                return value.GetBoolean();
            case EdmKind.Single or EdmKind.Double:
                return Floating(value, type, out fault);
            case EdmKind.Boolean:
                fault = $"is {Shown(value)}, and takes true or false";
                return null;
        }
        if (value.ValueKind != JsonValueKind.String)
        {
            fault = $"is {Shown(value)}, and takes {type.Name} as a text";
            return null;
        }
        return TypedText.Parse(value.GetString()!, type, out fault);
    }

    private object? Number(JsonElement value, EdmType type, out string? fault)
    {
        fault = null;
        var isText = numbersAsText && value.ValueKind == JsonValueKind.String && type.Kind is EdmKind.Int64 or EdmKind.Decimal;
        if (value.ValueKind != JsonValueKind.Number && !isText)
        {
            const string OtherForm = "; texts are taken with IEEE754Compatible=true in the Content-Type";
            fault =
                value.ValueKind == JsonValueKind.String
                    ? $"is a text, and takes {type.Name} as a number{(type.Kind is EdmKind.Int64 or EdmKind.Decimal ? OtherForm : "")}"
                    : $"is {Shown(value)}, and takes {type.Name}";
            return null;
        }
        var raw = isText ? value.GetString()! : value.GetRawText();
        if (
            !decimal.TryParse(
                raw,
                NumberStyles.AllowLeadingSign | NumberStyles.AllowDecimalPoint | NumberStyles.AllowExponent,
                CultureInfo.InvariantCulture,
                out var number
            ) || !DecimalText.IsExact(raw, number)
        )
        {
            if (type.Kind == EdmKind.Decimal && LongDecimal.Parse(raw) is { } longNumber)
                return TypedText.Fitting(longNumber, type, out fault);
            fault = $"is {TypedText.Cut(raw)}, which no {type.Name} holds exactly";
            return null;
        }
        if (type.Kind == EdmKind.Decimal)
            return TypedText.Fitting(number, type, out fault);
        if (!decimal.IsInteger(number) || number is < long.MinValue or > long.MaxValue)
        {
            fault = $"is {TypedText.Cut(raw)}, which is not a value of {type.Name}";
            return null;
        }
        return TypedText.InRange((long)number, type, out fault);
    }

    private static object? Floating(JsonElement value, EdmType type, out string? fault)
    {
        fault = null;
        double? number = value.ValueKind switch
        {
            JsonValueKind.Number => value.TryGetDouble(out var read) && double.IsFinite(read) ? read : null,
            JsonValueKind.String => value.GetString() switch
            {
                "INF" => double.PositiveInfinity,
                "-INF" => double.NegativeInfinity,
                "NaN" => double.NaN,
                _ => null,
            },
            _ => null,
        };
        if (number is null)
            fault =
                value.ValueKind == JsonValueKind.Number
                    ? $"is {TypedText.Cut(value.GetRawText())}, which is outside of {type.Name}"
                    : $"is {Shown(value)}, and takes {type.Name} as a number, INF, -INF or NaN";
        else if (type.Kind == EdmKind.Single && double.IsFinite(number.Value) && !float.IsFinite((float)number.Value))
            fault = $"is {TypedText.Cut(value.GetRawText())}, which is outside of Edm.Single";
        return fault is null ? number : null;
    }

    /// <summary>One item of a collection as JSON text.</summary>
    public string? Item(JsonElement value, EdmType type, string path) =>
        Json(value, type with { IsCollection = false }, path, isMerged: false);

    private string? Json(JsonElement value, EdmType type, string path, bool isMerged)
    {
        using var stream = new MemoryStream();
        var before = faults.Count;
        using (var json = new Utf8JsonWriter(stream, Relaxed))
            WriteJson(json, value, type, path, nullable: false, isMerged);
        return faults.Count == before ? Encoding.UTF8.GetString(stream.ToArray()) : null;
    }

    /// <summary>A value as a source keeps it: members under their stored names, members of enumerations by their stored values.</summary>
    private void WriteJson(Utf8JsonWriter json, JsonElement value, EdmType type, string path, bool nullable, bool isMerged = false)
    {
        if (type.IsCollection)
        {
            json.WriteStartArray();
            if (value.ValueKind != JsonValueKind.Array)
                Wrong(path, $"'{path}' is {Shown(value)}, and takes an array.", "value");
            else
            {
                var number = 0;
                foreach (var item in value.EnumerateArray())
                    WriteJson(json, item, type with { IsCollection = false }, $"{path}/{number++}", nullable: true);
            }
            json.WriteEndArray();
            return;
        }
        if (value.ValueKind == JsonValueKind.Null)
        {
            if (!nullable)
                Wrong(path, $"'{path}' cannot be null.", "required");
            json.WriteNullValue();
            return;
        }
        if (type.Complex is { } complex)
        {
            WriteObject(json, value, complex, path, isMerged);
            return;
        }
        if (Primitive(value, type, path) is var read && read is string text && type.Enum is { } enumeration)
            WriteStored(json, enumeration.Find(text)!.Stored);
        else
            PublishedJson.Write(json, read);
    }

    private static void WriteStored(Utf8JsonWriter json, string stored)
    {
        if (long.TryParse(stored, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var number))
            json.WriteNumberValue(number);
        else
            json.WriteStringValue(stored);
    }

    private void WriteObject(Utf8JsonWriter json, JsonElement value, ComplexType type, string path, bool isMerged)
    {
        json.WriteStartObject();
        if (value.ValueKind != JsonValueKind.Object)
        {
            Wrong(path, $"'{path}' is {Shown(value)}, and takes an object.", "value");
            json.WriteEndObject();
            return;
        }
        var seen = new HashSet<string>();
        foreach (var member in value.EnumerateObject())
        {
            var at = $"{path}/{member.Name}";
            if (!seen.Add(member.Name))
                Wrong(at, $"'{at}' is given twice.", "duplicate");
            else if (member.Name.Contains('@'))
                continue;
            else if (type.FindProperty(member.Name) is { } property)
            {
                json.WritePropertyName(property.Column);
                WriteJson(json, member.Value, property.Type, at, property.Nullable);
            }
            else if (type.IsOpen && SimpleIdentifier.IsValid(member.Name))
            {
                json.WritePropertyName(member.Name);
                member.Value.WriteTo(json);
            }
            else
                Wrong(
                    at,
                    $"'{type.Name}' has no property '{member.Name}'.{NearestName.Hint(member.Name, type.Properties.Select(p => p.Name))}",
                    "unknown-property"
                );
        }
        foreach (var missing in isMerged ? [] : type.Properties.Where(p => !p.Nullable && !p.Type.IsCollection && !seen.Contains(p.Name)))
            Wrong($"{path}/{missing.Name}", $"'{path}/{missing.Name}' is missing, and cannot be null.", "required");
        json.WriteEndObject();
    }

    internal static string Shown(JsonElement value) =>
        value.ValueKind switch
        {
            JsonValueKind.Object => "an object",
            JsonValueKind.Array => "an array",
            JsonValueKind.Null => "null",
            _ => TypedText.Cut(value.GetRawText()),
        };
}
