using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>Creating, changing and deleting over HTTP, with the same answers on every engine.</summary>
[Collection("writing")]
public sealed class WritingTests(WritingFixture engines) : IAsyncLifetime
{
    private const string Root = "/odata/s/";

    public Task InitializeAsync() => engines.ResetAsync();

    public Task DisposeAsync() => Task.CompletedTask;

    /// <summary>Headers written as <c>Name: value | Name: value</c>.</summary>
    private static (string, string)[] Headers(string text) =>
        [.. text.Split(" | ", StringSplitOptions.RemoveEmptyEntries).Select(h => h.Split(": ", 2)).Select(h => (h[0], h[1]))];

    private Task<Answer> SendAsync(string method, string target, string? body = null, string headers = "") =>
        engines.SameAsync(method, Root + target, body, Headers(headers));

    private async Task<string> ReadAsync(string target) => (await SendAsync("GET", target)).Text;

    [Theory]
    [InlineData("POST", "Basins", """{"id":3,"name":"Upper"}""", "", 201, "\"id\":3,\"name\":\"Upper\",\"parent_id\":null")]
    [InlineData("POST", "Basins", """{"id":3,"name":"Upper"}""", "Prefer: return=minimal", 204, "")]
    [InlineData("POST", "Basins", """{"id":3,"name":"Upper"}""", "Prefer: return=representation", 201, "$metadata#Basins/$entity")]
    [InlineData("POST", "Basins?$select=name", """{"id":3,"name":"Upper"}""", "", 201, "#Basins(name)/$entity")]
    [InlineData(
        "POST",
        "Basins?$expand=parent",
        """{"id":3,"name":"Upper","parent@odata.bind":"Basins(1)"}""",
        "",
        201,
        "\"parent\":{\"id\":1"
    )]
    [InlineData("POST", "Basins?$filter=id eq 1", """{"id":3,"name":"Upper"}""", "", 400, "option-not-here")]
    [InlineData("POST", "Basins?$select=nope", """{"id":3,"name":"Upper"}""", "", 400, "nope")]
    [InlineData("POST", "Gauges", """{"code":"C","basin_id":1}""", "", 201, "\"online\":true")]
    [InlineData("POST", "Gauges", """{"code":"C","basin_id":1,"version":77}""", "", 201, "\"version\":1")]
    [InlineData("POST", "Gauges", """{"code":"C"}""", "", 400, "\"target\":\"basin_id\"")]
    [InlineData("POST", "Gauges", """{}""", "", 400, "2 things are wrong")]
    [InlineData("POST", "Gauges", """{"code":"C","basin_id":1,"nope":1}""", "", 400, "\"code\":\"unknown-property\"")]
    [InlineData(
        "POST",
        "Gauges",
        """{"@odata.context":"x","@odata.etag":"W/\"1\"","@odata.editLink":"y","code":"C","basin_id":1,"parts@odata.navigationLink":"z","@my.note":1}""",
        "",
        201,
        "\"code\":\"C\""
    )]
    [InlineData("POST", "Basins", """{"id":1,"name":"Other"}""", "", 409, "\"target\":\"id\"")]
    [InlineData("POST", "Basins", """{"id":3,"name":"Alder"}""", "", 409, "\"target\":\"name\"")]
    [InlineData("POST", "Gauges", """{"code":"C","basin@odata.bind":"Basins(2)"}""", "", 201, "\"basin_id\":2")]
    [InlineData("POST", "Gauges", """{"code":"C","basin":{"@id":"Basins(2)"}}""", "OData-Version: 4.01", 201, "\"basin_id\":2")]
    [InlineData("POST", "Gauges", """{"code":"C","basin@odata.bind":"Basins(9)"}""", "", 400, "bind-target")]
    [InlineData("POST", "Gauges", """{"code":"C","basin@odata.bind":"Tags(1)"}""", "", 400, "Basins is what belongs here")]
    [InlineData("POST", "Gauges", """{"code":"C","basin@odata.bind":"Basins"}""", "", 400, "not the address of an entity")]
    [InlineData(
        "POST",
        "Gauges",
        """{"code":"C","basin@odata.bind":"http://elsewhere.example.org/Basins(1)"}""",
        "",
        400,
        "not the address of an entity"
    )]
    [InlineData("POST", "Gauges", """{"code":"C","basin_id":1,"basin@odata.bind":"Basins(2)"}""", "", 400, "contradiction")]
    [InlineData(
        "POST",
        "Gauges",
        """{"code":"C","basin@odata.bind":"Basins(2)","tags@odata.bind":["Tags(1)","Tags(2)"]}""",
        "",
        201,
        "\"code\":\"C\""
    )]
    [InlineData(
        "POST",
        "Gauges",
        """{"code":"C","basin@odata.bind":"Basins(2)","tags@odata.bind":["Tags(7)"]}""",
        "",
        400,
        "tags@odata.bind/0"
    )]
    [InlineData(
        "POST",
        "Gauges",
        """{"code":"C","basin":{"id":7,"name":"New"},"parts":[{"line":1,"title":"Mast"}],"tags":[{"id":5,"label":"five"}]}""",
        "",
        201,
        "\"parts\":[{\"gauge_code\":\"C\",\"line\":1,\"title\":\"Mast\"}]"
    )]
    [InlineData(
        "POST",
        "Gauges",
        """{"code":"C","basin":{"id":7,"name":"New"},"parts":[{"line":1}]}""",
        "",
        400,
        "\"target\":\"parts/0/title\""
    )]
    [InlineData("POST", "Gauges", """{"code":"C","basin":{"id":7,"name":"Alder"}}""", "", 409, "\"target\":\"basin/name\"")]
    [InlineData(
        "POST",
        "Basins",
        """{"id":3,"name":"3","parent":{"id":4,"name":"4","parent":{"id":5,"name":"5"}}}""",
        "",
        201,
        "\"parent\":{\"id\":4"
    )]
    [InlineData("POST", "Basins(2)/Gauges", """{"code":"C"}""", "", 201, "\"basin_id\":2")]
    [InlineData("POST", "Basins(9)/Gauges", """{"code":"C"}""", "", 404, "not-found")]
    [InlineData("POST", "Gauges('A%2F1')/parts", """{"line":3,"title":"Mast"}""", "", 201, "Gauges('A%2F1')/parts/$entity")]
    [InlineData("POST", "Gauges('A%2F1')/tags", """{"id":3,"label":"third"}""", "", 201, "\"label\":\"third\"")]
    [InlineData("POST", "Parts", """{"gauge_code":"B","line":3,"title":"Mast"}""", "", 404, "found there")]
    [InlineData("PATCH", "Gauges('B')", """{"level":2.5}""", "Prefer: return=representation", 200, "\"level\":2.5")]
    [InlineData("PATCH", "Gauges('B')", """{"level":2.5}""", "", 204, "")]
    [InlineData("PATCH", "Gauges('B')?$select=level", """{"level":2.5}""", "", 200, "\"level\":2.5")]
    [InlineData("PATCH", "Gauges('B')", """{}""", "Prefer: return=representation", 200, "\"version\":1")]
    [InlineData("PATCH", "Gauges('B')", """{"code":"Z","version":9,"level":1}""", "Prefer: return=representation", 200, "\"code\":\"B\"")]
    [InlineData(
        "PATCH",
        "Gauges('A%2F1')",
        """{"place":{"lat":1}}""",
        "Prefer: return=representation",
        200,
        "\"place\":{\"lat\":1,\"lon\":-1.5}"
    )]
    [InlineData(
        "PATCH",
        "Gauges('A%2F1')",
        """{"settings":{"rate":6,"limits":{"low":1.25,"high":null}}}""",
        "Prefer: return=representation",
        200,
        "\"settings\":{\"rate\":6,\"unit\":\"m\",\"limits\":{\"low\":1.25,\"high\":null}}"
    )]
    [InlineData("PATCH", "Gauges('A%2F1')", """{"sort":"Flow"}""", "Prefer: return=representation", 200, "\"sort\":\"Flow\"")]
    [InlineData("PATCH", "Gauges('A%2F1')", """{"sort":null,"opened":null}""", "Prefer: return=representation", 200, "\"opened\":null")]
    [InlineData(
        "PATCH",
        "Gauges('B')/basin",
        """{"name":"Ferrin Brook"}""",
        "Prefer: return=representation",
        200,
        "\"id\":2,\"name\":\"Ferrin Brook\""
    )]
    [InlineData(
        "PUT",
        "Gauges('A%2F1')",
        """{"basin_id":2}""",
        "Prefer: return=representation",
        200,
        "\"level\":null,\"online\":true,\"opened\":null"
    )]
    [InlineData("PUT", "Gauges('A%2F1')", """{"level":2}""", "", 400, "\"target\":\"basin_id\"")]
    [InlineData("PATCH", "Gauges('B')", """{"level":"1"}""", "", 400, "is a text, and takes Edm.Decimal as a number")]
    [InlineData("PATCH", "Gauges('B')", """{"level":"1.5"}""", "Content-Type: application/json;IEEE754Compatible=true", 204, "")]
    [InlineData("PATCH", "Gauges('B')", """{"level":1.2345}""", "", 400, "4 digits after the point")]
    [InlineData("PATCH", "Gauges('B')", """{"level":12345.5}""", "", 400, "more digits than")]
    [InlineData("PATCH", "Gauges('B')", """{"level":1e400}""", "", 400, "\"target\":\"level\"")]
    [InlineData("PATCH", "Gauges('B')", """{"level":-1}""", "", 422, "database-rule")]
    [InlineData("PATCH", "Gauges('B')", """{"basin_id":null}""", "", 400, "\"code\":\"required\"")]
    [InlineData("PATCH", "Gauges('B')", """{"basin_id":99}""", "", 422, "\"target\":\"basin_id\"")]
    [InlineData("PATCH", "Gauges('B')", """{"basin_id":1.5}""", "", 400, "is 1.5, which is not a value of Edm.Int")]
    [InlineData("PATCH", "Gauges('B')", """{"online":"true"}""", "", 400, "takes true or false")]
    [InlineData("PATCH", "Gauges('B')", """{"opened":"1.5.2024"}""", "", 400, "such as 2024-05-01")]
    [InlineData("PATCH", "Gauges('B')", """{"opened":"2024-02-30"}""", "", 400, "\"target\":\"opened\"")]
    [InlineData("PATCH", "Gauges('B')", """{"sort":"Depth"}""", "", 400, "not a member of Sort: Level, Flow")]
    [InlineData("PATCH", "Gauges('B')", """{"settings":{"rate":"x","unit":1,"more":2}}""", "", 400, "3 things are wrong")]
    [InlineData("PATCH", "Gauges('B')", """{"place":null}""", "", 400, "takes an object")]
    [InlineData("PATCH", "Gauges('B')", """{"photo":"AAAA"}""", "", 400, "is a stream")]
    [InlineData("PATCH", "Tags(1)", """{"label":"123456789012345678901"}""", "", 400, "takes at most 20")]
    [InlineData("PATCH", "Tags(1)", """{"label":"zażółć gęślą jaźń 🙂"}""", "Prefer: return=representation", 200, "zażółć gęślą jaźń")]
    [InlineData("PATCH", "Tags(1)", """{"label":"x'; DROP TABLE tag; --"}""", "", 400, "takes at most 20")]
    [InlineData("PATCH", "Tags(1)", """{"label":"'; DROP TABLE t; --"}""", "Prefer: return=representation", 200, "'; DROP TABLE t; --")]
    [InlineData("PATCH", "Tags(1)", "{\"label\":\"a\\u0000b\"}", "", 400, "U+0000")]
    [InlineData("PATCH", "Tags(1)", "{\"label\":\"\\ud800\"}", "", 400, "not valid Unicode: an unpaired surrogate")]
    [InlineData("PATCH", "Tags(1)", "{\"la\\ud800bel\":\"x\"}", "", 400, "follows byte 1")]
    [InlineData("PATCH", "Tags(1)", """{"label":"a","label":"b"}""", "", 400, "given twice")]
    [InlineData("PATCH", "Tags(1)", """{"label":"a",/* why */"x":1}""", "", 400, "is not JSON")]
    [InlineData("PATCH", "Tags(1)", """{"label":"a",}""", "", 400, "is not JSON")]
    [InlineData("PATCH", "Tags(1)", """["label"]""", "", 400, "is an object")]
    [InlineData("PATCH", "Tags(1)", "", "", 400, "needs a JSON body")]
    [InlineData("PATCH", "Tags(1)", """{"label":"a"}""", "Content-Type: text/plain", 415, "takes application/json")]
    [InlineData("PATCH", "Tags(1)", """{"label":"a"}""", "Content-Type: application/json;odd=1", 415, "'odd=1'")]
    [InlineData("PATCH", "Tags(1)", """{"label":"a"}""", "Content-Encoding: gzip", 415, "content-encoding")]
    [InlineData("PATCH", "Tags(1)", """{"label":"a"}""", "OData-Version: 9.9", 400, "version")]
    [InlineData("PATCH", "Tags(1)", """{"label":"a"}""", "Accept: text/html", 406, "not-acceptable")]
    [InlineData("PATCH", "Basins(8)", """{"name":"Eight"}""", "", 201, "\"id\":8,\"name\":\"Eight\"")]
    [InlineData("PUT", "Basins(8)", """{"name":"Eight"}""", "Prefer: return=minimal", 204, "")]
    [InlineData("PUT", "Basins(8)", """{}""", "", 400, "\"target\":\"name\"")]
    [InlineData("PATCH", "Basins(8)", """{"name":"Eight"}""", "If-Match: *", 412, "no such entity")]
    [InlineData("PATCH", "Basins(8)", """{"id":9,"name":"Eight"}""", "", 201, "\"id\":8")]
    [InlineData("PATCH", "Basins(1)", """{"name":"Eight"}""", "If-None-Match: *", 412, "there already")]
    [InlineData("PATCH", "Basins(8)", """{"name":"Eight"}""", "If-None-Match: *", 201, "\"id\":8")]
    [InlineData("PATCH", "Notes(8)", """{"body":"x"}""", "If-Match: *", 404, "not-found")]
    [InlineData("PUT", "Gauges('B')/parts(7)", """{"title":"Seven"}""", "", 201, "\"gauge_code\":\"B\",\"line\":7")]
    [InlineData("PATCH", "Gauges('B')", """{"basin":{"name":"x"}}""", "OData-Version: 4.0", 400, "In version 4.0")]
    [InlineData(
        "PATCH",
        "Gauges('B')",
        """{"basin@odata.bind":"Basins(1)"}""",
        "OData-Version: 4.0 | Prefer: return=representation",
        200,
        "\"basin_id\":1"
    )]
    [InlineData("PATCH", "Gauges('B')", """{"basin@odata.bind":null}""", "", 400, "cannot be without")]
    [InlineData("PATCH", "Basins(2)", """{"parent@odata.bind":null}""", "Prefer: return=representation", 200, "\"parent_id\":null")]
    [InlineData(
        "PATCH",
        "Gauges('B')?$expand=basin",
        """{"basin":{"name":"Renamed"}}""",
        "OData-Version: 4.01",
        200,
        "\"basin\":{\"id\":2,\"name\":\"Renamed\""
    )]
    [InlineData(
        "PATCH",
        "Gauges('A%2F1')?$expand=parts",
        """{"parts":[{"line":2,"title":"Rope"},{"line":3,"title":"Mast"}]}""",
        "OData-Version: 4.01",
        200,
        "\"parts\":[{\"gauge_code\":\"A/1\",\"line\":2,\"title\":\"Rope\"},{\"gauge_code\":\"A/1\",\"line\":3,\"title\":\"Mast\"}]"
    )]
    [InlineData(
        "PATCH",
        "Gauges('A%2F1')?$expand=parts",
        """{"parts@delta":[{"@removed":{"reason":"deleted"},"line":1},{"line":2,"title":"Rope"}]}""",
        "OData-Version: 4.01",
        200,
        "\"parts\":[{\"gauge_code\":\"A/1\",\"line\":2,\"title\":\"Rope\"}]"
    )]
    [InlineData(
        "PATCH",
        "Gauges('A%2F1')?$expand=tags",
        """{"tags":[{"@id":"Tags(2)"}]}""",
        "OData-Version: 4.01",
        200,
        "\"tags\":[{\"id\":2,\"label\":\"new\"}]"
    )]
    [InlineData(
        "PATCH",
        "Gauges('A%2F1')?$expand=tags",
        """{"tags@delta":[{"@removed":{"reason":"changed"},"@id":"Tags(1)"},{"@id":"Tags(2)"}]}""",
        "OData-Version: 4.01",
        200,
        "\"tags\":[{\"id\":2,\"label\":\"new\"}]"
    )]
    [InlineData("PATCH", "Gauges('A%2F1')", """{"parts":[{"line":2}, 5]}""", "OData-Version: 4.01", 400, "parts/1")]
    [InlineData("PATCH", "Gauges('A%2F1')", """{"parts":[{"line":9}]}""", "OData-Version: 4.01", 400, "parts/0/title")]
    [InlineData("PATCH", "Gauges('A%2F1')", """{"parts":{"line":9}}""", "OData-Version: 4.01", 400, "takes an array")]
    [InlineData("DELETE", "Gauges('B')", null, "", 204, "")]
    [InlineData("DELETE", "Gauges('none')", null, "", 404, "not-found")]
    [InlineData("DELETE", "Basins(1)", null, "", 409, "referred-to")]
    [InlineData("DELETE", "Gauges('A%2F1')/parts(1)", null, "", 204, "")]
    [InlineData("DELETE", "Basins", null, "", 405, "are.")]
    [InlineData("PUT", "Basins", "[]", "", 405, "are.")]
    [InlineData(
        "POST",
        "Devices",
        """{"@odata.type":"#W.Wheel","id":3,"label":"w","blades":3}""",
        "",
        201,
        "\"@odata.type\":\"#W.Wheel\",\"id\":3,\"kind\":\"wheel\""
    )]
    [InlineData("POST", "Devices/W.Wheel", """{"id":3,"label":"w","blades":3}""", "", 201, "\"kind\":\"wheel\"")]
    [InlineData("POST", "Devices", """{"@odata.type":"#W.Echo","id":3,"reach":3,"kind":"sonar"}""", "", 201, "\"kind\":\"sonar\"")]
    [InlineData("POST", "Devices", """{"@odata.type":"#W.Wheel","id":3,"kind":"radar"}""", "", 400, "kind")]
    [InlineData("POST", "Devices", """{"@odata.type":"#W.Nothing","id":3}""", "", 400, "W.Nothing")]
    [InlineData("POST", "Devices", """{"id":3,"blades":3}""", "", 400, "unknown-property")]
    [InlineData("PATCH", "Devices(2)", """{"@odata.type":"#W.Wheel","blades":5}""", "Prefer: return=representation", 200, "\"blades\":5")]
    [InlineData("PATCH", "Devices(2)/W.Wheel", """{"blades":5}""", "Prefer: return=representation", 200, "\"blades\":5")]
    [InlineData("PATCH", "Devices(1)/W.Wheel", """{"blades":5}""", "", 404, "not-found")]
    [InlineData("DELETE", "Devices(2)", null, "", 204, "")]
    [InlineData("POST", "Sites", """{"@odata.type":"#W.Mast","id":3,"title":"three","height":7.5}""", "", 201, "\"height\":7.5")]
    [InlineData("POST", "Sites", """{"id":3,"title":"three"}""", "", 201, "\"title\":\"three\"")]
    [InlineData(
        "PATCH",
        "Sites(2)/W.Mast",
        """{"title":"2","height":8}""",
        "Prefer: return=representation",
        200,
        "\"title\":\"2\",\"height\":8"
    )]
    [InlineData("DELETE", "Sites(2)", null, "", 204, "")]
    [InlineData("PUT", "Gauges('B')/level", """{"value":3.5}""", "", 204, "")]
    [InlineData("PUT", "Gauges('B')/code", """{"value":"Z"}""", "", 405, "read only")]
    [InlineData("DELETE", "Gauges('B')/code/$value", null, "", 405, "read only")]
    [InlineData("PUT", "Gauges('B')/level", """{"value":3.5}""", "Prefer: return=representation", 200, "/level\",\"value\":3.5")]
    [InlineData("PUT", "Gauges('B')/level", """{"value":3.5,"other":1}""", "", 400, "is not allowed beside")]
    [InlineData("PUT", "Gauges('B')/level", """{"level":3.5}""", "", 400, "with the member 'value'")]
    [InlineData("PUT", "Gauges('B')/level/$value", "3.5", "Content-Type: text/plain", 204, "")]
    [InlineData("PUT", "Gauges('B')/level/$value", "three", "Content-Type: text/plain", 400, "not a value of Edm.Decimal")]
    [InlineData("DELETE", "Gauges('B')/level", null, "", 204, "")]
    [InlineData("DELETE", "Gauges('B')/basin_id", null, "", 400, "cannot be null")]
    [InlineData("PUT", "Gauges('none')/level", """{"value":3.5}""", "", 404, "not-found")]
    [InlineData("PATCH", "Gauges('A%2F1')/place", """{"lat":9}""", "Prefer: return=representation", 200, "\"lat\":9,\"lon\":-1.5")]
    [InlineData("PUT", "Gauges('A%2F1')/place", """{"lat":9}""", "Prefer: return=representation", 200, "\"lat\":9,\"lon\":null")]
    [InlineData(
        "PATCH",
        "Gauges('A%2F1')/settings",
        """{"unit":"cm"}""",
        "Prefer: return=representation",
        200,
        "\"rate\":5,\"unit\":\"cm\""
    )]
    [InlineData(
        "PUT",
        "Gauges('A%2F1')/settings",
        """{"unit":"cm"}""",
        "Prefer: return=representation",
        200,
        "\"rate\":null,\"unit\":\"cm\""
    )]
    [InlineData("DELETE", "Gauges('A%2F1')/settings", null, "", 204, "")]
    [InlineData("POST", "Gauges('A%2F1')/tags/$ref", """{"@odata.id":"Tags(2)"}""", "", 204, "")]
    [InlineData("POST", "Gauges('A%2F1')/tags/$ref", """{"@odata.id":"Tags(1)"}""", "", 204, "")]
    [InlineData("POST", "Gauges('A%2F1')/tags/$ref", """{"@odata.id":"Tags(9)"}""", "", 400, "no entity 'Tags(9)'")]
    [InlineData("POST", "Gauges('A%2F1')/tags/$ref", """{"id":2}""", "", 400, "a reference to one entity")]
    [InlineData("POST", "Basins(1)/Gauges/$ref", """{"@odata.id":"Gauges('B')"}""", "", 204, "")]
    [InlineData("PUT", "Gauges('B')/basin/$ref", """{"@odata.id":"Basins(1)"}""", "", 204, "")]
    [InlineData("PUT", "Gauges('A%2F1')/tags/$ref", """{"value":[{"@id":"Tags(2)"}]}""", "", 204, "")]
    [InlineData("DELETE", "Gauges('B')/basin/$ref", null, "", 400, "cannot be without")]
    [InlineData("DELETE", "Basins(2)/parent/$ref", null, "", 204, "")]
    [InlineData("DELETE", "Gauges('A%2F1')/tags/$ref?$id=Tags(1)", null, "", 204, "")]
    [InlineData("DELETE", "Gauges('A%2F1')/tags(1)/$ref", null, "", 204, "")]
    [InlineData("DELETE", "Gauges('A%2F1')/tags/$ref?$id=Tags(2)", null, "", 404, "not related")]
    [InlineData("DELETE", "Gauges('A%2F1')/tags/$ref", null, "OData-Version: 4.0", 400, "$id")]
    [InlineData("DELETE", "Gauges('A%2F1')/tags/$ref", null, "OData-Version: 4.01", 204, "")]
    [InlineData("DELETE", "Basins(1)/Gauges/$ref?$id=Gauges('A%2F1')", null, "", 400, "cannot be without")]
    [InlineData("POST", "Basins(1)/$ref", """{"@odata.id":"Basins(1)"}""", "", 405, "read only")]
    [InlineData("PUT", "Gauges('B')/photo", "bytes", "Content-Type: image/png", 204, "")]
    [InlineData("PUT", "Gauges('B')/photo", "bytes", "Content-Type: text/html", 415, "takes image/png")]
    [InlineData("DELETE", "Gauges('B')/photo", null, "", 204, "")]
    [InlineData("PATCH", "Gauges('B')", """{"level":1}""", "If-Match: W/\"1\"", 204, "")]
    [InlineData("PATCH", "Gauges('B')", """{"level":1}""", "If-Match: \"1\"", 204, "")]
    [InlineData("PATCH", "Gauges('B')", """{"level":1}""", "If-Match: W/\"7\", W/\"1\"", 204, "")]
    [InlineData("PATCH", "Gauges('B')", """{"level":1}""", "If-Match: W/\"7\"", 412, "has changed")]
    [InlineData("PATCH", "Gauges('B')", """{"level":1}""", "If-Match: 7", 400, "etag")]
    [InlineData("PATCH", "Gauges('B')", """{"level":"x"}""", "If-Match: W/\"7\"", 400, "\"target\":\"level\"")]
    [InlineData("PATCH", "Gauges('none')", """{"level":1}""", "If-Match: W/\"7\"", 412, "no such entity")]
    [InlineData("PATCH", "Basins(1)", """{"name":"x"}""", "If-Match: W/\"7\"", 412, "has changed")]
    [InlineData("DELETE", "Gauges('B')", null, "If-Match: W/\"7\"", 412, "has changed")]
    [InlineData("PATCH", "Notes(10001)", """{"body":"x"}""", "", 428, "If-Match")]
    [InlineData("PATCH", "Notes(10001)", """{"body":"x"}""", "If-Match: *", 204, "")]
    [InlineData("DELETE", "Notes(10001)", null, "", 428, "If-Match")]
    [InlineData("PUT", "Notes(10001)/gauge/$ref", """{"@odata.id":"Gauges('B')"}""", "", 428, "If-Match")]
    [InlineData(
        "PATCH",
        "Tags",
        """{"@context":"#$delta","value":[{"id":1,"label":"one"},{"id":3,"label":"three"},{"@removed":{"reason":"deleted"},"@id":"Tags(2)"}]}""",
        "OData-Version: 4.01",
        204,
        ""
    )]
    [InlineData(
        "PATCH",
        "Tags",
        """{"@context":"#$delta","value":[{"id":1,"label":"one"},{"id":3}]}""",
        "OData-Version: 4.01",
        400,
        "value/1/label"
    )]
    [InlineData("PATCH", "Tags", """{"value":1}""", "", 400, "delta payload")]
    [InlineData("PATCH", "Tags/$filter(id gt 0)/$each", """{"label":"all"}""", "", 204, "")]
    [InlineData("PATCH", "Tags/$filter(id gt 90)/$each", """{"label":"all"}""", "", 204, "")]
    [InlineData("DELETE", "Gauges('A%2F1')/parts/$filter(line eq 1)/$each", null, "", 204, "")]
    [InlineData("PATCH", "Notes/$filter(id gt 0)/$each", """{"body":"all"}""", "", 428, "If-Match")]
    [InlineData("DELETE", "Notes/$filter(id gt 0)/$each", null, "", 428, "If-Match")]
    [InlineData("PATCH", "Notes/$filter(id gt 0)/$each", """{"body":"all"}""", "If-Match: *", 204, "")]
    [InlineData("PATCH", "Gauges/$filter(code eq 'B')/$each", """{"level":1}""", "If-Match: \"7\"", 412, "changed")]
    [InlineData("PATCH", "Gauges/$filter(code eq 'B')/$each", """{"level":1}""", "If-Match: W/\"1\"", 204, "")]
    [InlineData(
        "PATCH",
        "Notes",
        """{"@context":"#$delta","value":[{"@removed":{"reason":"deleted"},"id":10001}]}""",
        "OData-Version: 4.01",
        428,
        "If-Match"
    )]
    [InlineData(
        "PATCH",
        "Gauges",
        """{"@context":"#$delta","value":[{"@removed":{"reason":"deleted"},"@etag":"W/\"7\"","code":"B"}]}""",
        "OData-Version: 4.01",
        412,
        "changed"
    )]
    [InlineData(
        "PATCH",
        "Gauges",
        """{"@context":"#$delta","value":[{"@removed":{"reason":"deleted"},"@etag":"W/\"1\"","code":"B"}]}""",
        "OData-Version: 4.01",
        204,
        ""
    )]
    [InlineData(
        "PATCH",
        "Tags",
        """{"@context":"#$delta","value":[{"@removed":{"reason":"changed"},"id":2}]}""",
        "OData-Version: 4.01",
        400,
        "only when it is deleted"
    )]
    [InlineData("PATCH", "Tags", """{"@context":"#$delta","value":[]}""", "OData-Version: 4.01 | If-Match: W/\"1\"", 412, "has no tag")]
    [InlineData("GET", "Tags/$each", null, "", 405, "cannot be read")]
    // Only what is allowed is there.
    [InlineData("PATCH", "Closed(1)", """{"word":"x"}""", "", 405, "read only")]
    [InlineData("DELETE", "Closed(1)", null, "", 405, "read only")]
    [InlineData("POST", "Looked", """{"code":"x"}""", "", 405, "read only")]
    [InlineData("POST", "$metadata", "{}", "", 405, "read only")]
    [InlineData("PATCH", "Basins/$count", "{}", "", 405, "read only")]
    [InlineData("POST", "Nothing", "{}", "", 404, "not-found")]
    [Proves(
        "P-05, P-18, P-22, P-29 to P-31, P-41, P-42, P-46 to P-49, P-51, P-52, U-34, Q-116, J-42, M-01 to M-13, M-16 to M-28, "
            + "M-30 to M-39"
    )]
    public async Task A_change_is_answered(string method, string target, string? body, string headers, int status, string part)
    {
        var before = status >= 400 ? await StateAsync() : "";
        var answer = await SendAsync(method, target, body, headers);
        Assert.True(answer.Status == status, $"{answer.Status} {answer.Text}");
        if (part.Length == 0)
            Assert.Empty(answer.Text);
        else
            Assert.Contains(part, answer.Text);
        if (status >= 400)
            Assert.Equal(before, await StateAsync());
    }

    /// <summary>Everything there is.</summary>
    private async Task<string> StateAsync() =>
        await ReadAsync("Basins")
        + await ReadAsync("Gauges?$expand=parts,tags")
        + await ReadAsync("Tags")
        + await ReadAsync("Notes")
        + await ReadAsync("Closed");

    [Theory] // what was answered is what is kept
    [InlineData(
        "POST",
        "Gauges",
        """{"code":"C","basin":{"id":7,"name":"New"},"parts":[{"line":1,"title":"Mast"}],"tags@odata.bind":["Tags(2)"]}""",
        "Gauges('C')?$expand=basin,parts,tags",
        "\"basin\":{\"id\":7,\"name\":\"New\",\"parent_id\":null},\"parts\":[{\"gauge_code\":\"C\",\"line\":1,\"title\":\"Mast\"}],\"tags\":[{\"id\":2,\"label\":\"new\"}]"
    )]
    [InlineData("POST", "Gauges('B')/tags/$ref", """{"@odata.id":"Tags(2)"}""", "Gauges('B')/tags", "\"value\":[{\"id\":2")]
    [InlineData("DELETE", "Gauges('A%2F1')/tags/$ref?$id=Tags(1)", null, "Gauges('A%2F1')/tags", "\"value\":[]")]
    [InlineData("POST", "Basins(1)/Gauges/$ref", """{"@odata.id":"Gauges('B')"}""", "Gauges('B')", "\"basin_id\":1")]
    [InlineData("DELETE", "Gauges('A%2F1')/settings", null, "Gauges('A%2F1')", "\"settings\":null")]
    [InlineData("PUT", "Gauges('A%2F1')/settings", """{"rate":1}""", "Gauges('A%2F1')/settings", "\"rate\":1,\"unit\":null")]
    [InlineData(
        "PATCH",
        "Tags",
        """{"@context":"#$delta","value":[{"id":1,"label":"one"},{"id":3,"label":"three"},{"@removed":{"reason":"deleted"},"id":2}]}""",
        "Tags",
        "\"value\":[{\"id\":1,\"label\":\"one\"},{\"id\":3,\"label\":\"three\"}]"
    )]
    [InlineData("PATCH", "Tags/$filter(id eq 2)/$each", """{"label":"all"}""", "Tags", "\"label\":\"old\"},{\"id\":2,\"label\":\"all\"}")]
    [InlineData("DELETE", "Gauges('A%2F1')", null, "Notes(10001)", "\"gauge_code\":\"A/1\"")] // refused, see below
    public async Task A_change_is_kept(string method, string target, string? body, string read, string part)
    {
        await SendAsync(method, target, body);
        Assert.Contains(part, await ReadAsync(read));
    }

    [Theory] // what goes with one of them is deleted as it should be
    [InlineData("Branches/$filter(true)/$each", "")]
    [InlineData("Branches/$filter(id gt 1)/$each", "{\"id\":1,\"parent_id\":null}")]
    [Proves("M-27, M-32")]
    public async Task Those_that_go_with_one_another_are_deleted_together(string target, string left)
    {
        Assert.Equal(204, (await SendAsync("DELETE", target)).Status);
        Assert.Contains($"\"value\":[{left}]", await ReadAsync("Branches"));
    }

    [Theory] // what cannot be done is told, and the rest is done
    [InlineData(
        "PATCH",
        "Tags",
        """{"@context":"#$delta","value":[{"id":1,"label":"one"},{"id":3,"label":null},{"id":4,"label":"four"},{"@removed":{"reason":"deleted"},"@id":"Tags(2)"}]}""",
        "continue-on-error",
        """[{"@removed":{"reason":"deleted"},"@Org.OData.Core.V1.DataModificationException":{"failedOperation":"insert","responseCode":400,"info":{"code":"required","message":"'value/1/label' cannot be null.","severity":"error","target":"value/1/label","details":[]}},"id":3,"label":null}]""",
        "Tags",
        """[{"id":1,"label":"one"},{"id":4,"label":"four"}]"""
    )]
    [InlineData(
        "PATCH",
        "Tags",
        """{"@context":"#$delta","value":[{"id":1,"label":"one"},{"id":3,"label":"three"},{"@removed":{"reason":"deleted"},"id":2}]}""",
        "return=representation",
        """[{"id":1,"label":"one"},{"id":3,"label":"three"},{"@removed":{"reason":"deleted"},"@id":"Tags(2)"}]""",
        "Tags",
        """[{"id":1,"label":"one"},{"id":3,"label":"three"}]"""
    )]
    [InlineData(
        "PATCH",
        "Tags",
        """{"@context":"#$delta","value":[{"id":1,"label":"one"},{"@id":"Tags(9)","label":"nine"},7]}""",
        "continue-on-error, return=representation",
        """[{"id":1,"label":"one"},{"@removed":""",
        "Tags",
        """[{"id":1,"label":"one"},{"id":2,"label":"new"}]"""
    )]
    [InlineData(
        "PATCH",
        "Gauges",
        """{"@context":"#$delta","value":[{"@removed":{"reason":"deleted"},"code":"A/1"},{"@removed":{"reason":"deleted"},"code":"gone"},{"code":"B","level":-1},{"code":"B","level":2}]}""",
        "continue-on-error",
        """[{"@id":"Gauges('A%2F1')","@Org.OData.Core.V1.DataModificationException":{"failedOperation":"delete","responseCode":409,"info":{"code":""",
        "Gauges?$select=code,level",
        "\"code\":\"B\",\"level\":2"
    )]
    [InlineData(
        "DELETE",
        "Gauges/$filter(true)/$each",
        null,
        "continue-on-error",
        """[{"@id":"Gauges('A%2F1')","@Org.OData.Core.V1.DataModificationException":{"failedOperation":"delete","responseCode":409,""",
        "Gauges?$select=code",
        "\"code\":\"A/1\"}]"
    )]
    [InlineData(
        "PATCH",
        "Tags/$filter(true)/$each",
        """{"label":"all"}""",
        "return=representation",
        """#Tags","value":[{"id":1,"label":"all"},{"id":2,"label":"all"}]""",
        "Tags",
        """[{"id":1,"label":"all"},{"id":2,"label":"all"}]"""
    )]
    [InlineData(
        "PATCH",
        "Gauges/$filter(true)/$each",
        """{"level":5,"@etag":"x"}""",
        "continue-on-error",
        "",
        "Gauges?$select=level",
        "\"level\":5},{"
    )]
    [Proves("P-34, J-53, M-30, M-32")]
    public async Task Many_are_changed_as_far_as_they_can_be(
        string method,
        string target,
        string? body,
        string prefer,
        string answered,
        string read,
        string kept
    )
    {
        var answer = await SendAsync(method, target, body, $"OData-Version: 4.01 | OData-MaxVersion: 4.01 | Prefer: {prefer}");
        Assert.Equal(
            (answered.Length == 0 ? 204 : 200, prefer),
            (
                answer.Status,
                answer
                    .Headers.GetValueOrDefault("Preference-Applied", "")
                    .Replace("return=representation, continue-on-error", "continue-on-error, return=representation")
            )
        );
        Assert.True(answer.Text.Contains(answered, StringComparison.Ordinal), answer.Text);
        Assert.Contains(kept, (await SendAsync("GET", read, null, "OData-MaxVersion: 4.01")).Text);
    }

    [Fact]
    [Proves("M-27")]
    public async Task Parts_and_links_go_with_an_entity_and_nothing_else_does()
    {
        Assert.Equal(409, (await SendAsync("DELETE", "Gauges('A%2F1')")).Status);
        Assert.Contains("Float", await ReadAsync("Gauges('A%2F1')/parts"));
        Assert.Equal(204, (await SendAsync("DELETE", "Notes(10001)", null, "If-Match: *")).Status);
        Assert.Equal(204, (await SendAsync("DELETE", "Gauges('A%2F1')")).Status);
        Assert.Equal(404, (await SendAsync("GET", "Gauges('A%2F1')")).Status);
        Assert.Contains("\"id\":1,\"label\":\"old\"", await ReadAsync("Tags"));
    }

    [Fact]
    [Proves("M-01, M-05")]
    public async Task A_key_that_the_source_makes_is_told()
    {
        foreach (var service in engines.Services)
        {
            var answer = await service.SendAsync(Root + "Notes", "POST", """{"body":"Made by the source"}""");
            Assert.Equal(201, answer.Status);
            Assert.EndsWith($"/Notes({answer.Json.GetProperty("id").GetInt64()})", answer.Header("Location"));
            Assert.Equal(answer.Text, (await service.SendAsync(answer.Header("Location")!)).Text);
        }
    }

    [Fact]
    [Proves("P-44, P-45, M-20")]
    public async Task Every_change_gives_another_tag()
    {
        var tag = (await SendAsync("GET", "Gauges('B')")).Header("ETag");
        foreach (var body in new[] { """{"level":1}""", """{"level":1}""", """{"basin_id":1}""" })
        {
            var answer = await SendAsync("PATCH", "Gauges('B')", body, "If-Match: " + tag);
            Assert.Equal(204, answer.Status);
            Assert.NotEqual(tag, answer.Header("ETag"));
            tag = answer.Header("ETag");
            Assert.Equal(tag, (await SendAsync("GET", "Gauges('B')")).Header("ETag"));
        }
    }

    [Fact] // a tag that is made of all values
    public async Task A_tag_of_the_row_changes_with_any_value()
    {
        var tag = (await SendAsync("GET", "Notes(10001)")).Header("ETag")!;
        var selected = (await SendAsync("GET", "Notes(10001)?$select=id")).Header("ETag");
        Assert.Equal(tag, selected);
        Assert.Equal(204, (await SendAsync("PATCH", "Notes(10001)", """{"body":"Second"}""", "If-Match: " + tag)).Status);
        Assert.Equal(412, (await SendAsync("PATCH", "Notes(10001)", """{"body":"Third"}""", "If-Match: " + tag)).Status);
        Assert.Contains("Second", await ReadAsync("Notes(10001)"));
    }

    [Fact] // the state before a change is given with that after it, when it is asked for
    public async Task A_change_tells_what_was_before()
    {
        var answer = await SendAsync("PATCH", "Tags(1)", """{"label":"newer"}""", "Prefer: return=representation, before");
        Assert.Equal("return=representation, before", answer.Header("Preference-Applied"));
        Assert.Equal("newer", answer.Json.GetProperty("label").GetString());
        Assert.Equal("old", answer.Json.GetProperty("@W.before").GetProperty("label").GetString());
    }

    [Theory]
    [InlineData("Basins", "GET, HEAD, POST, PATCH, OPTIONS")]
    [InlineData("Basins(1)", "GET, HEAD, PATCH, PUT, DELETE, OPTIONS")]
    [InlineData("Closed", "GET, HEAD, POST, PATCH, OPTIONS")]
    [InlineData("Closed(1)", "GET, HEAD, OPTIONS")]
    [InlineData("Looked", "GET, HEAD, OPTIONS")]
    [InlineData("Gauges('B')/level", "GET, HEAD, PUT, DELETE, OPTIONS")]
    [InlineData("Gauges('B')/photo", "GET, HEAD, PUT, DELETE, OPTIONS")]
    [InlineData("Gauges('B')/tags/$ref", "GET, HEAD, POST, PUT, DELETE, OPTIONS")]
    public async Task Options_lists_what_is_allowed(string target, string allowed) =>
        Assert.Equal(allowed, (await SendAsync("OPTIONS", target)).Header("Allow"));

    [Fact]
    [Proves("A-24 to A-26, A-35, A-43")]
    public async Task The_metadata_says_what_may_be_changed()
    {
        var text = (await engines.Services[0].SendAsync(Root + "$metadata")).Text;
        var set = text[text.IndexOf("<EntitySet Name=\"Basins\"", StringComparison.Ordinal)..];
        Assert.Contains("Property=\"Insertable\" Bool=\"true\"", set[..set.IndexOf("</EntitySet>", StringComparison.Ordinal)]);
        Assert.Contains("Property=\"Upsertable\" Bool=\"true\"", set[..set.IndexOf("</EntitySet>", StringComparison.Ordinal)]);
        Assert.Equal(2, set[..set.IndexOf("</EntitySet>", StringComparison.Ordinal)].Split("Deep").Length - 1);
        set = text[text.IndexOf("<EntitySet Name=\"Closed\"", StringComparison.Ordinal)..];
        Assert.Contains("Property=\"Updatable\" Bool=\"false\"", set[..set.IndexOf("</EntitySet>", StringComparison.Ordinal)]);
    }

    [Theory] // a group is done wholly or not at all
    [InlineData(
        """{"id":"3","method":"POST","url":"Basins","headers":{"content-type":"application/json"},"body":{"id":32,"name":"B32"}}""",
        201,
        true
    )]
    [InlineData(
        """{"id":"3","method":"POST","url":"Basins","headers":{"content-type":"application/json"},"body":{"id":30,"name":"Again"}}""",
        409,
        false
    )]
    [InlineData("""{"id":"3","method":"POST","url":"Basins","headers":{"content-type":"application/json"},"body":{"id":33}}""", 400, false)]
    [InlineData("""{"id":"3","method":"DELETE","url":"Basins(99)"}""", 404, false)]
    [Proves("J-61, M-45, M-46, M-51")]
    public async Task A_group_is_one_transaction(string last, int status, bool isDone)
    {
        last = last.Replace("\"method\"", "\"atomicityGroup\":\"g\",\"method\"");
        var body = $$"""
            {"requests":[
              {"id":"1","atomicityGroup":"g","method":"POST","url":"Basins","headers":{"content-type":"application/json"},"body":{"id":30,"name":"B30"} },
              {"id":"2","atomicityGroup":"g","method":"POST","url":"$1/Gauges","headers":{"content-type":"application/json"},"body":{"code":"G30"} },
              {{last}}]}
            """;
        var answer = await SendAsync("POST", "$batch", body);
        var responses = answer.Json.GetProperty("responses").EnumerateArray().Select(r => r.GetProperty("status").GetInt32()).ToList();
        Assert.Equal(isDone ? [201, 201, status] : [424, 424, status], responses);
        Assert.Equal(isDone, (await ReadAsync("Gauges")).Contains("G30"));
        Assert.Equal(isDone, (await ReadAsync("Basins")).Contains("B30"));
    }

    [Fact] // what was made earlier is known by its id, in addresses and in bodies
    [Proves("M-48, M-49")]
    public async Task A_batch_refers_to_what_it_made()
    {
        var body = """
            {"requests":[
              {"id":"basin","method":"POST","url":"Basins","headers":{"content-type":"application/json"},"body":{"id":40,"name":"B40"}},
              {"id":"gauge","dependsOn":["basin"],"method":"POST","url":"Gauges","headers":{"content-type":"application/json"},"body":{"code":"G40","basin@odata.bind":"$basin"}},
              {"id":"part","dependsOn":["gauge"],"method":"POST","url":"$gauge/parts","headers":{"content-type":"application/json"},"body":{"line":1,"title":"Mast"}},
              {"id":"read","dependsOn":["part"],"method":"GET","url":"$gauge?$expand=parts"}]}
            """;
        var answer = await SendAsync("POST", "$batch", body);
        Assert.Equal(
            [201, 201, 201, 200],
            answer.Json.GetProperty("responses").EnumerateArray().Select(r => r.GetProperty("status").GetInt32())
        );
        Assert.Contains("\"basin_id\":40", answer.Text);
        Assert.Contains("Mast", answer.Text);
    }

    [Fact] // reads of a group see what it has done so far
    public async Task A_group_sees_its_own_changes()
    {
        var body = """
            {"requests":[
              {"id":"1","atomicityGroup":"g","method":"POST","url":"Basins","headers":{"content-type":"application/json"},"body":{"id":50,"name":"B50"}},
              {"id":"2","atomicityGroup":"g","method":"GET","url":"Basins(50)"}]}
            """;
        Assert.Equal(
            [201, 200],
            (await SendAsync("POST", "$batch", body))
                .Json.GetProperty("responses")
                .EnumerateArray()
                .Select(r => r.GetProperty("status").GetInt32())
        );
    }

    [Theory] // the multipart form
    [InlineData("B60", 204)]
    [InlineData("Alder", 409)]
    [Proves("M-42, M-43, M-48")]
    public async Task A_change_set_is_one_transaction(string name, int status)
    {
        var part = (string id, string line, string json) =>
            $"--set\r\nContent-Type: application/http\r\nContent-Transfer-Encoding: binary\r\nContent-ID: {id}\r\n\r\n{line} "
            + $"HTTP/1.1\r\nContent-Type: application/json\r\nPrefer: return=minimal\r\nContent-Length: {json.Length}\r\n\r\n{json}\r\n";
        var body =
            "--all\r\nContent-Type: multipart/mixed; boundary=set\r\n\r\n"
            + part("1", "POST Gauges", """{"code":"G60","basin_id":1}""")
            + part("2", "POST Basins", $$"""{ "id": 60, "name": "{{name}}" }""")
            + part("3", "PUT $1/basin/$ref", """{"@odata.id":"$2"}""")
            + "--set--\r\n--all--\r\n";
        foreach (var service in engines.Services)
        {
            var answer = await service.SendAsync(Root + "$batch", "POST", body, ("Content-Type", "multipart/mixed; boundary=all"));
            Assert.Equal(200, answer.Status);
            Assert.Contains($"HTTP/1.1 {status}", answer.Text);
            var kept = (await service.SendAsync(Root + "Gauges('G60')")).Text;
            Assert.Equal(status == 204, kept.Contains("\"basin_id\":60"));
        }
    }

    [Fact] // without a group each stands for itself
    [Proves("P-33")]
    public async Task A_batch_goes_on_after_errors_when_it_is_told_to()
    {
        var body = """
            {"requests":[
              {"id":"1","method":"POST","url":"Basins","headers":{"content-type":"application/json"},"body":{"id":1,"name":"x"}},
              {"id":"2","method":"POST","url":"Basins","headers":{"content-type":"application/json"},"body":{"id":70,"name":"B70"}}]}
            """;
        // Some clients encode the sign.
        async Task<List<int>> StatesAsync(string headers) =>
            [
                .. (await SendAsync("POST", headers.Length > 0 ? "%24batch" : "$batch", body, headers))
                    .Json.GetProperty("responses")
                    .EnumerateArray()
                    .Select(r => r.GetProperty("status").GetInt32()),
            ];
        Assert.Equal([409, 424], await StatesAsync(""));
        Assert.Equal([409, 201], await StatesAsync("Prefer: odata.continue-on-error"));
    }

    [Fact]
    [Proves("M-52, M-53")]
    public async Task A_change_may_be_answered_later()
    {
        foreach (var service in engines.Services)
        {
            var answer = await service.SendAsync(Root + "Basins", "POST", """{"id":80,"name":"B80"}""", ("Prefer", "respond-async"));
            Assert.Equal(202, answer.Status);
            for (
                var tries = 0;
                (answer = await service.SendAsync(answer.Header("Location")!, "GET", ("Accept", "application/json"))).Status == 202
                    && tries < 200;
                tries++
            )
                await Task.Delay(20);
            Assert.Equal("201", answer.Header("AsyncResult"));
            Assert.Contains("B80", answer.Text);
        }
    }

    [Fact] // of two that write at once exactly one wins
    [Proves("X-21")]
    public async Task Of_many_writers_with_one_tag_one_wins()
    {
        foreach (var service in engines.Services)
        {
            var answers = await Task.WhenAll(
                Enumerable
                    .Range(0, 32)
                    .Select(i => service.SendAsync(Root + "Gauges('B')", "PATCH", $$"""{"level":{{i}} }""", ("If-Match", "W/\"1\"")))
            );
            Assert.Equal(1, answers.Count(a => a.Status == 204));
            Assert.Equal(31, answers.Count(a => a.Status == 412));
            Assert.Equal("W/\"2\"", (await service.SendAsync(Root + "Gauges('B')")).Header("ETag"));
        }
    }

    [Fact] // without a tag all are done, one after the other
    public async Task Many_writers_lose_nothing()
    {
        foreach (var service in engines.Services)
        {
            var answers = await Task.WhenAll(
                Enumerable.Range(0, 32).Select(i => service.SendAsync(Root + "Gauges('B')", "PATCH", $$"""{"level":{{i}} }"""))
            );
            Assert.All(answers, a => Assert.Equal(204, a.Status));
            Assert.Equal("W/\"33\"", (await service.SendAsync(Root + "Gauges('B')")).Header("ETag"));
        }
    }

    [Fact] // changes that lock the same rows in opposite orders are tried again
    public async Task Changes_that_meet_are_tried_again()
    {
        static string Group(string first, string second, int n) =>
            $$"""
                {"requests":[
                  {"id":"1","atomicityGroup":"g","method":"PATCH","url":"Tags({{first}})","headers":{"content-type":"application/json"},"body":{"label":"a{{n}}"} },
                  {"id":"2","atomicityGroup":"g","method":"PATCH","url":"Tags({{second}})","headers":{"content-type":"application/json"},"body":{"label":"b{{n}}"} }]}
                """;
        foreach (var service in engines.Services)
        {
            var answers = await Task.WhenAll(
                Enumerable
                    .Range(0, 16)
                    .Select(i => service.SendAsync(Root + "$batch", "POST", i % 2 == 0 ? Group("1", "2", i) : Group("2", "1", i)))
            );
            Assert.All(answers, a =>
                Assert.Equal([204, 204], a.Json.GetProperty("responses").EnumerateArray().Select(r => r.GetProperty("status").GetInt32()))
            );
            // Both labels are of one group.
            var labels = (await service.SendAsync(Root + "Tags?$orderby=id"))
                .Json.GetProperty("value")
                .EnumerateArray()
                .Select(t => t.GetProperty("label").GetString()!)
                .ToList();
            Assert.Equal(labels[0][1..], labels[1][1..]);
        }
    }

    [Theory] // bodies that are too large or too deep
    [InlineData(5_000_000, 0, 413)]
    [InlineData(0, 50, 400)]
    [InlineData(0, 200, 400)]
    public async Task A_body_has_limits(int length, int depth, int status)
    {
        var body =
            length > 0
                ? $$"""{ "id": 90, "name": "{{new string('x', length)}}" }"""
                : string.Concat(Enumerable.Range(100, depth).Select(i => $"{{\"id\":{i},\"name\":\"n{i}\",\"parent\":"))
                    + "null"
                    + new string('}', depth);
        var answer = await engines.Services[0].SendAsync(Root + "Basins", "POST", body);
        Assert.Equal(status, answer.Status);
        Assert.DoesNotContain("n100", await ReadAsync("Basins"));
    }
}
