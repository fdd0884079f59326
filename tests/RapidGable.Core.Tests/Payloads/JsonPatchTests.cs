using System.Text.Json;
using RapidGable.Payloads.Plain;

namespace RapidGable.Core.Tests;

/// <summary>Patches by operations (RFC 6902).</summary>
public sealed class JsonPatchTests
{
    private const string Row = """{"id":1,"name":"a","note":null,"place":{"lat":1.5,"lon":2},"tags":["x","y"],"a/b":1,"c~d":2}""";

    private static JsonElement Json(string text) => JsonDocument.Parse(text.Replace('\'', '"')).RootElement;

    [Theory]
    [Proves("R-18")]
    [InlineData("[{'op':'replace','path':'/name','value':'b'}]", "{'name':'b'}")]
    [InlineData("[{'op':'add','path':'/note','value':'n'}]", "{'note':'n'}")]
    [InlineData("[{'op':'remove','path':'/name'}]", "{'name':null}")]
    [InlineData("[{'op':'copy','from':'/name','path':'/note'}]", "{'note':'a'}")]
    [InlineData("[{'op':'move','from':'/name','path':'/note'}]", "{'note':'a','name':null}")]
    [InlineData("[{'op':'test','path':'/id','value':1.0}]", "{}")]
    [InlineData("[{'op':'test','path':'/note','value':null},{'op':'replace','path':'/id','value':2}]", "{'id':2}")]
    [InlineData("[{'op':'replace','path':'/place/lat','value':3}]", "{'place':{'lat':3,'lon':2}}")]
    [InlineData("[{'op':'add','path':'/tags/-','value':'z'}]", "{'tags':['x','y','z']}")]
    [InlineData("[{'op':'add','path':'/tags/0','value':'z'}]", "{'tags':['z','x','y']}")]
    [InlineData("[{'op':'add','path':'/tags/2','value':'z'}]", "{'tags':['x','y','z']}")]
    [InlineData("[{'op':'remove','path':'/tags/1'}]", "{'tags':['x']}")]
    [InlineData("[{'op':'replace','path':'/a~1b','value':5},{'op':'replace','path':'/c~0d','value':6}]", "{'a/b':5,'c~d':6}")]
    [InlineData("[{'op':'replace','path':'/name','value':'b'},{'op':'replace','path':'/name','value':'a'}]", "{}")]
    [InlineData("[{'op':'replace','path':'','value':{'name':'q'}}]", null)]
    [InlineData("[]", "{}")]
    public void Operations_become_changes(string patch, string? expected)
    {
        var changes = JsonPatch.Changes(Json(patch), Json(Row), 1_000_000).Value!.RootElement;
        if (expected is null)
            Assert.Equal("q", changes.GetProperty("name").GetString());
        else
            Assert.True(JsonElement.DeepEquals(Json(expected), changes), changes.GetRawText());
    }

    [Theory]
    [Proves("R-18")]
    [InlineData("{}", 400, "array of operations")]
    [InlineData("[1]", 400, "'op' is missing")]
    [InlineData("[{'op':'drop','path':'/name'}]", 400, "'drop' is none of")]
    [InlineData("[{'op':'replace','path':'name','value':1}]", 400, "no JSON pointer")]
    [InlineData("[{'op':'replace','path':'/a~2b','value':1}]", 400, "no JSON pointer")]
    [InlineData("[{'op':'replace','path':'/name'}]", 400, "'value' is missing")]
    [InlineData("[{'op':'move','path':'/name'}]", 400, "'from' is missing")]
    [InlineData("[{'op':'replace','path':'/nothing','value':1}]", 409, "there is no 'nothing'")]
    [InlineData("[{'op':'remove','path':'/nothing'}]", 409, "there is no 'nothing'")]
    [InlineData("[{'op':'remove','path':'/tags/5'}]", 409, "there is no '5'")]
    [InlineData("[{'op':'remove','path':'/tags/01'}]", 409, "there is no '01'")]
    [InlineData("[{'op':'add','path':'/tags/9','value':1}]", 409, "nothing can be added at '9'")]
    [InlineData("[{'op':'add','path':'/nothing/x','value':1}]", 409, "there is no 'nothing'")]
    [InlineData("[{'op':'test','path':'/name','value':'z'}]", 409, "another value")]
    [InlineData("[{'op':'move','from':'/place','path':'/place/lat'}]", 409, "into itself")]
    [InlineData("[{'op':'remove','path':''}]", 400, "the entity itself")]
    public void Wrong_operations_change_nothing(string patch, int status, string message)
    {
        var fault = JsonPatch.Changes(Json(patch), Json(Row), 1_000_000).Fault!;
        Assert.Equal(status, fault.Status);
        Assert.Contains(message, fault.Message);
    }

    private static string Repeated(string operation, int times) => $"[{string.Join(',', Enumerable.Repeat(operation, times))}]";

    [Theory]
    // Each copies what the one before has made.
    [InlineData("{'op':'copy','from':'/tags','path':'/tags/-'}", 24, "handle more than 100000 bytes")]
    [InlineData("{'op':'copy','from':'/place','path':'/place/lat'}", 24, null)]
    [InlineData("{'op':'copy','from':'/place','path':'/place/lat'}", 70, "more than 64 levels deep")]
    [InlineData("{'op':'add','path':'/tags/-','value':'0123456789'}", 900, null)]
    [InlineData("{'op':'test','path':'/place','value':{'lat':1.5,'lon':2}}", 900, null)]
    [InlineData("{'op':'move','from':'/tags/0','path':'/tags/-'}", 900, null)]
    [InlineData("{'op':'add','path':'/note','value':[[[]]]}", 900, null)]
    [InlineData("{'op':'add','path':'/note','value':1}", 1_001, "more than 1000 operations")]
    public void What_operations_handle_is_bounded(string operation, int times, string? message)
    {
        var found = JsonPatch.Changes(Json(Repeated(operation, times)), Json(Row), 100_000);
        Assert.Equal(message is null ? null : 413, found.Fault?.Status);
        Assert.Contains(message ?? "", found.Fault?.Message ?? "");
    }

    [Fact]
    public void What_operations_make_nests_as_deep_as_a_body_may()
    {
        // Every operation puts a list into the innermost one.
        string Nested(int levels) => $"[{string.Join(',', Enumerable.Range(1, levels).Select(Add))}]";
        static string Add(int level) => $"{{'op':'add','path':'/tags{string.Concat(Enumerable.Repeat("/0", level))}','value':[]}}";
        Assert.Null(JsonPatch.Changes(Json(Nested(JsonPatch.MostLevels - 2)), Json(Row), 100_000).Fault);
        var fault = JsonPatch.Changes(Json(Nested(JsonPatch.MostLevels + 6)), Json(Row), 100_000).Fault;
        Assert.Contains("more than 64 levels deep", fault?.Message);
    }
}
