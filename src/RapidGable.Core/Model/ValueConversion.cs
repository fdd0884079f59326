// Stored values <-> published values, where a declaration gives a column another type than its own. Values are those of the
// row cursors: bool, long, double, decimal, string, Guid, DateOnly, TimeOnly, DateTime in UTC, TimeSpan, byte[]; a member of
// an enumeration is published as the string of its name.
using System.Globalization;

namespace RapidGable.Model;

/// <summary>What can be asked of a converted property, decided by whether stored values compare like published ones.</summary>
public enum ConvertedUse
{
    /// <summary>Read only: two stored values may mean the same.</summary>
    Read,

    /// <summary>Also compared for equality: each published value has one stored value.</summary>
    Equality,

    /// <summary>Also sorted by: the stored order is the published one, though not every published value has a place in it.</summary>
    Sorting,

    /// <summary>Also compared by order: the stored order is the published one.</summary>
    Order,

    /// <summary>Anything: only the width of a number differs.</summary>
    Anything,
}

/// <summary>How the values of a column become those of its property, and back.</summary>
/// <param name="Stored">The column's own type.</param>
public abstract record ValueConversion(EdmType Stored)
{
    public abstract ConvertedUse Use { get; }

    /// <summary>A published value of the right type may have no stored one, so that it equals none.</summary>
    public virtual bool MayLackStored => false;

    /// <summary>The type of <see cref="Encode"/>'s results.</summary>
    public virtual EdmType Parameter => Stored.IsNumeric ? EdmType.Decimal : Stored;

    /// <summary>The conversion in a few words, for people.</summary>
    public abstract string Description { get; }

    /// <summary>The published value; null when the stored one stands for none, which is bad data.</summary>
    public abstract object? Decode(object stored);

    /// <summary>The stored value to compare with; null when no stored value stands for it.</summary>
    public abstract object? Encode(object published);

    protected static decimal? Number(object value) =>
        value switch
        {
            long number => number,
            decimal number => number,
            double number when Math.Abs(number) < 7.9e28 => (decimal)number,
            string text => WholeNumber(text),
            _ => null,
        };

    /// <summary>The number that a text says; null = it says none, or one with more digits than can be kept.</summary>
    private static decimal? WholeNumber(string text) =>
        decimal.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out var number)
        && (text.Length <= 28 || Digits(text.Split('e', 'E')[0]) == Digits(number.ToString(CultureInfo.InvariantCulture)))
            ? number
            : null;

    /// <summary>The digits of a number from the first to the last that is not zero.</summary>
    private static string Digits(string number) => string.Concat(number.Where(char.IsAsciiDigit)).Trim('0');

    /// <summary>A value as text in one form for each value.</summary>
    public static string Text(object value) =>
        value switch
        {
            bool flag => flag ? "true" : "false",
            decimal number => (number / 1.000000000000000000000000000000000m).ToString(CultureInfo.InvariantCulture),
            double.PositiveInfinity => "INF",
            double.NegativeInfinity => "-INF",
            double number => number.ToString("R", CultureInfo.InvariantCulture),
            DateOnly date => date.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture),
            TimeOnly time => time.ToString("HH:mm:ss.FFFFFFF", CultureInfo.InvariantCulture),
            DateTime instant => instant.ToString("yyyy-MM-dd'T'HH:mm:ss.FFFFFFF'Z'", CultureInfo.InvariantCulture),
            TimeSpan duration => System.Xml.XmlConvert.ToString(duration),
            byte[] bytes => System.Buffers.Text.Base64Url.EncodeToString(bytes),
            _ => Convert.ToString(value, CultureInfo.InvariantCulture)!,
        };
}

/// <summary>A number as another kind of number; a value that does not fit is bad data.</summary>
public sealed record NumberConversion(EdmType Stored, EdmType Published) : ValueConversion(Stored)
{
    // A text such as 007 is the number 7 too, so texts cannot be searched by number.
    public override ConvertedUse Use => Stored.IsNumeric ? ConvertedUse.Anything : ConvertedUse.Read;

    public override string Description => $"{Stored.Name} as {Published}";

    public override object? Decode(object stored)
    {
        if (Published.IsFloating)
            return stored switch
            {
                double real => real,
                string text => double.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out var parsed) ? parsed : null,
                _ => (object?)(double?)Number(stored),
            };
        if (Number(stored) is not { } number)
            return null;
        if (Published.Kind == EdmKind.Decimal)
            return number;
        var (least, most) = Published.Bounds;
        return decimal.IsInteger(number) && number >= least && number <= most ? (long)number : null;
    }

    public override object Encode(object published) => published;
}

/// <summary>Two stored values as true and false.</summary>
public sealed record BooleanConversion(EdmType Stored, string True, string False) : ValueConversion(Stored)
{
    public override ConvertedUse Use => Stored.IsNumeric && Number(False) < Number(True) ? ConvertedUse.Order : ConvertedUse.Equality;

    public override EdmType Parameter => Stored;

    public override string Description => $"{True} and {False} as Edm.Boolean";

    public override object? Decode(object stored) =>
        Text(stored) is var text && text == True ? true
        : text == False ? false
        : null;

    public override object? Encode(object published) => Back((bool)published ? True : False);

    private object? Back(string text) => Stored.Kind == EdmKind.String ? text : Number(text);
}

/// <summary>Listed stored values as the members of an enumeration.</summary>
public sealed record EnumConversion(EdmType Stored, EnumType Enum) : ValueConversion(Stored)
{
    public override ConvertedUse Use => ConvertedUse.Equality;

    public override EdmType Parameter => Stored;

    public override string Description => $"{Stored.Name} as {Enum.Name}";

    public override object? Decode(object stored) => Enum.FindStored(Text(stored))?.Name;

    public override object? Encode(object published) =>
        Enum.Find((string)published) is not { } member ? null
        : Stored.Kind == EdmKind.String ? member.Stored
        : Number(member.Stored);
}

/// <summary>Any single value as text, in one form for each value.</summary>
public sealed record TextConversion(EdmType Stored) : ValueConversion(Stored)
{
    // A floating number has several texts, and whether two are equal is for the database to say.
    public override ConvertedUse Use => Stored.IsFloating || Stored.Kind is EdmKind.Duration ? ConvertedUse.Read : ConvertedUse.Equality;

    public override bool MayLackStored => true;

    public override string Description => $"{Stored.Name} as text";

    public override object Decode(object stored) => Text(stored);

    public override object? Encode(object published)
    {
        var text = (string)published;
        object? value = Stored.Kind switch
        {
            EdmKind.Boolean => text is "true" or "false" ? text == "true" : null,
            EdmKind.Guid => Guid.TryParseExact(text, "D", out var guid) ? guid : null,
            EdmKind.Date => DateOnly.TryParseExact(text, "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out var date)
                ? date
                : null,
            EdmKind.TimeOfDay => TimeOnly.TryParse(text, CultureInfo.InvariantCulture, out var time) ? time : null,
            EdmKind.DateTimeOffset => DateTime.TryParse(
                text,
                CultureInfo.InvariantCulture,
                DateTimeStyles.AdjustToUniversal | DateTimeStyles.AssumeUniversal,
                out var instant
            )
                ? instant
                : null,
            EdmKind.String => text,
            EdmKind.Binary => Bytes(text),
            EdmKind.Decimal => Number(text),
            _ => long.TryParse(text, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var number) ? number : null,
        };
        // Only the one form in which the value is published equals it.
        return value is not null && Text(value) == text ? value : null;
    }

    private static byte[]? Bytes(string text)
    {
        try
        {
            return System.Buffers.Text.Base64Url.DecodeFromChars(text);
        }
        catch (FormatException)
        {
            return null;
        }
    }
}

/// <summary>A date or time written as text, or as a number of digits, in one format.</summary>
/// <param name="Format">Of .NET, in the invariant culture, such as <c>dd.MM.yyyy</c>; without a zone it is UTC.</param>
public sealed record FormatConversion(EdmType Stored, EdmType Published, string Format) : ValueConversion(Stored)
{
    private const string Falling = "yyyy MM dd HH mm ss f";

    /// <summary>Texts sort like times when their parts stand from the largest to the smallest, each with all its digits.</summary>
    public override ConvertedUse Use
    {
        get
        {
            var parts = new string([.. Format.Replace("'", "", StringComparison.Ordinal).Where(c => "yMdHmsf".Contains(c))]);
            var order = Falling.Replace(" ", "", StringComparison.Ordinal);
            var start = order.IndexOf(parts.TrimEnd('f'), StringComparison.Ordinal);
            return parts.Length > 0 && start >= 0 && order[start] is 'y' or 'H' ? ConvertedUse.Order : ConvertedUse.Equality;
        }
    }

    public override string Description => $"{Format} as {Published.Name}";

    /// <summary>Where a stored text has a part such as the year; null where that is not certain.</summary>
    public TextPart? Part(CanonicalFunction part) => Stored.IsFloating ? null : FormatLayout.Find(Format, part);

    public override object? Decode(object stored)
    {
        var text = Text(stored);
        const DateTimeStyles Utc = DateTimeStyles.AdjustToUniversal | DateTimeStyles.AssumeUniversal;
        return Published.Kind switch
        {
            EdmKind.Date => DateOnly.TryParseExact(text, Format, CultureInfo.InvariantCulture, DateTimeStyles.None, out var date)
                ? date
                : null,
            EdmKind.TimeOfDay => TimeOnly.TryParseExact(text, Format, CultureInfo.InvariantCulture, DateTimeStyles.None, out var time)
                ? time
                : null,
            _ => DateTime.TryParseExact(text, Format, CultureInfo.InvariantCulture, Utc, out var instant) ? instant : null,
        };
    }

    public override object? Encode(object published)
    {
        var text = published switch
        {
            DateOnly date => date.ToString(Format, CultureInfo.InvariantCulture),
            TimeOnly time => time.ToString(Format, CultureInfo.InvariantCulture),
            _ => ((DateTime)published).ToString(Format, CultureInfo.InvariantCulture),
        };
        // What is finer than the format is not stored, and must not meet the value that it was cut to.
        var exact = Decode(text)?.Equals(published) == true;
        return Stored.Kind == EdmKind.String
            ? exact
                ? text
                : text + "~"
            : Number(text) + (exact ? 0m : 0.5m);
    }
}

/// <summary>A number of units as a duration, or as a point in time counted from 1970 in UTC.</summary>
/// <param name="Seconds">Seconds in a unit; may be a fraction.</param>
public sealed record UnitConversion(EdmType Stored, EdmType Published, string Unit, decimal Seconds) : ValueConversion(Stored)
{
    public override ConvertedUse Use => Stored.IsFloating ? ConvertedUse.Read : ConvertedUse.Order;

    public override string Description => $"{Unit} as {Published.Name}";

    public override object? Decode(object stored)
    {
        if (Number(stored) is not { } units || Math.Abs(units) > 9e17m / TimeSpan.TicksPerSecond / Seconds)
            return null;
        var ticks = units * Seconds * TimeSpan.TicksPerSecond;
        if (Published.Kind == EdmKind.Duration)
            return TimeSpan.FromTicks((long)decimal.Round(ticks));
        var instant = DateTime.UnixEpoch.Ticks + (long)decimal.Round(ticks);
        return instant < 0 || instant > DateTime.MaxValue.Ticks ? null : new DateTime(instant, DateTimeKind.Utc);
    }

    public override object Encode(object published)
    {
        var ticks = published is TimeSpan duration ? duration.Ticks : ((DateTime)published).Ticks - DateTime.UnixEpoch.Ticks;
        return ticks / (decimal)TimeSpan.TicksPerSecond / Seconds;
    }
}

/// <summary>A uuid kept as text or as 16 bytes.</summary>
public sealed record GuidConversion(EdmType Stored) : ValueConversion(Stored)
{
    // Texts may be in capitals or not; the order of bytes is not the order of uuids everywhere.
    public override ConvertedUse Use => Stored.Kind == EdmKind.Binary ? ConvertedUse.Equality : ConvertedUse.Read;

    public override string Description => Stored.Kind == EdmKind.Binary ? "16 bytes as Edm.Guid" : "text as Edm.Guid";

    public override object? Decode(object stored) =>
        stored switch
        {
            byte[] { Length: 16 } bytes => new Guid(bytes, bigEndian: true),
            string text when Guid.TryParse(text, CultureInfo.InvariantCulture, out var guid) => guid,
            _ => null,
        };

    public override object Encode(object published) =>
        Stored.Kind == EdmKind.Binary ? ((Guid)published).ToByteArray(bigEndian: true) : ((Guid)published).ToString();
}

/// <summary>Which day stands for a point in time that a date is compared with.</summary>
public enum DayOfInstant
{
    /// <summary>The day that begins then; none when it is later on a day.</summary>
    Same,

    /// <summary>The day that it is on.</summary>
    Floor,

    /// <summary>The first day that begins then or later.</summary>
    Ceiling,
}

/// <summary>A point in time to compare dates with, each of which begins at midnight in UTC.</summary>
public sealed record InstantAsDateConversion(DayOfInstant Day) : ValueConversion(EdmType.Date)
{
    public override ConvertedUse Use => ConvertedUse.Anything;

    public override bool MayLackStored => Day == DayOfInstant.Same;

    public override string Description => "a point in time as Edm.Date";

    public override object Decode(object stored) => ((DateOnly)stored).ToDateTime(TimeOnly.MinValue, DateTimeKind.Utc);

    public override object? Encode(object published)
    {
        var instant = (DateTime)published;
        var day = DateOnly.FromDateTime(instant);
        if (instant.TimeOfDay == TimeSpan.Zero || Day == DayOfInstant.Floor)
            return day;
        return Day == DayOfInstant.Ceiling && day < DateOnly.MaxValue ? day.AddDays(1)
            : Day == DayOfInstant.Ceiling ? day
            : null;
    }
}

/// <summary>A date to compare points in time with: its midnight in UTC.</summary>
public sealed record DateAsInstantConversion() : ValueConversion(EdmType.DateTimeOffset)
{
    public override ConvertedUse Use => ConvertedUse.Anything;

    public override string Description => "a date as Edm.DateTimeOffset";

    public override object Decode(object stored) => DateOnly.FromDateTime((DateTime)stored);

    public override object Encode(object published) => ((DateOnly)published).ToDateTime(TimeOnly.MinValue, DateTimeKind.Utc);
}

/// <summary>Bytes as hexadecimal text in small letters, whose order is that of the bytes.</summary>
public sealed record HexConversion(EdmType Stored) : ValueConversion(Stored)
{
    public override ConvertedUse Use => ConvertedUse.Sorting;

    public override bool MayLackStored => true;

    public override string Description => "bytes as hexadecimal text";

    public override object Decode(object stored) => Convert.ToHexStringLower((byte[])stored);

    // Only the one form in which the value is published equals it.
    public override object? Encode(object published)
    {
        var text = (string)published;
        var isHex = text.Length % 2 == 0 && !text.AsSpan().ContainsAnyExcept("0123456789abcdef");
        return isHex ? Convert.FromHexString(text) : null;
    }
}

/// <summary>A text or binary value as a stream, which is fetched by itself.</summary>
public sealed record StreamConversion(EdmType Stored) : ValueConversion(Stored)
{
    public override ConvertedUse Use => ConvertedUse.Read;

    public override string Description => $"{Stored.Name} as a stream";

    public override object Decode(object stored) => stored;

    public override object Encode(object published) => published;
}

/// <summary>JSON text as a complex value or a collection. Read as it is written; see the payload writers.</summary>
public sealed record JsonConversion(EdmType Stored, EdmType Published) : ValueConversion(Stored)
{
    public override ConvertedUse Use => ConvertedUse.Read;

    public override string Description => $"JSON text as {Published.Name}";

    public override object Decode(object stored) => stored;

    public override object Encode(object published) => published;
}
