using System.Collections.Frozen;
using RapidGable.Declarations;
using RapidGable.Model;

namespace RapidGable.Building;

/// <summary>A column's own type and the one that a declaration gives it -> how values are converted.</summary>
internal sealed class ConversionBuilder(Diagnostics diagnostics)
{
    private static readonly FrozenDictionary<string, decimal> Units = new Dictionary<string, decimal>(StringComparer.Ordinal)
    {
        ["microseconds"] = 0.000001m,
        ["milliseconds"] = 0.001m,
        ["seconds"] = 1,
        ["minutes"] = 60,
        ["hours"] = 3_600,
        ["days"] = 86_400,
    }.ToFrozenDictionary(StringComparer.Ordinal);

    /// <summary>The words that a number's <c>unit</c> may be.</summary>
    internal static IEnumerable<string> UnitWords => Units.Keys;

    /// <summary>The property with its published type; null when there is no way from one to the other, which is then reported.</summary>
    /// <param name="property">As the column itself says.</param>
    public Property? Apply(Property property, EdmType wanted, ColumnDeclaration declared)
    {
        var stored = property.Type;
        if (
            stored.Kind == wanted.Kind
            && !stored.IsCollection
            && !wanted.IsCollection
            && declared.Format is null
            && declared.Unit is null
            && declared.True is null
        )
            return property with { Type = Merged(stored, wanted) };
        var conversion = Find(stored, wanted, declared);
        if (conversion is not null)
            return property with { Type = Widened(wanted, stored), Conversion = conversion, DefaultValue = null, MediaType = null };
        diagnostics.Error(
            "no-conversion",
            $"The column '{property.Column}' is {stored}, and there is no way to publish it as {wanted}{Options(declared)}.",
            (declared.Type ?? declared.Column).Location,
            "Numbers become other numbers, text, true and false, durations or points in time by 'unit', dates by 'format', "
                + "members of an enumeration; texts become the same by 'format', and complex values or collections if they hold JSON."
        );
        return null;
    }

    private static string Options(ColumnDeclaration declared) =>
        declared.Format is { } format ? $" by the format '{format.Value}'"
        : declared.Unit is { } unit ? $" by the unit '{unit.Value}'"
        : "";

    /// <summary>Facets that the declaration leaves open stay as the column has them.</summary>
    private static EdmType Merged(EdmType stored, EdmType wanted) =>
        wanted with
        {
            MaxLength = wanted.MaxLength ?? stored.MaxLength,
            Precision = wanted.Precision ?? stored.Precision,
            Scale = wanted.Precision is null ? stored.Scale : wanted.Scale,
        };

    private static EdmType Widened(EdmType wanted, EdmType stored) =>
        wanted.Kind switch
        {
            EdmKind.DateTimeOffset or EdmKind.TimeOfDay or EdmKind.Duration when wanted.Precision is null && !wanted.IsCollection =>
                wanted with
                {
                    Precision = stored.IsIntegral && wanted.Kind != EdmKind.TimeOfDay ? 3 : 7,
                },
            EdmKind.Decimal when wanted.Precision is null && stored.IsIntegral => wanted with { Scale = 0 },
            _ => wanted,
        };

    private ValueConversion? Find(EdmType stored, EdmType wanted, ColumnDeclaration declared)
    {
        var isText = stored is { Kind: EdmKind.String, IsCollection: false };
        var isWhole = stored.IsIntegral || stored is { Kind: EdmKind.Decimal, Scale: 0 };
        if (wanted.IsCollection || wanted.Kind == EdmKind.Complex)
            return isText ? new JsonConversion(stored, wanted) : null;
        switch (wanted.Kind)
        {
            case EdmKind.Enum:
                return isText || isWhole ? new EnumConversion(stored, wanted.Enum!) : null;
            case EdmKind.Boolean when isText || stored.IsNumeric:
                if (isText && (declared.True is null || declared.False is null))
                {
                    diagnostics.Error(
                        "boolean-words",
                        $"The column '{declared.Column.Value}' holds text: say which stands for true and which for false.",
                        declared.Column.Location,
                        "Write for example '{ type: boolean, true: Y, false: N }'."
                    );
                    return new BooleanConversion(stored, "Y", "N");
                }
                return new BooleanConversion(stored, declared.True?.Value ?? "1", declared.False?.Value ?? "0");
            case EdmKind.String when stored.Kind is not (EdmKind.Stream or EdmKind.Complex or EdmKind.Enum) && !stored.IsCollection:
                return new TextConversion(stored);
            case EdmKind.Date or EdmKind.TimeOfDay or EdmKind.DateTimeOffset when isText || (isWhole && declared.Format is not null):
                return Format(stored, wanted, declared);
            case EdmKind.DateTimeOffset or EdmKind.Duration when stored.IsNumeric:
                return Unit(stored, wanted, declared);
            case EdmKind.Guid when isText || stored.Kind == EdmKind.Binary:
                return new GuidConversion(stored);
            default:
                return wanted.IsNumeric && (stored.IsNumeric || isText) ? new NumberConversion(stored, wanted) : null;
        }
    }

    private FormatConversion Format(EdmType stored, EdmType wanted, ColumnDeclaration declared)
    {
        var format = declared.Format?.Value
            ?? wanted.Kind switch
            {
                EdmKind.Date => "yyyy-MM-dd",
                EdmKind.TimeOfDay => "HH:mm:ss",
                _ => "yyyy-MM-dd'T'HH:mm:ss'Z'",
            };
        var conversion = new FormatConversion(stored, wanted, format);
        try
        {
            // A format is sound if it brings a value back as it was, to the day or the minute.
            object sample = wanted.Kind switch
            {
                EdmKind.Date => new DateOnly(2024, 11, 23),
                EdmKind.TimeOfDay => new TimeOnly(17, 0),
                _ => new DateTime(2024, 11, 23, 17, 0, 0, DateTimeKind.Utc),
            };
            if (conversion.Encode(sample) is { } text && conversion.Decode(text)?.Equals(sample) == true)
                return conversion;
        }
        catch (FormatException)
        {
            // Reported below, like one that loses something.
        }
        diagnostics.Error(
            "format",
            $"'{format}' is not a format that gives the whole "
                + $"{wanted.Kind switch { EdmKind.Date => "date", EdmKind.TimeOfDay => "time", _ => "date and time" }}.",
            (declared.Format ?? declared.Column).Location,
            "Write yyyy, MM, dd, HH, mm, ss, fff where the parts stand, such as dd.MM.yyyy or yyyyMMdd."
        );
        return conversion;
    }

    private UnitConversion Unit(EdmType stored, EdmType wanted, ColumnDeclaration declared)
    {
        var unit = declared.Unit?.Value ?? "seconds";
        if (!Units.ContainsKey(unit))
            diagnostics.Error(
                "unit",
                $"'{unit}' is not a unit of time.{NearestName.Hint(unit, Units.Keys)}",
                declared.Unit!.Location,
                $"Units: {string.Join(", ", Units.Keys)}."
            );
        return new UnitConversion(stored, wanted, unit, Units.GetValueOrDefault(unit, 1));
    }
}
