using System.Globalization;
using System.Text.RegularExpressions;
using NpgsqlTypes;

namespace RapidGable.Sources.PostgreSql;

/// <summary>
/// The server's own dates and times: days and microseconds around the year 2000, from 4714 BC to 294276, and two infinities.
/// Those from year 1 to 9999 become .NET's; the others have texts that the server reads back.
/// </summary>
internal static partial class PostgresTime
{
    private static readonly long Epoch = new DateTime(2000, 1, 1, 0, 0, 0, DateTimeKind.Utc).Ticks;
    private static readonly int EpochDay = new DateOnly(2000, 1, 1).DayNumber;

    public static bool TryDate(int days, out DateOnly date)
    {
        var number = (long)days + EpochDay;
        var fits = days is not (int.MaxValue or int.MinValue) && number >= 0 && number <= DateOnly.MaxValue.DayNumber;
        date = fits ? DateOnly.FromDayNumber((int)number) : default;
        return fits;
    }

    public static bool TryInstant(long microseconds, out DateTime instant)
    {
        var fits = microseconds >= -Epoch / 10 && microseconds <= (DateTime.MaxValue.Ticks - Epoch) / 10;
        instant = fits ? new DateTime(Epoch + (microseconds * 10), DateTimeKind.Utc) : default;
        return fits;
    }

    public static bool TryDuration(NpgsqlInterval interval, out TimeSpan duration)
    {
        var ticks = (Int128)interval.Days * TimeSpan.TicksPerDay + ((Int128)interval.Time * 10);
        // The length of a month is not fixed.
        var fits = interval.Months == 0 && ticks >= long.MinValue && ticks <= long.MaxValue;
        duration = fits ? TimeSpan.FromTicks((long)ticks) : default;
        return fits;
    }

    public static string Text(int days) =>
        TryDate(days, out var date) ? date.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture)
        : days == int.MaxValue ? "infinity"
        : days == int.MinValue ? "-infinity"
        : FarDay(days, "");

    public static string Text(long microseconds)
    {
        if (TryInstant(microseconds, out var instant))
            return instant.ToString("O", CultureInfo.InvariantCulture);
        if (microseconds is long.MaxValue or long.MinValue)
            return microseconds > 0 ? "infinity" : "-infinity";
        const long Day = 86_400_000_000;
        var days = (long)Math.Floor(microseconds / (double)Day);
        var rest = TimeSpan.FromTicks((microseconds - (days * Day)) * 10);
        return FarDay(days, rest.ToString(@"\ hh\:mm\:ss\.ffffff\+\0\0", CultureInfo.InvariantCulture));
    }

    public static string Text(NpgsqlInterval interval) =>
        TryDuration(interval, out var duration)
            ? (duration.Ticks / (decimal)TimeSpan.TicksPerSecond).ToString(CultureInfo.InvariantCulture) + " seconds"
            : string.Create(
                CultureInfo.InvariantCulture,
                $"{interval.Months} months {interval.Days} days {interval.Time / 1_000_000m} seconds"
            );

    /// <summary>Whether a text is one of those that .NET has no value for.</summary>
    public static bool IsFar(string text) => Far().IsMatch(text);

    /// <summary>
    /// A day of the proleptic Gregorian calendar outside of the years 1 to 9999: one of the same day of the 400-year cycle, with
    /// its year moved.
    /// </summary>
    private static string FarDay(long days, string time)
    {
        const int CycleDays = 146_097;
        var number = days + EpochDay;
        var cycles = (long)Math.Floor(number / (double)CycleDays);
        var day = DateOnly.FromDayNumber((int)(number - (cycles * CycleDays)));
        var year = day.Year + (400 * cycles);
        // There is no year 0: the one before 1 is 1 BC.
        var (shown, era) = year > 0 ? (year, "") : (1 - year, " BC");
        return string.Create(CultureInfo.InvariantCulture, $"{shown:0000}-{day.Month:00}-{day.Day:00}{time}{era}");
    }

    [GeneratedRegex(
        @"^(-?infinity|(\d{5,6}-[01]\d-[0-3]\d( \d\d:\d\d:\d\d\.\d{6}\+00)?"
            + @"|\d{4}-[01]\d-[0-3]\d( \d\d:\d\d:\d\d\.\d{6}\+00)? BC)|-?\d+ months -?\d+ days -?\d+(\.\d+)? seconds)$"
    )]
    private static partial Regex Far();
}
