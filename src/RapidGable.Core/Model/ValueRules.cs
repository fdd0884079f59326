using System.Collections.Immutable;
using System.Text.RegularExpressions;

namespace RapidGable.Model;

/// <summary>What a written value of one property must be beyond its type.</summary>
public sealed record ValueRules
{
    public static readonly ValueRules None = new();

    /// <summary>The least number, date or time, as a published value; null = any.</summary>
    public object? Minimum { get; init; }

    public object? Maximum { get; init; }

    /// <summary>Characters of a text at least; null = any number.</summary>
    public int? MinLength { get; init; }

    public int? MaxLength { get; init; }

    /// <summary>A regular expression that the whole text matches; null = any text.</summary>
    public Regex? Pattern { get; init; }

    /// <summary>The only values, as published ones; empty = any.</summary>
    public ImmutableArray<object> Values { get; init; } = [];

    /// <summary>A property of another set that must hold the value in some row; null = none must.</summary>
    public ExistsRule? Exists { get; init; }

    /// <summary>What people are told instead of the built-in words; null = these.</summary>
    public string? Message { get; init; }

    public bool IsEmpty => Values.IsEmpty && Equals(None with { Values = Values });

    /// <summary>What is wrong with a value, in words; null = nothing that the value alone tells.</summary>
    /// <param name="value">A published value, not null.</param>
    public string? Fault(object value)
    {
        if (value is double.NaN && (Minimum ?? Maximum) is not null)
            return Message ?? "is not a number, so it is not within its bounds";
        if (Minimum is not null && Compare(value, Minimum) < 0)
            return Message ?? $"is less than {ValueConversion.Text(Minimum)}";
        if (Maximum is not null && Compare(value, Maximum) > 0)
            return Message ?? $"is more than {ValueConversion.Text(Maximum)}";
        if (value is string text)
        {
            var length = MinLength is null && MaxLength is null ? 0 : text.EnumerateRunes().Count();
            if (length < MinLength)
                return Message ?? $"has {length} characters, and takes at least {MinLength}";
            if (length > MaxLength)
                return Message ?? $"has {length} characters, and takes at most {MaxLength}";
            if (Pattern is not null && !Matches(text))
                return Message ?? "does not have the form that is asked for";
        }
        if (!Values.IsEmpty && !Values.Contains(value))
            return Message ?? $"is none of {string.Join(", ", Values.Select(ValueConversion.Text))}";
        return null;
    }

    private bool Matches(string text)
    {
        try
        {
            return EcmaPattern.IsMatch(Pattern!, text);
        }
        catch (RegexMatchTimeoutException)
        {
            return false;
        }
    }

    private static int Compare(object value, object bound) =>
        (value, bound) switch
        {
            (decimal number, long limit) => number.CompareTo(limit),
            (long number, decimal limit) => ((decimal)number).CompareTo(limit),
            (double number, _) => number.CompareTo(Convert.ToDouble(bound, System.Globalization.CultureInfo.InvariantCulture)),
            (LongDecimal number, _) => number.Nearest.CompareTo(Convert.ToDouble(bound, System.Globalization.CultureInfo.InvariantCulture)),
            _ => Comparer<object>.Default.Compare(value, bound),
        };
}

/// <summary>A value must be one that some entity has.</summary>
/// <param name="Set">Name of the set, whose source may be another one.</param>
/// <param name="Property">Name of its property.</param>
public sealed record ExistsRule(string Set, string Property);

/// <summary>What a written row must be, or be alone in being.</summary>
/// <param name="On">The operations that it is about: create, update or both.</param>
public sealed record RowRule(SetOperations On)
{
    /// <summary>A condition in the filter language that the row fulfils; null = <see cref="Unique"/> says it.</summary>
    public string? Condition { get; init; }

    /// <summary>The condition as documents tell it; null = they have no form for it.</summary>
    public ConstraintExpression? Form { get; init; }

    /// <summary>The paths of everything that the condition is about; null = that cannot be said.</summary>
    public ImmutableArray<string>? About { get; init; }

    /// <summary>Columns whose values together no other row has; empty = <see cref="Condition"/> says it.</summary>
    public ImmutableArray<string> Unique { get; init; } = [];

    /// <summary>Whom it is about; null = everybody.</summary>
    public AccessRule? Who { get; init; }

    /// <summary>Property that the fault is told of; null = the entity as a whole.</summary>
    public string? Property { get; init; }

    /// <summary>What people are told; null = built-in words.</summary>
    public string? Message { get; init; }
}

/// <summary>How the service makes a value, and when.</summary>
/// <param name="AtUpdate">Also when the entity changes; else only when it is created.</param>
public sealed record ValueMaker(ValueSource From, bool AtUpdate)
{
    /// <summary>For <see cref="ValueSource.Number"/>: what stands before the number.</summary>
    public string Prefix { get; init; } = "";

    /// <summary>For <see cref="ValueSource.Number"/>: digits at least.</summary>
    public int Digits { get; init; }

    /// <summary>
    /// For <see cref="ValueSource.Expression"/>: in the filter language. For <see cref="ValueSource.Attribute"/>: the attribute's name.
    /// </summary>
    public string Text { get; init; } = "";

    /// <summary>What callers send takes its place.</summary>
    public bool IsDefault { get; init; }

    /// <summary>The maker in the words of a declaration.</summary>
    public override string ToString() =>
        From switch
        {
            ValueSource.Number => $"{Prefix}{{{new string('0', Digits)}}}",
            ValueSource.Expression => "= " + Text,
            ValueSource.Attribute => "@" + Text,
            ValueSource.Constant => Text,
            _ => From.ToString().ToLowerInvariant(),
        };
}

/// <summary>Where made values come from.</summary>
public enum ValueSource
{
    Uuid,

    /// <summary>The next number behind a prefix, without gaps among what is committed.</summary>
    Number,

    /// <summary>The instant of the change.</summary>
    Now,

    /// <summary>The caller's name.</summary>
    User,

    /// <summary>An attribute of the caller.</summary>
    Attribute,

    /// <summary>An expression about the entity, which may lead to related ones.</summary>
    Expression,

    /// <summary>The same value each time, as the literal of the property's type without quotes.</summary>
    Constant,
}

/// <summary>A table that takes a row for each change of a set.</summary>
/// <param name="Source">The table, in the set's own source.</param>
/// <param name="Columns">What each of its columns takes: <c>set</c>, <c>key</c>, <c>operation</c>, <c>who</c>, <c>when</c>,
/// <c>before</c>, <c>after</c>.</param>
public sealed record ChangeLog(TableSource Source, ImmutableDictionary<string, Property> Columns)
{
    public static readonly ImmutableArray<string> Words = ["set", "key", "operation", "who", "when", "before", "after"];
}
