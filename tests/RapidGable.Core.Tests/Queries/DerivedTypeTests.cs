using System.Text;
using System.Xml.Linq;
using RapidGable.Metadata;
using RapidGable.Payloads;

namespace RapidGable.Core.Tests;

public sealed class SqliteDerivedTypeTests() : DerivedTypeTests(Engine.Sqlite);

public sealed class PostgresDerivedTypeTests(PostgresServer server)
    : DerivedTypeTests(Engine.PostgreSql, server),
        IClassFixture<PostgresServer>;

public sealed class MariaDbDerivedTypeTests(MariaDbServer server)
    : DerivedTypeTests(Engine.MariaDb, null, server),
        IClassFixture<MariaDbServer>;

/// <summary>Types that derive: told by a column of one table, and by rows in tables of their own.</summary>
public abstract class DerivedTypeTests(Engine engine, PostgresServer? postgres = null, MariaDbServer? mariaDb = null)
    : EngineTests(engine, postgres, mariaDb)
{
    protected override string Tables =>
        """
            CREATE TABLE place (id BIGINT PRIMARY KEY, name VARCHAR(20));
            CREATE TABLE device (id BIGINT PRIMARY KEY, place_id BIGINT REFERENCES place (id), kind VARCHAR(10), label VARCHAR(20), reach BIGINT, blades BIGINT);
            CREATE TABLE site (id BIGINT PRIMARY KEY, title VARCHAR(20), place_id BIGINT);
            CREATE TABLE gauge (site_id BIGINT PRIMARY KEY REFERENCES site (id), depth BIGINT, secret VARCHAR(20));
            CREATE TABLE mast (site_id BIGINT PRIMARY KEY REFERENCES site (id), height DECIMAL(6,2));
            INSERT INTO place VALUES (1, 'weir'), (2, 'ford');
            INSERT INTO device VALUES (1, 1, 'radar', 'r1', 10, NULL), (2, 1, 'wheel', 'w1', NULL, 4), (3, 2, 'plain', 'p1', NULL, NULL), (4, 2, 'sonar', 'r2', 20, NULL), (5, NULL, NULL, 'n1', NULL, NULL);
            INSERT INTO site VALUES (1, 'one', 1), (2, 'two', 1), (3, 'three', 2);
            INSERT INTO gauge VALUES (1, 7, 'x'), (3, 9, 'y');
            INSERT INTO mast VALUES (2, 12.5);
            """;

    protected override string Declaration =>
        """
            title: S
            source: main
            namespace: T
            rules: { read: anyone }
            sets:
              - { from: place, name: Places, type: Place }
              - from: device
                name: Devices
                type: Device
                discriminator: kind
                derived:
                  Echo: { when: [radar, sonar], columns: [reach] }
                  Wheel: { when: wheel, columns: [blades] }
              - from: site
                name: Sites
                type: Site
                relations: { place: { to: Places, on: place_id, back: sites } }
                derived:
                  Gauge: { from: gauge, hide: secret }
                  Mast: { from: mast }
            """;

    [Theory]
    [InlineData(
        "Devices",
        "{'#Devices','value':[{'@type':'#T.Echo','id':1,'place_id':1,'kind':'radar','label':'r1','reach':10},{'@type':'#T.Wheel','id':2,'place_id':1,'kind':'wheel','label':'w1','blades':4},{'id':3,'place_id':2,'kind':'plain','label':'p1'},{'@type':'#T.Echo','id':4,'place_id':2,'kind':'sonar','label':'r2','reach':20},{'id':5,'place_id':null,'kind':null,'label':'n1'}]}"
    )]
    [InlineData("Devices(1)", "{'#Devices/$entity','@type':'#T.Echo','id':1,'place_id':1,'kind':'radar','label':'r1','reach':10}")]
    [InlineData(
        "Devices/T.Echo",
        "{'#Devices/T.Echo','value':[{'id':1,'place_id':1,'kind':'radar','label':'r1','reach':10},{'id':4,'place_id':2,'kind':'sonar','label':'r2','reach':20}]}"
    )]
    [InlineData("Devices/T.Echo/$count", "2")]
    [InlineData(
        "Devices/T.Echo?$filter=reach gt 15&$select=label,reach",
        "{'#Devices/T.Echo(label,reach)','value':[{'@id':'Devices(4)','label':'r2','reach':20}]}"
    )]
    [InlineData("Devices(1)/T.Echo", "{'#Devices/T.Echo/$entity','id':1,'place_id':1,'kind':'radar','label':'r1','reach':10}")]
    [InlineData("Devices/T.Echo(4)?$select=id,reach", "{'#Devices/T.Echo(id,reach)/$entity','id':4,'reach':20}")]
    [InlineData("Devices(2)/T.Echo", "404")]
    [InlineData("Devices(1)/T.Echo/reach", "{'#Devices(1)/reach','value':10}")]
    [InlineData("Devices(2)/T.Echo/reach", "404")]
    [InlineData("Devices(1)/reach", "404 not-found")]
    [InlineData("Devices?$filter=T.Echo/reach gt 15&$select=id", "{'#Devices(id)','value':[{'@type':'#T.Echo','id':4}]}")]
    [InlineData(
        "Devices?$filter=T.Echo/reach eq null&$select=id&$orderby=id desc",
        "{'#Devices(id)','value':[{'id':5},{'id':3},{'@type':'#T.Wheel','id':2}]}"
    )]
    [InlineData(
        "Devices?$filter=isof(T.Wheel)&$select=T.Wheel/blades,id",
        "{'#Devices(T.Wheel/blades,id)','value':[{'@type':'#T.Wheel','id':2,'blades':4}]}"
    )]
    [InlineData("Devices?$filter=not isof(T.Echo)&$select=id", "{'#Devices(id)','value':[{'@type':'#T.Wheel','id':2},{'id':3},{'id':5}]}")]
    [InlineData(
        "Devices?$orderby=T.Echo/reach desc&$top=2&$select=id",
        "{'#Devices(id)','value':[{'@type':'#T.Echo','id':4},{'@type':'#T.Echo','id':1}]}"
    )]
    [InlineData(
        "Devices?$apply=filter(isof(T.Echo))/aggregate(T.Echo/reach with sum as total)",
        "{'#Devices(total)','value':[{'@id':null,'total@type':'#Decimal','total':30}]}"
    )]
    [InlineData("Places?$filter=Devices/any(d:d/T.Echo/reach gt 15)&$select=id", "{'#Places(id)','value':[{'id':2}]}")]
    [InlineData(
        "Places(1)?$select=id&$expand=sites($select=id,T.Gauge/depth)",
        "{'#Places(id,sites(id,T.Gauge/depth))/$entity','id':1,'sites':[{'@type':'#T.Gauge','id':1,'depth':7},{'@type':'#T.Mast','id':2}]}"
    )]
    [InlineData("Places(2)/sites/T.Gauge?$select=depth,id", "{'#Sites/T.Gauge(depth,id)','value':[{'id':3,'depth':9}]}")]
    [InlineData(
        "Sites?$select=*",
        "{'#Sites(*)','value':[{'@type':'#T.Gauge','id':1,'title':'one','place_id':1,'depth':7},{'@type':'#T.Mast','id':2,'title':'two','place_id':1,'height':12.50},{'@type':'#T.Gauge','id':3,'title':'three','place_id':2,'depth':9}]}"
    )]
    [InlineData("Sites/T.Mast", "{'#Sites/T.Mast','value':[{'id':2,'title':'two','place_id':1,'height':12.50}]}")]
    [InlineData(
        "Sites?$filter=T.Gauge/depth gt 8 or T.Mast/height gt 100&$select=id",
        "{'#Sites(id)','value':[{'@type':'#T.Gauge','id':3}]}"
    )]
    [InlineData(
        "Sites?$orderby=T.Mast/height desc,T.Gauge/depth desc&$select=id",
        "{'#Sites(id)','value':[{'@type':'#T.Mast','id':2},{'@type':'#T.Gauge','id':3},{'@type':'#T.Gauge','id':1}]}"
    )]
    [InlineData("Sites?$filter=isof(T.Mast)&$select=id", "{'#Sites(id)','value':[{'@type':'#T.Mast','id':2}]}")]
    [InlineData("Sites(1)/T.Gauge/depth", "{'#Sites(1)/depth','value':7}")]
    [InlineData("Sites/T.Mast/$count", "1")]
    [InlineData("Sites/T.Echo", "404 not-found")]
    [InlineData("Sites?$filter=T.Echo/reach gt 1", "400 unknown-type")]
    [InlineData("Sites?$filter=T.Gauge/secret eq 'x'", "400 unknown-property")]
    [InlineData("Sites?$select=T.Gauge/secret", "400 unknown-property")]
    [InlineData("Sites?$filter=T.Gauge eq null", "400 type")]
    [InlineData("Sites(1)/T.Gauge/place", "{'#Places/$entity','id':1,'name':'weir'}")]
    [InlineData("Sites(2)/T.Gauge/place", "404")]
    [InlineData("Sites/T.Mast(2)/place/name", "{'#Places(1)/name','value':'weir'}")]
    [InlineData(
        "Devices(1)/T.Echo/place/Devices?$select=id",
        "{'#Devices(id)','value':[{'@type':'#T.Echo','id':1},{'@type':'#T.Wheel','id':2}]}"
    )]
    [InlineData("Devices(2)/T.Echo/place/Devices/$count", "404")]
    [InlineData("Places(1)/Devices(1)/T.Echo/place/sites/T.Gauge/$count", "1")]
    [InlineData("Places(1)/Devices(2)/T.Echo/place/name", "404")]
    [InlineData("Devices/T.Device(1)/place/name", "404 not-found")]
    [InlineData(
        "Devices?$select=id&$expand=T.Echo/place($select=name)",
        "{'#Devices(id,T.Echo/place(name))','value':[{'@type':'#T.Echo','id':1,'place':{'@id':'Places(1)','name':'weir'}},{'@type':'#T.Wheel','id':2},{'id':3},{'@type':'#T.Echo','id':4,'place':{'@id':'Places(2)','name':'ford'}},{'id':5}]}"
    )]
    [InlineData(
        "Places(1)?$select=id&$expand=sites($select=id;$expand=T.Mast/place($select=id),T.Gauge/place($select=id;$expand=Devices($top=1;$select=id)))",
        "{'#Places(id,sites(id,T.Mast/place(id),T.Gauge/place(id,Devices(id))))/$entity','id':1,'sites':[{'@type':'#T.Gauge','id':1,'place':{'id':1,'Devices':[{'@type':'#T.Echo','id':1}]}},{'@type':'#T.Mast','id':2,'place':{'id':1}}]}"
    )]
    [InlineData(
        "Places?$select=id&$expand=Devices($select=id;$expand=T.Wheel/place($select=id;$expand=sites($count=true;$select=id)))",
        "{'#Places(id,Devices(id,T.Wheel/place(id,sites(id))))','value':[{'id':1,'Devices':[{'@type':'#T.Echo','id':1},{'@type':'#T.Wheel','id':2,'place':{'id':1,'sites@count':2,'sites':[{'@type':'#T.Gauge','id':1},{'@type':'#T.Mast','id':2}]}}]},{'id':2,'Devices':[{'id':3},{'@type':'#T.Echo','id':4}]}]}"
    )]
    [InlineData(
        "Devices?$select=id&$expand=T.Device/place($select=id)&$top=1",
        "{'#Devices(id,place(id))','value':[{'@type':'#T.Echo','id':1,'place':{'id':1}}]}"
    )]
    [InlineData("Devices?$filter=T.Echo/place/name eq 'ford'&$select=id", "{'#Devices(id)','value':[{'@type':'#T.Echo','id':4}]}")]
    [InlineData("Devices?$filter=T.Device/label eq 'w1'&$select=id", "{'#Devices(id)','value':[{'@type':'#T.Wheel','id':2}]}")]
    [InlineData(
        "Devices?$filter=T.Echo/place/sites/any(s:s/T.Gauge/depth eq 9)&$select=id",
        "{'#Devices(id)','value':[{'@type':'#T.Echo','id':4}]}"
    )]
    [InlineData(
        "Devices?$filter=T.Echo/place/sites/all(s:s/T.Gauge/depth eq 9)&$select=id",
        "{'#Devices(id)','value':[{'@type':'#T.Wheel','id':2},{'id':3},{'@type':'#T.Echo','id':4},{'id':5}]}"
    )]
    [InlineData(
        "Devices?$orderby=T.Echo/place/sites/$count desc,id desc&$select=id",
        "{'#Devices(id)','value':[{'@type':'#T.Echo','id':1},{'@type':'#T.Echo','id':4},{'id':5},{'id':3},{'@type':'#T.Wheel','id':2}]}"
    )]
    [InlineData(
        "Places?$filter=Devices/$count($filter=isof(T.Echo)) eq Devices/$count($filter=isof(T.Device)) sub 1&$select=id",
        "{'#Places(id)','value':[{'id':1},{'id':2}]}"
    )]
    [InlineData("Sites?$filter=isof(T.Site)&$select=id&$top=1", "{'#Sites(id)','value':[{'@type':'#T.Gauge','id':1}]}")]
    [InlineData("Devices?$expand=T.Echo/place,place", "400 expand-twice")]
    [InlineData("Devices?$expand=T.Nothing/place", "400 unknown-type")]
    [InlineData("Devices?$expand=T.Echo", "400 syntax")]
    [InlineData("Devices?$expand=place/T.Place", "501 not-implemented")]
    [InlineData("Devices?$filter=T.Echo/nothing/name eq 'x'", "400 unknown-property")]
    [InlineData("Devices?$filter=T.Echo/place eq null", "501 not-implemented")]
    [Proves("U-31, Q-11, Q-52, Q-81, Q-90, J-05, J-20")]
    public async Task A_cast_means_the_entities_of_a_type(string url, string expected)
    {
        var found = await GetAsync(url);
        Assert.Equal(expected.Replace("12.50", "12.5"), found.Replace("12.50", "12.5"));
    }

    [Fact]
    [Proves("C-10, C-14, C-49")]
    public void The_metadata_states_the_base_types()
    {
        var bytes = CsdlXmlWriter.Write(Service.Model, ODataVersion.V401);
        var xml = XDocument.Parse(Encoding.UTF8.GetString(bytes).TrimStart('\uFEFF'));
        var types = xml.Descendants().Where(e => e.Name.LocalName == "EntityType").ToDictionary(t => (string)t.Attribute("Name")!);
        Assert.Equal("T.Site", (string?)types["Gauge"].Attribute("BaseType"));
        Assert.Equal(
            ["depth"],
            types["Gauge"].Elements().Where(e => e.Name.LocalName == "Property").Select(p => (string)p.Attribute("Name")!)
        );
        Assert.DoesNotContain(types["Device"].Elements(), e => (string?)e.Attribute("Name") == "reach");
        Assert.Equal(4, xml.Descendants().Count(e => e.Attribute("BaseType") is not null));
        Assert.Contains("\"$BaseType\": \"T.Site\"", Encoding.UTF8.GetString(CsdlJsonWriter.Write(bytes)));
        Assert.Equal(["Places", "Devices", "Sites"], Service.Model.Sets.Select(s => s.Name));
        Assert.Null(Service.Model.FindSet("Sites/Gauge"));
    }
}
