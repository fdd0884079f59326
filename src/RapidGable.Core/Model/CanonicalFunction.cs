namespace RapidGable.Model;

/// <summary>The standard's built-in functions that this version translates (URL conventions 5.1.1.4 to 5.1.1.11).</summary>
public enum CanonicalFunction
{
    Contains,
    StartsWith,
    EndsWith,
    Length,
    ToLower,
    ToUpper,
    Trim,
    Concat,
    IndexOf,
    Substring,
    MatchesPattern,
    Year,
    Month,
    Day,
    Hour,
    Minute,
    Second,
    FractionalSeconds,
    Date,
    Time,
    Now,
    TotalOffsetMinutes,
    TotalSeconds,
    MinDateTime,
    MaxDateTime,
    Round,
    Floor,
    Ceiling,
}

/// <summary>The arithmetic operators (URL conventions 5.1.1.2).</summary>
public enum ArithmeticOperator
{
    Add,
    Sub,
    Mul,
    Div,
    DivBy,
    Mod,
}
