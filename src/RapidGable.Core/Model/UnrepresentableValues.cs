namespace RapidGable.Model;

/// <summary>
/// What becomes of stored values that no payload has a value for: zero dates, infinity, years before 1 or after 9999, intervals
/// with months, a numeric that is NaN.
/// </summary>
public enum UnrepresentableValues
{
    /// <summary>Nothing is declared: a null where the property may be null, else a fault.</summary>
    Undeclared,

    /// <summary>They are null, in answers and in conditions alike.</summary>
    Null,

    /// <summary>The whole column is published as the database's own text.</summary>
    Text,

    /// <summary>The answer ends with a fault.</summary>
    Fault,
}
