using System.Numerics;
using CsCheck;
using RapidGable.Model;
using RapidGable.Requests;
using RapidGable.Requests.OData;
using RapidGable.Sources.PostgreSql;

namespace RapidGable.Core.Tests;

/// <summary>Values beyond what .NET has types for: long decimals, far dates; and literals of older clients.</summary>
public sealed class LongValuesTests
{
    [Theory]
    [InlineData("1", "1", 1, 0)]
    [InlineData("-0012.500", "-12.500", 2, 1)]
    [InlineData("123456789012345678901234567890.5", "123456789012345678901234567890.5", 30, 1)]
    [InlineData("1e40", "10000000000000000000000000000000000000000", 41, 0)]
    [InlineData("1.25E3", "1250", 4, 0)]
    [InlineData("12.5e-3", "0.0125", 0, 4)]
    [InlineData("-5e-1", "-0.5", 0, 1)]
    public void A_decimal_keeps_its_digits(string text, string expected, int whole, int scale)
    {
        var number = LongDecimal.Parse(text)!;
        Assert.Equal((expected, whole, scale), (number.Text, number.WholeDigits, number.Scale));
    }

    [Theory]
    [InlineData("")]
    [InlineData("1.")]
    [InlineData(".5")]
    [InlineData("1e9999")]
    [InlineData("1e99999999999")]
    [InlineData("NaN")]
    [InlineData("1 2")]
    public void What_is_no_decimal_is_none(string text) => Assert.Null(LongDecimal.Parse(text));

    [Fact]
    public void A_number_with_an_exponent_is_the_number() =>
        Gen.Select(Gen.Long, Gen.Int[-30, 30])
            .Sample(
                (mantissa, exponent) =>
                {
                    var text = LongDecimal.Parse($"{mantissa}e{exponent}")!.Text;
                    var digits = text.Replace(".", "", StringComparison.Ordinal);
                    var scale = text.Contains('.') ? text.Length - text.IndexOf('.') - 1 : 0;
                    // mantissa * 10^exponent = digits / 10^scale
                    var (left, right) = (
                        new BigInteger(mantissa) * BigInteger.Pow(10, Math.Max(0, exponent) + scale),
                        BigInteger.Parse(digits) * BigInteger.Pow(10, Math.Max(0, -exponent))
                    );
                    Assert.Equal(left, right);
                },
                iter: 2_000
            );

    [Theory] // groups, weight, sign, digits after the point, then groups of four digits
    [InlineData("0002000000000002000309C4", "3.25")]
    [InlineData("00000000C0000000", "NaN")]
    [InlineData("00000000D0000000", "Infinity")]
    [InlineData("00000000F0000000", "-Infinity")]
    [InlineData("0001000A000000000001", "10000000000000000000000000000000000000000")]
    [InlineData("00010000400000140001", "-1.00000000000000000000")]
    [InlineData("0000000000000002", "0.00")]
    [InlineData("0001FFFF000000040001", "0.0001")]
    [InlineData("0001FFFE00000008000C", "0.00000012")]
    public void The_servers_numbers_are_read(string bytes, string expected) =>
        Assert.Equal(expected, PostgresNumber.Text(Convert.FromHexString(bytes)));

    [Theory]
    [InlineData(8_766, "2024-01-01")]
    [InlineData(int.MaxValue, "infinity")]
    [InlineData(int.MinValue, "-infinity")]
    [InlineData(-746_117, "0044-03-15 BC")]
    [InlineData(-730_120, "0001-12-31 BC")]
    [InlineData(-730_119, "0001-01-01")]
    [InlineData(2_921_939, "9999-12-31")]
    [InlineData(2_921_940, "10000-01-01")]
    public void Days_have_the_servers_texts(int days, string expected)
    {
        Assert.Equal(expected, PostgresTime.Text(days));
        Assert.Equal(PostgresTime.TryDate(days, out _), !PostgresTime.IsFar(expected));
    }

    [Theory]
    [InlineData(757_418_400_000_000, "2024-01-01T10:00:00.0000000Z")]
    [InlineData(long.MaxValue, "infinity")]
    [InlineData(-64_464_508_800_000_000, "0044-03-15 00:00:00.000000+00 BC")]
    [InlineData(252_455_616_000_000_000, "10000-01-01 00:00:00.000000+00")]
    public void Instants_have_the_servers_texts(long microseconds, string expected) =>
        Assert.Equal(expected, PostgresTime.Text(microseconds));

    [Theory]
    [InlineData("2024-13-45")]
    [InlineData("2024-01-01")]
    [InlineData("99999-99-99")]
    [InlineData("x")]
    public void Other_texts_are_none_of_them(string text) => Assert.False(PostgresTime.IsFar(text));

    [Theory] // what clients of several versions send means what it says
    [InlineData("a eq 5L", "a eq 5")]
    [InlineData("a eq -5l", "a eq -5")]
    [InlineData("c lt 200m", "c lt 200")]
    [InlineData("c lt 2.5M", "c lt 2.5")]
    [InlineData("c lt 2.5d", "c lt 2.5e0")]
    [InlineData("g eq guid'21ec2020-3aea-1069-a2dd-08002b30309d'", "g eq 21ec2020-3aea-1069-a2dd-08002b30309d")]
    [InlineData("t eq datetime'2024-01-01T10:00:00'", "t eq 2024-01-01T10:00:00Z")]
    [InlineData("t eq datetimeoffset'2024-01-01T12:00:00+02:00'", "t eq 2024-01-01T10:00:00Z")]
    [InlineData("k eq time'PT13H20M'", "k eq 13:20:00")]
    public void An_older_literal_is_the_newer_one(string older, string newer)
    {
        object Value(string filter) =>
            LexedRequest.Read(RequestAddress.Read("S", "$filter=" + Uri.EscapeDataString(filter)).Value!).Value!.Literals.Single().Value;
        Assert.Equal(Value(newer), Value(older));
    }

    [Theory]
    [InlineData("2024-05-01T00:00:00Z", DayOfInstant.Same, "2024-05-01")]
    [InlineData("2024-05-01T10:00:00Z", DayOfInstant.Same, null)]
    [InlineData("2024-05-01T10:00:00Z", DayOfInstant.Floor, "2024-05-01")]
    [InlineData("2024-05-01T10:00:00Z", DayOfInstant.Ceiling, "2024-05-02")]
    [InlineData("2024-05-01T00:00:00Z", DayOfInstant.Ceiling, "2024-05-01")]
    public void A_point_in_time_stands_for_a_day(string instant, DayOfInstant day, string? expected) =>
        Assert.Equal(
            expected,
            ((DateOnly?)new InstantAsDateConversion(day).Encode(DateTime.Parse(instant).ToUniversalTime()))?.ToString("yyyy-MM-dd")
        );

    [Fact] // dates compare with points in time as their midnights do
    public void Days_compare_as_their_midnights() =>
        Gen.Select(Gen.Int[0, 40], Gen.Int[0, 2_000])
            .Sample(
                (day, minutes) =>
                {
                    var start = new DateOnly(2024, 1, 1);
                    var instant = new DateTime(2024, 1, 1, 0, 0, 0, DateTimeKind.Utc).AddMinutes(30 * minutes);
                    var (date, midnight) = (start.AddDays(day), start.AddDays(day).ToDateTime(TimeOnly.MinValue, DateTimeKind.Utc));
                    DateOnly? As(DayOfInstant kind) => (DateOnly?)new InstantAsDateConversion(kind).Encode(instant);
                    Assert.Equal(midnight == instant, date == As(DayOfInstant.Same));
                    Assert.Equal(midnight < instant, date < As(DayOfInstant.Ceiling));
                    Assert.Equal(midnight >= instant, date >= As(DayOfInstant.Ceiling));
                    Assert.Equal(midnight <= instant, date <= As(DayOfInstant.Floor));
                    Assert.Equal(midnight > instant, date > As(DayOfInstant.Floor));
                }
            );
}
