using RapidGable.Model;

namespace RapidGable.Verification;

/// <summary>Values that a key may have; whether a row has them makes no difference.</summary>
public static class SampleKey
{
    /// <summary>A published value of a type.</summary>
    public static object Of(EdmType type) =>
        type.Kind switch
        {
            EdmKind.String => "x",
            EdmKind.Guid => Guid.Empty,
            EdmKind.Date => new DateOnly(2024, 1, 1),
            EdmKind.DateTimeOffset => new DateTime(2024, 1, 1, 0, 0, 0, DateTimeKind.Utc),
            EdmKind.TimeOfDay => TimeOnly.MinValue,
            EdmKind.Duration => TimeSpan.Zero,
            EdmKind.Boolean => true,
            EdmKind.Enum => type.Enum!.Members[0].Name,
            EdmKind.Decimal => 0m,
            _ => 0L,
        };
}
