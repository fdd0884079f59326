using System.Globalization;
using System.Text;

namespace RapidGable.Sources.Sqlite;

/// <summary>
/// Dates and times kept as text. A form of a point in time is written <c>{separator}{fraction digits}{Z or nothing}</c>,
/// such as <c>T3Z</c> for <c>2024-05-01T12:00:00.125Z</c> and <c>' 0'</c> for <c>2024-05-01 12:00:00</c>; a value without
/// a zone is UTC. Values of one form sort as texts in the order of time.
/// </summary>
internal static class SqliteText
{
    public const string UsualInstantForm = "T7Z";

    /// <summary>The form that a value has; null when it is no point in time in UTC.</summary>
    public static string? InstantForm(ReadOnlySpan<byte> text)
    {
        if (!TryInstant(text, out _) || text.Length < 19)
            return null;
        var zone = text[^1] == 'Z';
        var rest = text[19..(zone ? ^1 : ^0)];
        if (rest.Length > 0 && rest[0] != '.')
            return null;
        return $"{(char)text[10]}{Math.Max(0, rest.Length - 1)}{(zone ? "Z" : "")}";
    }

    public static int FractionDigits(string form) =>
        int.Parse(form.AsSpan(1, form.Length - (form.EndsWith('Z') ? 2 : 1)), CultureInfo.InvariantCulture);

    /// <summary>The pattern (GLOB) that every value of a form matches.</summary>
    public static string Glob(string form)
    {
        const string Digit = "[0-9]";
        string Digits(int count) => string.Concat(Enumerable.Repeat(Digit, count));
        var fraction = FractionDigits(form);
        return $"{Digits(4)}-{Digits(2)}-{Digits(2)}{form[0]}{Digits(2)}:{Digits(2)}:{Digits(2)}"
            + (fraction > 0 ? "." + Digits(fraction) : "")
            + (form.EndsWith('Z') ? "Z" : "");
    }

    /// <summary>
    /// A point in time in a form. One that is finer than the form gets a <c>~</c> at its end: it then equals no stored
    /// value and sorts right after the one that it was cut to.
    /// </summary>
    public static string Instant(DateTime utc, string form)
    {
        var digits = Math.Min(7, FractionDigits(form));
        var finer = utc.Ticks % (long)Math.Pow(10, 7 - digits) != 0;
        var format =
            $"yyyy-MM-dd'{form[0]}'HH:mm:ss" + (digits > 0 ? "." + new string('f', digits) : "") + (form.EndsWith('Z') ? "'Z'" : "");
        return utc.ToString(format, CultureInfo.InvariantCulture) + (finer ? "~" : "");
    }

    public static string FullTime(TimeOnly time) => time.ToString("HH:mm:ss.fffffff", CultureInfo.InvariantCulture);

    public static bool TryDate(ReadOnlySpan<byte> text, out DateOnly date)
    {
        date = default;
        if (
            text.Length != 10
            || text[4] != '-'
            || text[7] != '-'
            || !TryNumber(text[..4], out var year)
            || !TryNumber(text.Slice(5, 2), out var month)
            || !TryNumber(text.Slice(8, 2), out var day)
            || year < 1
            || month is < 1 or > 12
            || day < 1
            || day > DateTime.DaysInMonth(year, month)
        )
            return false;
        date = new DateOnly(year, month, day);
        return true;
    }

    public static bool TryTime(ReadOnlySpan<byte> text, out TimeOnly time)
    {
        time = default;
        if (
            text.Length is not 5 and < 8
            || text[2] != ':'
            || !TryNumber(text[..2], out var hour)
            || !TryNumber(text.Slice(3, 2), out var minute)
        )
            return false;
        var second = 0;
        if (text.Length > 5 && (text[5] != ':' || !TryNumber(text.Slice(6, 2), out second)))
            return false;
        long fraction = 0;
        if (text.Length > 8 && !TryFraction(text[8..], out fraction))
            return false;
        if (hour > 23 || minute > 59 || second > 59)
            return false;
        time = new TimeOnly(((((hour * 60L) + minute) * 60) + second) * TimeSpan.TicksPerSecond + fraction);
        return true;
    }

    /// <summary>Reads ISO 8601 text with <c>T</c> or a blank, with or without seconds, fraction and zone; the result is in UTC.</summary>
    public static bool TryInstant(ReadOnlySpan<byte> text, out DateTime utc)
    {
        utc = default;
        if (text.Length < 10 || !TryDate(text[..10], out var date))
            return false;
        var offset = TimeSpan.Zero;
        var time = TimeOnly.MinValue;
        if (text.Length > 10)
        {
            if (text[10] is not ((byte)'T' or (byte)' '))
                return false;
            var rest = text[11..];
            if (rest.Length > 0 && rest[^1] == 'Z')
                rest = rest[..^1];
            else if (rest.Length > 6 && rest[^6] is (byte)'+' or (byte)'-' && rest[^3] == ':')
            {
                if (!TryNumber(rest.Slice(rest.Length - 5, 2), out var hours) || !TryNumber(rest[^2..], out var minutes))
                    return false;
                offset = new TimeSpan(hours, minutes, 0) * (rest[^6] == '-' ? -1 : 1);
                rest = rest[..^6];
            }
            if (!TryTime(rest, out time))
                return false;
        }
        var ticks = date.ToDateTime(time).Ticks - offset.Ticks;
        if (ticks < 0 || ticks > DateTime.MaxValue.Ticks)
            return false;
        utc = new DateTime(ticks, DateTimeKind.Utc);
        return true;
    }

    private static bool TryFraction(ReadOnlySpan<byte> text, out long ticks)
    {
        ticks = 0;
        if (text.Length is < 2 or > 13 || text[0] != '.')
            return false;
        var digits = text[1..];
        for (var i = 0; i < 7; i++)
            ticks = (ticks * 10) + (i < digits.Length && digits[i] is >= (byte)'0' and <= (byte)'9' ? digits[i] - '0' : 0);
        return digits.IndexOfAnyExceptInRange((byte)'0', (byte)'9') < 0;
    }

    private static bool TryNumber(ReadOnlySpan<byte> text, out int number)
    {
        number = 0;
        foreach (var c in text)
        {
            if (c is < (byte)'0' or > (byte)'9')
                return false;
            number = (number * 10) + (c - '0');
        }
        return true;
    }

    public static string Shown(ReadOnlySpan<byte> text) => Encoding.UTF8.GetString(text[..Math.Min(60, text.Length)]);
}
