using System.Globalization;
using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;
using System.Text.RegularExpressions;
using RapidGable.Model;
using RapidGable.Requests;

namespace RapidGable.Changes;

/// <summary>
/// JSON values -> published values of a type (JSON format 7). Nothing is cut or rounded: a value that does not fit is a fault (M-21).
/// </summary>
/// <param name="numbersAsText">Int64 and Decimal come as strings (<c>IEEE754Compatible=true</c>).</param>
/// <param name="faults">Receives what is wrong, with its path.</param>
internal sealed partial class ValueReader(bool numbersAsText, ICollection<RequestFault> faults)
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
        return OfText(value.GetString()!, type, out fault);
    }

    /// <summary>A value of a type as the protocol writes it in a text.</summary>
    /// <param name="fault">What is wrong, to follow the name of the property; null = nothing.</param>
    public static object? OfText(string text, EdmType type, out string? fault)
    {
        fault = null;
        if (type.Kind == EdmKind.String)
        {
            if (text.Contains('\0'))
                fault = "holds the character U+0000, which no text may hold";
            else if (type.MaxLength is { } most && text.Length > most && text.EnumerateRunes().Count() is var length && length > most)
                fault = $"has {length} characters, and takes at most {most}";
            return fault is null ? text : null;
        }
        if (
            type.Kind is EdmKind.DateTimeOffset or EdmKind.TimeOfDay or EdmKind.Duration
            && FractionDigits(text) is var digits
            && digits > (type.Precision ?? 7)
        )
        {
            fault = $"has {digits} digits in its fraction of a second, and {type.Precision ?? 7} are kept";
            return null;
        }
        if (type.Kind == EdmKind.Date)
            text = WithoutMidnight(text);
        if (Lexer.Plain(text, type) is not { } value)
        {
            fault = type.Enum is { } enumeration
                ? $"is '{Cut(text)}', which is no member of {enumeration.Name}: "
                    + $"{string.Join(", ", enumeration.Members.Select(m => m.Name))}"
                : $"is '{Cut(text)}', which is no {type.Name}{Example(type)}";
            return null;
        }
        if (value is byte[] bytes && bytes.Length > type.MaxLength)
        {
            fault = $"has {bytes.Length} bytes, and takes at most {type.MaxLength}";
            return null;
        }
        if (value is LongDecimal longNumber)
            return Fitting(longNumber, type, out fault);
        return value is decimal number ? Fitting(number, type, out fault)
            : value is long whole ? InRange(whole, type, out fault)
            : value;
    }

    /// <summary>A date with a time is a date when that is midnight, wherever: clients without a type for dates send it so.</summary>
    private static string WithoutMidnight(string text) => Midnight().IsMatch(text) ? text[..10] : text;

    [GeneratedRegex(@"^\d{4}-\d\d-\d\dT00:00(:00(\.0+)?)?(Z|[+-]\d\d:\d\d)?$")]
    private static partial Regex Midnight();

    private static string Example(EdmType type) =>
        type.Kind switch
        {
            EdmKind.Date => " such as 2024-05-01",
            EdmKind.TimeOfDay => " such as 14:30:00",
            EdmKind.DateTimeOffset => " such as 2024-05-01T14:30:00Z",
            EdmKind.Duration => " such as PT15M",
            EdmKind.Binary => ", which is base64url",
            _ => "",
        };

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
                return Fitting(longNumber, type, out fault);
            fault = $"is {Cut(raw)}, which no {type.Name} holds exactly";
            return null;
        }
        if (type.Kind == EdmKind.Decimal)
            return Fitting(number, type, out fault);
        if (!decimal.IsInteger(number) || number is < long.MinValue or > long.MaxValue)
        {
            fault = $"is {Cut(raw)}, which is no {type.Name}";
            return null;
        }
        return InRange((long)number, type, out fault);
    }

    private static object? InRange(long number, EdmType type, out string? fault)
    {
        fault = new NumberConversion(EdmType.Int64, type).Decode(number) is null ? $"is {number}, which is outside of {type.Name}" : null;
        return fault is null ? number : null;
    }

    /// <summary>A decimal within the precision and scale of its type.</summary>
    private static object? Fitting(decimal number, EdmType type, out string? fault)
    {
        fault = null;
        // Zeros at the end say nothing.
        var plain = number / 1.000000000000000000000000000000000m;
        var scale = plain.Scale;
        var whole = decimal.Truncate(Math.Abs(plain));
        var wholeDigits = whole == 0 ? 0 : whole.ToString(CultureInfo.InvariantCulture).Length;
        if (type.Scale is { } most && scale > most)
            fault = $"has {scale} digits after the point, and {most} are kept";
        else if (
            type.Precision is { } precision
            && (type.Scale is { } fixedScale ? wholeDigits > precision - fixedScale : wholeDigits + scale > precision)
        )
            fault = $"is {number.ToString(CultureInfo.InvariantCulture)}, which has more digits than {type} takes";
        return fault is null ? number : null;
    }

    private static object? Fitting(LongDecimal number, EdmType type, out string? fault)
    {
        fault = null;
        if (type.Scale is { } most && number.Scale > most)
            fault = $"has {number.Scale} digits after the point, and {most} are kept";
        else if (type.Precision is { } precision && number.WholeDigits + (type.Scale ?? number.Scale) > precision)
            fault = $"is {Cut(number.Text)}, which has more digits than {type} takes";
        return fault is null ? number : null;
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
                    ? $"is {Cut(value.GetRawText())}, which is outside of {type.Name}"
                    : $"is {Shown(value)}, and takes {type.Name} as a number, INF, -INF or NaN";
        else if (type.Kind == EdmKind.Single && double.IsFinite(number.Value) && !float.IsFinite((float)number.Value))
            fault = $"is {Cut(value.GetRawText())}, which is outside of Edm.Single";
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

    private static int FractionDigits(string text)
    {
        var dot = text.IndexOf('.');
        if (dot < 0)
            return 0;
        var digits = text.AsSpan(dot + 1);
        var end = digits.IndexOfAnyExceptInRange('0', '9');
        return (end < 0 ? digits : digits[..end]).TrimEnd('0').Length;
    }

    internal static string Shown(JsonElement value) =>
        value.ValueKind switch
        {
            JsonValueKind.Object => "an object",
            JsonValueKind.Array => "an array",
            JsonValueKind.Null => "null",
            _ => Cut(value.GetRawText()),
        };

    private static string Cut(string text) => text.Length > 60 ? text[..60] + "…" : text;
}
