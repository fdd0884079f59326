using System.Text;
using RapidGable.Model;
using RapidGable.Payloads.Plain;

namespace RapidGable.Core.Tests;

/// <summary>CSV that is sent (RFC 4180).</summary>
public sealed class CsvTableTests
{
    private static readonly EntitySet Set = MakeSet();

    private static EntitySet MakeSet()
    {
        var id = new Property("id", EdmType.Int64, false, "id");
        Property Of(string name, EdmType type) => new(name, type, true, name);
        var place = new Property("place", new EdmType(EdmKind.Complex), false, "") { Members = [Of("lat", EdmType.Double)] };
        var type = new EntityType("T", [id, Of("name", EdmType.String), Of("ok", EdmType.Boolean), place], [], [id], []);
        return new EntitySet("Ts", type, new TableSource("s", null, "t"));
    }

    private static string Json(string csv)
    {
        Assert.True(CsvTable.Read(Encoding.UTF8.GetBytes(csv)).Is(out var table, out var fault), fault?.Message);
        Assert.True(table.ToJson(Set).Is(out var json, out fault), fault?.Message);
        return json.RootElement.GetRawText().Replace('"', '\'');
    }

    [Theory]
    [Proves("R-23, R-24")]
    [InlineData("id,name\r\n1,a\r\n2,b\r\n", "[{'id':1,'name':'a'},{'id':2,'name':'b'}]")]
    [InlineData("id,name\n1,a\n2,b", "[{'id':1,'name':'a'},{'id':2,'name':'b'}]")]
    [InlineData("id,name\r\n1,\r\n2,\"\"\r\n", "[{'id':1,'name':null},{'id':2,'name':''}]")]
    [InlineData("id,name\r\n1,\"a, b\"\r\n", "[{'id':1,'name':'a, b'}]")]
    [InlineData("id,name\r\n1,\"a\r\nb\"\r\n2,c", "[{'id':1,'name':'a\\r\\nb'},{'id':2,'name':'c'}]")]
    [InlineData("id,name\r\n1, a \r\n", "[{'id':1,'name':' a '}]")]
    [InlineData("\uFEFFid,name\r\n1,a\r\n", "[{'id':1,'name':'a'}]")]
    [InlineData("id,ok\r\n1,true\r\n2,no\r\n", "[{'id':1,'ok':true},{'id':2,'ok':'no'}]")]
    [InlineData("id,place/lat\r\n1,1.5\r\n", "[{'id':1,'place':{'lat':1.5}}]")]
    [InlineData("id,name\r\nx,5\r\n", "[{'id':'x','name':'5'}]")]
    [InlineData("name\r\n\r\n", "[{'name':null}]")]
    [InlineData("id,name\r\n,a\r\n", "[{'name':'a'}]")]
    [InlineData("id,name\r\n\r\n1,a\r\n", "[{'id':1,'name':'a'}]")]
    [InlineData("id,name", "[]")]
    public void Rows_become_objects(string csv, string expected) => Assert.Equal(expected, Json(csv));

    [Fact]
    public void Double_quotes_stand_for_one() =>
        Assert.Contains("say \\u0022so\\u0022", Json("id,name\r\n1,\"say \"\"so\"\"\"\r\n").Replace("\\'", "\\u0022"));

    [Theory]
    [InlineData("", "its first line holds")]
    [InlineData("id,id\r\n1,2", "'id' is there twice")]
    [InlineData("id,name\r\n1\r\n", "Line 2 has 1 field, and the first line 2")]
    [InlineData("id,name\r\n1,2,3\r\n", "Line 2 has 3 fields")]
    [InlineData("id,name\r\n1,\"a\r\nb\"\r\n2\r\n", "Line 4 has 1 field")]
    [InlineData("id,name\r\n1,\"a", "a double quote is not closed")]
    [InlineData("id,name\r\n1,\"a\"b\r\n", "more follows its double quote")]
    [InlineData("id,name\r\n1,a\"b\r\n", "does not begin with one")]
    public void Broken_lines_are_named(string csv, string message) =>
        Assert.Contains(message, CsvTable.Read(Encoding.UTF8.GetBytes(csv)).Fault!.Message);

    [Fact]
    public void Unknown_columns_are_named()
    {
        var table = CsvTable.Read("id,nam,plce/lat\r\n1,a,2\r\n"u8.ToArray()).Value!;
        var fault = table.ToJson(Set).Fault!;
        Assert.Equal(["nam", "plce/lat"], fault.Details.Select(d => d.Target));
        Assert.Contains("Did you mean 'name'?", fault.Details[0].Message);
    }

    [Fact]
    public void Broken_UTF8_is_refused() => Assert.Contains("UTF-8", CsvTable.Read([0x69, 0xC3, 0x28]).Fault!.Message);
}
