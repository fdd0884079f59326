using Microsoft.Extensions.Primitives;
using Microsoft.Net.Http.Headers;
using RapidGable.Payloads.Flat;

namespace RapidGable.Service.Faces;

/// <summary>
/// The media type of CSV with its parameters (RFC 4180, 3): <c>header=absent</c> leaves the line of names out, and
/// <c>formulas=escaped</c> keeps texts from being taken for formulas.
/// </summary>
internal static class CsvMediaType
{
    /// <summary>How CSV is to be written, and its media type; null = it is no CSV, or has a parameter that is not known.</summary>
    public static (CsvForm Form, string ContentType)? Read(MediaTypeHeaderValue type)
    {
        if (!type.MediaType.Equals(CsvWriter.MediaType, StringComparison.OrdinalIgnoreCase))
            return null;
        var form = CsvForm.Usual;
        foreach (var parameter in type.Parameters)
        {
            var value = parameter.Value.ToString().Trim('"').ToLowerInvariant();
            switch (parameter.Name.ToString().ToLowerInvariant(), value)
            {
                case ("q", _):
                case ("charset", _) when IsUtf8(parameter.Value):
                case ("header", "present"):
                case ("formulas", "kept"):
                    break;
                case ("header", "absent"):
                    form = form with { HasHeader = false };
                    break;
                case ("formulas", "escaped"):
                    form = form with { EscapesFormulas = true };
                    break;
                default:
                    return null;
            }
        }
        return (form, $"{CsvWriter.MediaType};charset=utf-8;header={(form.HasHeader ? "present" : "absent")}");
    }

    /// <summary>Whether the value of a charset parameter is that of UTF-8.</summary>
    public static bool IsUtf8(StringSegment value) => value.ToString().Trim('"').ToLowerInvariant() is "utf-8" or "utf8";
}
