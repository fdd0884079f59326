using RapidGable.Model;

namespace RapidGable.Core.Tests;

public class NamesTests
{
    [Theory]
    [InlineData("station", true)]
    [InlineData("_x1", true)]
    [InlineData("größe", true)]
    [InlineData("", false)]
    [InlineData("1st", false)]
    [InlineData("name with space", false)]
    [InlineData("a-b", false)]
    [InlineData("a.b", false)]
    [InlineData("m³", false)]
    [Proves("C-08")]
    public void A_simple_identifier_is_recognised(string text, bool expected) => Assert.Equal(expected, SimpleIdentifier.IsValid(text));

    [Fact]
    public void The_limit_of_128_characters_is_exact()
    {
        Assert.True(SimpleIdentifier.IsValid(new string('a', 128)));
        Assert.False(SimpleIdentifier.IsValid(new string('a', 129)));
    }

    [Theory]
    [InlineData("station", "station")]
    [InlineData("name with space", "name_with_space")]
    [InlineData("größe m³/s", "größe_m_s")]
    [InlineData("2024 total", "_2024_total")]
    [InlineData("a--b", "a_b")]
    [InlineData("!!", "_")]
    [Proves("C-09")]
    public void A_source_name_becomes_an_identifier(string source, string expected)
    {
        Assert.Equal(expected, SimpleIdentifier.From(source));
        Assert.True(SimpleIdentifier.IsValid(SimpleIdentifier.From(source)));
    }

    [Theory]
    [InlineData("statoin", "station")]
    [InlineData("STATION", "station")]
    [InlineData("read", "reading")]
    [InlineData("zzz", null)]
    public void The_nearest_name_is_found(string wrong, string? expected) =>
        Assert.Equal(expected, NearestName.Of(wrong, ["station", "sensor", "reading"]));
}
