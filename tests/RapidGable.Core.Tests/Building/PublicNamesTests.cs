using CsCheck;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Model;

namespace RapidGable.Core.Tests;

public class PublicNamesTests
{
    [Theory]
    [InlineData("water_body", "WaterBodies", "WaterBody", "waterBodies")]
    [InlineData("station", "Stations", "Station", "stations")]
    [InlineData("stations", "Stations", "Station", "stations")]
    [InlineData("person", "People", "Person", "people")]
    [InlineData("daily_summary", "DailySummaries", "DailySummary", "dailySummaries")]
    [InlineData("VISIT_TASK", "VisitTasks", "VisitTask", "visitTasks")]
    [InlineData("HTTPLog", "HttpLogs", "HttpLog", "httpLogs")]
    [InlineData("2nd class", "_2ndClasses", "_2ndClass", "_2ndClasses")]
    [InlineData("größe m³/s", "GrößeMS", "GrößeMS", "größeMS")]
    public void A_table_gives_names_for_its_set_and_type(string table, string set, string type, string camelSet)
    {
        Assert.Equal(set, PublicNames.Set(table, NamingPolicy.PascalCase));
        Assert.Equal(type, PublicNames.Type(table, NamingPolicy.PascalCase));
        Assert.Equal(camelSet, PublicNames.Set(table, NamingPolicy.CamelCase));
    }

    [Fact]
    [Proves("C-08")]
    public void Any_text_gives_a_simple_identifier() =>
        Gen.String[1, 40]
            .Where(s => !s.Any(char.IsSurrogate))
            .Sample(
                text =>
                {
                    foreach (var policy in Enum.GetValues<NamingPolicy>())
                    {
                        foreach (
                            var name in new[]
                            {
                                PublicNames.Property(text, policy),
                                PublicNames.Set(text, policy),
                                PublicNames.Type(text, policy),
                            }
                        )
                            Assert.True(SimpleIdentifier.IsValid(name), $"'{text}' gives '{name}'");
                    }
                },
                iter: 3_000
            );
}
