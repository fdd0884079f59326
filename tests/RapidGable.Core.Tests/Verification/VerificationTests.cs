using System.Text;
using System.Text.Json;
using RapidGable.Metadata;
using RapidGable.Payloads;
using RapidGable.Verification;

namespace RapidGable.Core.Tests;

public class VerificationTests(NetworkFixture network) : IClassFixture<NetworkFixture>
{
    private const string Valid = """
        <edmx:Edmx xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx" Version="4.0"><edmx:DataServices>
        <Schema xmlns="http://docs.oasis-open.org/odata/ns/edm" Namespace="Shop" Alias="self">
        <EntityType Name="Product"><Key><PropertyRef Name="ID"/></Key>
        <Property Name="ID" Type="Edm.Int32" Nullable="false"/><Property Name="Price" Type="Edm.Decimal" Precision="8" Scale="2"/>
        <Property Name="Name" Type="Edm.String" MaxLength="10"/><Property Name="Color" Type="self.Color"/><Property Name="CatID" Type="Edm.Int32"/>
        <NavigationProperty Name="Category" Type="Shop.Category" Partner="Products"><ReferentialConstraint Property="CatID" ReferencedProperty="ID"/></NavigationProperty></EntityType>
        <EntityType Name="Category"><Key><PropertyRef Name="ID"/></Key><Property Name="ID" Type="Edm.Int32" Nullable="false"/>
        <NavigationProperty Name="Products" Type="Collection(Shop.Product)" Partner="Category"/></EntityType>
        <EnumType Name="Color"><Member Name="Red"/><Member Name="Blue"/></EnumType>
        <EntityContainer Name="Container"><EntitySet Name="Products" EntityType="Shop.Product"><NavigationPropertyBinding Path="Category" Target="Categories"/></EntitySet>
        <EntitySet Name="Categories" EntityType="Shop.Category"/></EntityContainer></Schema></edmx:DataServices></edmx:Edmx>
        """;

    private static List<string> Faults(string xml)
    {
        var faults = new List<string>();
        if (CsdlReader.Read(Encoding.UTF8.GetBytes(xml), faults) is { } document)
            faults.AddRange(CsdlChecker.Check(document));
        return faults;
    }

    [Fact]
    public void A_valid_document_has_no_faults() => Assert.Empty(Faults(Valid));

    [Theory] // each breach is found, and nothing else is said
    [InlineData("Version=\"4.0\"", "Version=\"4\"", "version is '4'")]
    [InlineData("<edmx:DataServices>", "<edmx:DataServices", "not well-formed")]
    [InlineData("ns/edmx\"", "ns/edmx/\"", "root element")]
    [InlineData("ns/edm\"", "ns/edm/\"", "namespace")]
    [InlineData("Namespace=\"Shop\" Alias=\"self\"", "Namespace=\"Edm\" Alias=\"Shop\"", "cannot be a schema's namespace")]
    [InlineData("Alias=\"self\"", "Alias=\"odata\"", "reserved")]
    [InlineData("Name=\"Price\"", "Name=\"Unit price\"", "not a simple identifier")]
    [InlineData("Name=\"Price\"", "Name=\"1Price\"", "not a simple identifier")]
    [InlineData("<Property Name=\"Price\"", "<Property Name=\"Name\"", "stands 2 times")]
    [InlineData(
        "Name=\"ID\" Type=\"Edm.Int32\" Nullable=\"false\"/><Property Name=\"Price\"",
        "Name=\"ID\" Type=\"Edm.Int32\"/><Property Name=\"Price\"",
        "is nullable"
    )]
    [InlineData(
        "Name=\"ID\" Type=\"Edm.Int32\" Nullable=\"false\"/><Property Name=\"Price\"",
        "Name=\"ID\" Type=\"Edm.Double\" Nullable=\"false\"/><Property Name=\"Price\"",
        "which a key cannot be"
    )]
    [InlineData("<PropertyRef Name=\"ID\"/></Key>\n", "<PropertyRef Name=\"Id\"/></Key>\n", "not a property")]
    [InlineData("<Key><PropertyRef Name=\"ID\"/></Key>\n", "", "has no key")]
    [InlineData("Type=\"Edm.Decimal\" Precision=\"8\" Scale=\"2\"", "Type=\"Edm.DateTime\"", "does not exist")]
    [InlineData("Type=\"self.Color\"", "Type=\"self.Colour\"", "not declared")]
    [InlineData("Precision=\"8\" Scale=\"2\"", "Precision=\"2\" Scale=\"8\"", "more than Precision")]
    [InlineData("Precision=\"8\" Scale=\"2\"", "Precision=\"0\"", "at least 1")]
    [InlineData("Scale=\"2\"", "Scale=\"floating\"", "Scale is 'floating'")]
    [InlineData("MaxLength=\"10\"", "MaxLength=\"Max\"", "MaxLength is 'Max'")]
    [InlineData("Name=\"CatID\" Type=\"Edm.Int32\"", "Name=\"CatID\" Type=\"Edm.Int32\" MaxLength=\"4\"", "does not belong")]
    [InlineData("Nullable=\"false\"/><Property Name=\"Price\"", "Nullable=\"False\"/><Property Name=\"Price\"", "not true or false")]
    [InlineData("MaxLength=\"10\"", "nullable=\"false\"", "wrong case")]
    [InlineData("Partner=\"Products\"", "Partner=\"Goods\"", "not a navigation property")]
    [InlineData("Partner=\"Category\"", "Partner=\"Kind\"", "points at 'Kind'")]
    [InlineData("Collection(Shop.Product)\"", "Collection(Shop.Goods)\"", "not declared")]
    [InlineData("Collection(Shop.Product)\"", "Collection(Shop.Product)\" Nullable=\"false\"", "must not state Nullable")]
    [InlineData("Property=\"CatID\"", "Property=\"CategoryID\"", "names a property that is not there")]
    [InlineData("Name=\"CatID\" Type=\"Edm.Int32\"", "Name=\"CatID\" Type=\"Edm.Int64\"", "ties CatID (Edm.Int64)")]
    [InlineData("Target=\"Categories\"", "Target=\"Kinds\"", "which is not there")]
    [InlineData("Target=\"Categories\"", "Target=\"Products\"", "leads to Products")]
    [InlineData("Path=\"Category\"", "Path=\"Kind\"", "names no navigation property")]
    [InlineData("EntityType=\"Shop.Category\"", "EntityType=\"Shop.Kind\"", "not declared")]
    [InlineData("EntityType=\"Shop.Category\"", "EntityType=\"Shop.Color\"", "not an entity type")]
    [InlineData("<EntitySet Name=\"Categories\"", "<EntitySet Name=\"Products\"", "stands 2 times")]
    [InlineData("<Member Name=\"Red\"/>", "<Member Name=\"Red\" Value=\"1\"/>", "to some members")]
    [InlineData("<EnumType Name=\"Color\">", "<EnumType Name=\"Color\" IsFlags=\"true\">", "need values")]
    [InlineData(
        "<EntityContainer Name=\"Container\">",
        "<EntityContainer Name=\"Other\"/><EntityContainer Name=\"Container\">",
        "2 entity containers"
    )]
    [InlineData("Type=\"Shop.Category\" Partner", "Type=\"Shop.Category\" Nullable=\"false\" Partner", "never null")]
    [Proves("C-01 to C-60")]
    public void A_breach_is_found(string right, string wrong, string message)
    {
        Assert.Contains(right, Valid);
        var index = Valid.IndexOf(right, StringComparison.Ordinal);
        Assert.Contains(Faults(Valid[..index] + wrong + Valid[(index + right.Length)..]), f =>
            f.Contains(message, StringComparison.Ordinal)
        );
    }

    [Theory] // what we publish is valid in both versions
    [InlineData(ODataVersion.V40, "4.0")]
    [InlineData(ODataVersion.V401, "4.01")]
    [Proves("C-01, X-15")]
    public void Our_own_metadata_is_valid(ODataVersion version, string expected)
    {
        var faults = new List<string>();
        var document = CsdlReader.Read(CsdlXmlWriter.Write(network.Service.Model, version), faults)!;
        Assert.Empty(faults.Concat(CsdlChecker.Check(document)));
        Assert.Equal(expected, document.Version);
        Assert.Equal(network.Service.Model.Sets.Select(s => s.Name), document.Containers.Single().Sets.Select(s => s.Name));
    }

    [Theory]
    [InlineData("Edm.Int32", "", "5", true)]
    [InlineData("Edm.Int32", "", "2147483648", false)]
    [InlineData("Edm.Int32", "", "\"5\"", false)]
    [InlineData("Edm.Int32", "", "1.5", false)]
    [InlineData("Edm.Boolean", "", "1", false)]
    [InlineData("Edm.String", "MaxLength=3", "\"abc\"", true)]
    [InlineData("Edm.String", "MaxLength=3", "\"abcd\"", false)]
    [InlineData("Edm.String", "", "5", false)]
    [InlineData("Edm.Decimal", "Precision=5;Scale=2", "123.45", true)]
    [InlineData("Edm.Decimal", "Precision=5;Scale=2", "123.4500", true)]
    [InlineData("Edm.Decimal", "Precision=5;Scale=2", "1.234", false)]
    [InlineData("Edm.Decimal", "Precision=5;Scale=2", "1234.56", false)]
    [InlineData("Edm.Decimal", "Precision=5", "1.5", false)]
    [InlineData("Edm.Decimal", "Scale=variable", "1E3", false)]
    [InlineData("Edm.Double", "", "\"INF\"", true)]
    [InlineData("Edm.Double", "", "\"Infinity\"", false)]
    [InlineData("Edm.Guid", "", "\"21ec2020-3aea-1069-a2dd-08002b30309d\"", true)]
    [InlineData("Edm.Guid", "", "\"{21ec2020-3aea-1069-a2dd-08002b30309d}\"", false)]
    [InlineData("Edm.Date", "", "\"2024-02-29\"", true)]
    [InlineData("Edm.Date", "", "\"2023-02-29\"", false)]
    [InlineData("Edm.DateTimeOffset", "Precision=3", "\"2024-02-29T00:00:00.125Z\"", true)]
    [InlineData("Edm.DateTimeOffset", "Precision=3", "\"2024-02-29T00:00:00.1254Z\"", false)]
    [InlineData("Edm.DateTimeOffset", "", "\"2024-02-29T00:00:00.5Z\"", false)]
    [InlineData("Edm.DateTimeOffset", "", "\"2024-02-29T00:00:00\"", false)]
    [InlineData("Edm.DateTimeOffset", "", "\"2024-02-30T00:00:00Z\"", false)]
    [InlineData("Edm.TimeOfDay", "", "\"23:59:59\"", true)]
    [InlineData("Edm.TimeOfDay", "", "\"24:00:00\"", false)]
    [InlineData("Edm.Duration", "", "\"P1DT2H\"", true)]
    [InlineData("Edm.Duration", "", "\"2 hours\"", false)]
    [InlineData("Edm.Binary", "", "\"T0RhdGE_-\"", true)]
    [InlineData("Edm.Binary", "", "\"T0RhdGE+\"", false)]
    [InlineData("Edm.Binary", "MaxLength=2", "\"AAAA\"", false)]
    [InlineData("Edm.Int32", "Nullable=false", "null", false)]
    [InlineData("Edm.Int32", "", "null", true)]
    [InlineData("Collection(Edm.Int32)", "", "[1,2]", true)]
    [InlineData("Collection(Edm.Int32)", "", "[1,\"2\"]", false)]
    [InlineData("Collection(Edm.Int32)", "", "null", false)]
    [Proves("J-29 to J-37, C-27")]
    public void A_value_is_held_to_its_property(string type, string facets, string json, bool fits)
    {
        var given = facets.Split(';', StringSplitOptions.RemoveEmptyEntries).ToDictionary(f => f.Split('=')[0], f => f.Split('=')[1]);
        given.Remove("Nullable", out var nullable);
        var property = new CsdlProperty("p", type, nullable, System.Collections.Immutable.ImmutableDictionary.CreateRange(given));
        var fault = new ValueChecker(new CsdlDocument("4.0", [], [])).Check(property, JsonDocument.Parse(json).RootElement);
        Assert.True(fault is null == fits, fault ?? "no fault");
    }

    [Fact]
    public void A_report_for_build_servers_counts_and_quotes()
    {
        var report = new VerificationReport([
            new ServiceReport(
                "s",
                "http://x/",
                [
                    new CheckResult("paging", "Stations", CheckOutcome.Passed, "ok", 5),
                    new CheckResult("count", "Stations", CheckOutcome.Failed, "It says 'a\u0001<b'", 1, "http://x/Stations/$count"),
                    new CheckResult("count", "Sensors", CheckOutcome.Skipped, "why", 0),
                ],
                TimeSpan.FromSeconds(1.5)
            ),
        ]);
        var xml = report.ToJUnit();
        Assert.Equal(
            ("3", "1", "1"),
            (xml.Root!.Attribute("tests")!.Value, xml.Root.Attribute("failures")!.Value, xml.Root.Attribute("skipped")!.Value)
        );
        Assert.Contains("It says 'a?&lt;b'", xml.ToString());
        Assert.True(report.HasFailures);
    }
}
