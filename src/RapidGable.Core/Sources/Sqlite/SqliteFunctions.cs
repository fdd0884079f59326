using System.Text.RegularExpressions;
using SQLitePCL;

namespace RapidGable.Sources.Sqlite;

/// <summary>What the standard wants and SQLite lacks: case folding beyond ASCII, and errors where SQLite would say NULL.</summary>
internal static class SqliteFunctions
{
    public const string DivisionByZero = "gable: division by zero";

    public const string Overflow = "gable: out of range";
    public const string SlowPattern = "gable: pattern too slow";

    private static readonly TimeSpan PatternTime = TimeSpan.FromSeconds(1);

    private const int Deterministic = raw.SQLITE_DETERMINISTIC | raw.SQLITE_UTF8;

    public static void Register(sqlite3 database)
    {
        Text(database, "gable_lower", s => s.ToLowerInvariant());
        Text(database, "gable_upper", s => s.ToUpperInvariant());
        Text(database, "gable_trim", s => s.Trim());
        raw.sqlite3_create_function(database, "gable_divisor", 1, Deterministic, null, Divisor);
        raw.sqlite3_create_function(database, "gable_substring", 2, Deterministic, null, Substring);
        raw.sqlite3_create_function(database, "gable_substring", 3, Deterministic, null, Substring);
        raw.sqlite3_create_function(database, "gable_matches", 2, Deterministic, null, Matches);
        raw.sqlite3_create_function(database, "gable_shift", 2, Deterministic, null, Shift);
        raw.sqlite3_create_function(database, "gable_shift_date", 2, Deterministic, null, ShiftDate);
        raw.sqlite3_create_function(database, "gable_ticks", 1, Deterministic, null, Ticks);
        raw.sqlite3_create_function(database, "gable_clock", 1, Deterministic, null, Clock);
        raw.sqlite3_create_function(database, "gable_time", 1, Deterministic, null, TimeText);
    }

    private static bool HasNull(sqlite3_value[] arguments) => arguments.Any(a => raw.sqlite3_value_type(a) == raw.SQLITE_NULL);

    /// <summary>Part of a text, counted in characters from 0; a negative start counts from the end (URL conventions 5.1.1.5.7).</summary>
    private static void Substring(sqlite3_context context, object user, sqlite3_value[] arguments)
    {
        if (HasNull(arguments))
        {
            raw.sqlite3_result_null(context);
            return;
        }
        var runes = raw.sqlite3_value_text(arguments[0]).utf8_to_string().EnumerateRunes().ToList();
        var start = raw.sqlite3_value_int64(arguments[1]);
        var from = (int)Math.Clamp(start < 0 ? runes.Count + start : start, 0, runes.Count);
        var length =
            arguments.Length > 2 ? (int)Math.Clamp(raw.sqlite3_value_int64(arguments[2]), 0, runes.Count - from) : runes.Count - from;
        raw.sqlite3_result_text(context, string.Concat(runes.Skip(from).Take(length)));
    }

    private static void Matches(sqlite3_context context, object user, sqlite3_value[] arguments)
    {
        if (HasNull(arguments))
        {
            raw.sqlite3_result_null(context);
            return;
        }
        try
        {
            // The library keeps the patterns that were used last.
            var isMatch = Regex.IsMatch(
                raw.sqlite3_value_text(arguments[0]).utf8_to_string(),
                raw.sqlite3_value_text(arguments[1]).utf8_to_string(),
                RegexOptions.ECMAScript,
                PatternTime
            );
            raw.sqlite3_result_int64(context, isMatch ? 1 : 0);
        }
        catch (RegexMatchTimeoutException)
        {
            raw.sqlite3_result_error(context, SlowPattern);
        }
    }

    /// <summary>A point in time moved by seconds, in the usual form.</summary>
    private static void Shift(sqlite3_context context, object user, sqlite3_value[] arguments) =>
        Moved(context, arguments, t => SqliteText.Instant(t, SqliteText.UsualInstantForm));

    /// <summary>The date of a date's start moved by seconds.</summary>
    private static void ShiftDate(sqlite3_context context, object user, sqlite3_value[] arguments) =>
        Moved(context, arguments, t => t.ToString("yyyy-MM-dd", System.Globalization.CultureInfo.InvariantCulture));

    private static void Moved(sqlite3_context context, sqlite3_value[] arguments, Func<DateTime, string> text)
    {
        if (HasNull(arguments) || !SqliteText.TryInstant(raw.sqlite3_value_blob(arguments[0]), out var instant))
        {
            raw.sqlite3_result_null(context);
            return;
        }
        var ticks = instant.Ticks + Math.Round((decimal)raw.sqlite3_value_double(arguments[1]) * TimeSpan.TicksPerSecond);
        if (ticks < 0 || ticks > DateTime.MaxValue.Ticks)
            raw.sqlite3_result_error(context, Overflow);
        else
            raw.sqlite3_result_text(context, text(new DateTime((long)ticks, DateTimeKind.Utc)));
    }

    private static void Text(sqlite3 database, string name, Func<string, string> change) =>
        raw.sqlite3_create_function(database, name, 1, Deterministic, null, (context, _, arguments) =>
        {
            if (raw.sqlite3_value_type(arguments[0]) == raw.SQLITE_NULL)
                raw.sqlite3_result_null(context);
            else
                raw.sqlite3_result_text(context, change(raw.sqlite3_value_text(arguments[0]).utf8_to_string()));
        });

    /// <summary>Its argument, unless that is zero: then the statement fails.</summary>
    private static void Divisor(sqlite3_context context, object user, sqlite3_value[] arguments)
    {
        switch (raw.sqlite3_value_type(arguments[0]))
        {
            case raw.SQLITE_NULL:
                raw.sqlite3_result_null(context);
                break;
            case raw.SQLITE_INTEGER when raw.sqlite3_value_int64(arguments[0]) is not 0 and var number:
                raw.sqlite3_result_int64(context, number);
                break;
            case raw.SQLITE_FLOAT when raw.sqlite3_value_double(arguments[0]) is not 0 and var number:
                raw.sqlite3_result_double(context, number);
                break;
            default:
                raw.sqlite3_result_error(context, DivisionByZero);
                break;
        }
    }

    /// <summary>A point in time as 100-nanosecond ticks, so that texts of different forms compare as times.</summary>
    private static void Ticks(sqlite3_context context, object user, sqlite3_value[] arguments)
    {
        if (
            raw.sqlite3_value_type(arguments[0]) != raw.SQLITE_NULL
            && SqliteText.TryInstant(raw.sqlite3_value_blob(arguments[0]), out var instant)
        )
            raw.sqlite3_result_int64(context, instant.Ticks);
        else
            raw.sqlite3_result_null(context);
    }

    /// <summary>A time of day with all seven fraction digits, so that <c>07:30</c> and <c>07:30:00</c> are the same.</summary>
    private static void Clock(sqlite3_context context, object user, sqlite3_value[] arguments)
    {
        if (
            raw.sqlite3_value_type(arguments[0]) != raw.SQLITE_NULL
            && SqliteText.TryTime(raw.sqlite3_value_blob(arguments[0]), out var time)
        )
            raw.sqlite3_result_text(context, SqliteText.FullTime(time));
        else
            raw.sqlite3_result_null(context);
    }

    /// <summary>The time of day of a point in time, with all seven fraction digits.</summary>
    private static void TimeText(sqlite3_context context, object user, sqlite3_value[] arguments)
    {
        if (
            raw.sqlite3_value_type(arguments[0]) != raw.SQLITE_NULL
            && SqliteText.TryInstant(raw.sqlite3_value_blob(arguments[0]), out var instant)
        )
            raw.sqlite3_result_text(context, SqliteText.FullTime(TimeOnly.FromDateTime(instant)));
        else
            raw.sqlite3_result_null(context);
    }
}
