using CsCheck;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.Rest;

namespace RapidGable.Core.Tests;

/// <summary>Requests of the plain REST face: what they mean is said by the same request in OData.</summary>
public sealed class RestRequestTests(NetworkFixture network) : IClassFixture<NetworkFixture>
{
    private RestPaths Paths => new(network.Service.Model);

    private Result<RestRequest> Read(string url)
    {
        var parts = url.Split('?', 2);
        return RestRequest.Of(parts[0], parts.Length > 1 ? parts[1].Replace(" ", "%20") : "", Paths);
    }

    private async Task<List<string>> IdsAsync(string url)
    {
        var read = Read(url);
        Assert.True(read.Fault is null, read.Fault?.Message);
        var prepared = network.Service.Prepare(read.Value!, Caller.Anonymous);
        Assert.True(prepared.Fault is null, prepared.Fault?.Message);
        var values = QueryValues.Make(prepared.Value!.Request, read.Value!, read.Value!.PageSize, new DateTime(2024, 5, 1)).Value!;
        await using var run = (await QueryRun.StartAsync(prepared.Value, values, CancellationToken.None)).Value!;
        var rows = new List<string>();
        for (var more = run.HasRow; more && rows.Count < values.PageRows; more = await run.Rows.ReadAsync(CancellationToken.None))
            rows.Add(run.Rows.GetStored(0).ToString());
        return rows;
    }

    [Theory]
    [InlineData("Stations?id=3", "Stations?$filter=id eq 3")]
    [InlineData("Stations?id=3,5,7", "Stations?$filter=id in (3,5,7)")]
    [InlineData("Stations?id=3..6", "Stations?$filter=id ge 3 and id le 6")]
    [InlineData("Stations?id=118..", "Stations?$filter=id ge 118")]
    [InlineData("Stations?id=..3", "Stations?$filter=id le 3")]
    [InlineData("Stations?id=1,5..6,119..", "Stations?$filter=id eq 1 or id ge 5 and id le 6 or id ge 119")]
    [InlineData("Stations?id=!5..", "Stations?$filter=id lt 5")]
    [InlineData("Stations?closed_on=null", "Stations?$filter=closed_on eq null")]
    [InlineData("Stations?closed_on=!null", "Stations?$filter=closed_on ne null")]
    [InlineData("Stations?closed_on=!..2020-01-01", "Stations?$filter=not (closed_on le 2020-01-01)")]
    [InlineData("Stations?name=Ashford Weir", "Stations?$filter=name eq 'Ashford Weir'")]
    [InlineData("Stations?name=\"Ashford Weir\"", "Stations?$filter=name eq 'Ashford Weir'")]
    [InlineData("Stations?name=A*", "Stations?$filter=startswith(name,'A')")]
    [InlineData("Stations?name=*Weir", "Stations?$filter=endswith(name,'Weir')")]
    [InlineData("Stations?name=*d W*", "Stations?$filter=contains(name,'d W')")]
    [InlineData("Stations?name=!*Weir,B*", "Stations?$filter=not (endswith(name,'Weir') or startswith(name,'B'))")]
    [InlineData("Stations?name=A..B", "Stations?$filter=name ge 'A' and name le 'B'")]
    [InlineData("Stations?telemetered=true", "Stations?$filter=telemetered")]
    [InlineData("Stations?opened_on=2010-06-18", "Stations?$filter=opened_on eq 2010-06-18")]
    [InlineData("Stations?opened_on=2010-01-01..2012-12-31", "Stations?$filter=opened_on ge 2010-01-01 and opened_on le 2012-12-31")]
    [InlineData("Stations?changed_at=2024-04-11", "Stations?$filter=date(changed_at) eq 2024-04-11")]
    [InlineData("Stations?changed_at=..2023-12-31", "Stations?$filter=changed_at lt 2024-01-01T00:00:00Z")]
    [InlineData("Stations?changed_at=2024-04-11T23:25:26Z..", "Stations?$filter=changed_at ge 2024-04-11T23:25:26Z")]
    [InlineData("Stations?datum_m=100.5..200", "Stations?$filter=datum_m ge 100.5 and datum_m le 200")]
    [InlineData("Stations?catchment/name=Lower Alder", "Stations?$filter=catchment/name eq 'Lower Alder'")]
    [InlineData("Stations?catchment/parent/id=1", "Stations?$filter=catchment/parent/id eq 1")]
    [InlineData("Stations?filter=id gt 100&name=A*", "Stations?$filter=id gt 100 and startswith(name,'A')")]
    [InlineData("Stations?./name=A*&./id=1..50", "Stations?$filter=startswith(name,'A') and id le 50")]
    [InlineData("Stations?sort=-name&limit=5", "Stations?$orderby=name desc&$top=5")]
    [InlineData("Stations?sort=catchment/name,-id&limit=5", "Stations?$orderby=catchment/name,id desc&$top=5")]
    [InlineData("Stations?rows=41..60", "Stations?$skip=40&$top=20")]
    [InlineData("Stations?rows=1..3", "Stations?$top=3")]
    [InlineData("Stations?search=weir&limit=100", "Stations?$search=weir&$top=100")]
    [InlineData("Stations?search=weir NOT ashford&limit=100", "Stations?$search=weir NOT ashford&$top=100")]
    [InlineData("Catchments/3/Stations", "Catchments(3)/Stations")]
    [InlineData("Catchments/3/Stations?name=A*", "Catchments(3)/Stations?$filter=startswith(name,'A')")]
    [InlineData("Stations/1/Sensors/1", "Sensors(station_id=1,sensor_no=1)")]
    [InlineData("Sensors/1/1/station", "Sensors(station_id=1,sensor_no=1)/station")]
    [InlineData("Certificates/CAL%2F2", "Certificates('CAL%2F2')")]
    public async Task A_request_means_what_it_means_in_OData(string rest, string odata) =>
        Assert.Equal(await network.FirstColumnAsync(odata), await IdsAsync(rest));

    [Theory]
    [InlineData("Stations?nme=A", "unknown-parameter", "Did you mean 'name'?")]
    [InlineData("Stations?srot=name", "unknown-parameter", "Did you mean 'sort'?")]
    [InlineData("Stations?$filter=id eq 1", "unknown-parameter", "Did you mean 'filter'?")]
    [InlineData("Stations?a.b=1", "unknown-parameter", "'a.b'")]
    [InlineData("Stations?id=1&id=2", "parameter-twice", "id=a,b")]
    [InlineData("Stations?filter=true&filter=false", "parameter-twice", "'filter'")]
    [InlineData("Stations?id=", "parameter", "has no value")]
    [InlineData("Stations?sort=", "parameter", "has no value")]
    [InlineData("Stations?id=x", "type", "'x' is not a value")]
    [InlineData("Stations?id=1..x", "type", "'x' is not a value")]
    [InlineData("Stations?telemetered=yes", "type", "'yes' is not a value")]
    [InlineData("Stations?opened_on=2010-13-01", "type", "'2010-13-01'")]
    [InlineData("Stations?id=1*", "type", "* stands for any text")]
    [InlineData("Stations?id=1,", "parameter", "a value is missing")]
    [InlineData("Stations?id=,1", "parameter", "a value is missing")]
    [InlineData("Stations?id=..", "parameter", "a value is missing")]
    [InlineData("Stations?name=a*b", "parameter", "expected ','")]
    [InlineData("Stations?name=\"a", "parameter", "not closed")]
    [InlineData("Stations?name=\"a\"b", "parameter", "expected ','")]
    [InlineData("Stations?name=*a..b", "parameter", "'*' cannot stand")]
    [InlineData("Stations?catchment=1", "type", "name one of its properties")]
    [InlineData("Stations?catchment/nam=1", "unknown-property", "Did you mean 'name'?")]
    [InlineData("Stations?rows=60..41", "parameter", "ends before it begins")]
    [InlineData("Stations?rows=0..5", "parameter", "at least 1")]
    [InlineData("Stations?rows=5", "parameter", "41..60")]
    [InlineData("Stations?rows=..5", "parameter", "41..60")]
    [InlineData("Stations?rows=1..5&limit=2", "parameter", "'rows' and 'limit' exclude each other")]
    [InlineData("Stations?limit=2&rows=1..", "parameter", "'rows' and 'limit' exclude each other")]
    [InlineData("Stations?rows=2..5&after=WyI5MDNmNmIyNSIsM10", "parameter", "'rows' and 'after' exclude each other")]
    [InlineData("Stations?limit=0", "parameter", "at least 1")]
    [InlineData("Stations?limit=-3", "parameter", "at least 1")]
    [InlineData("Stations?limit=99999999999", "parameter", "at least 1")]
    [InlineData("Stations?total=yes", "parameter", "true or false")]
    [InlineData("Stations?after=nonsense", "after", "not made by this service")]
    [InlineData("Stations?sort=name,,id", "parameter", "a list with commas")]
    [InlineData("Stations?sort=nothing", "unknown-property", "'nothing'")]
    [InlineData("Stations?fields=nothing", "unknown-property", "'nothing'")]
    [InlineData("Stations?include=nothing", "unknown-property", "'nothing'")]
    [InlineData("Stations?include=name", "unknown-property", "'name'")]
    [InlineData("Stations?filter=id eq @x", "syntax", "has no meaning here")]
    [InlineData("Stations?filter=id", "type", "must be true or false")]
    [InlineData("Stations/1?limit=5", "option-not-here", "cannot be applied to")]
    [InlineData("Stations/1?name=a", "option-not-here", "cannot be applied to")]
    [InlineData("Nothing", "not-found", "'Nothing'")]
    [InlineData("Stations/1/nothing", "not-found", "no property 'nothing'")]
    [InlineData("Stations/x", "type", "'x' is not a value")]
    [InlineData("Sensors/1", "not-found", "has 2 parts")]
    [InlineData("Stations/$count", "type", "'$count' is not a value")]
    [InlineData("$metadata", "not-found", "'$metadata'")]
    public void What_is_wrong_is_said(string url, string code, string text)
    {
        var fault = Fault(url);
        Assert.True(fault is not null, "It is taken.");
        Assert.Equal(code, fault.Code);
        Assert.Contains(text, fault.Message);
    }

    [Fact] // whatever stands beside whatever is answered or refused
    public void Any_two_parameters_may_meet()
    {
        string[] parameters =
        [
            "filter=id lt 9",
            "sort=-name",
            "fields=id,name",
            "include=Sensors",
            "search=weir",
            "limit=3",
            "after=WyI5MDNmNmIyNSIsM10",
            "rows=2..4",
            "rows=2..",
            "total=true",
            "format=csv",
            "id=1..9",
        ];
        foreach (var one in parameters)
        foreach (var other in parameters)
            if (Fault($"Stations?{one}&{other}") is { } fault)
                Assert.True(fault.Status is >= 400 and < 500, $"{one}&{other}: {fault}");
    }

    private RequestFault? Fault(string url)
    {
        if (
            !Read(url).Is(out var read, out var fault)
            || !network.Service.Prepare(read, Caller.Anonymous).Is(out var prepared, out fault)
            || !QueryValues.Make(prepared.Request, read, read.PageSize, DateTime.UnixEpoch).Is(out var values, out fault)
        )
            return fault;
        var started = QueryRun.StartAsync(prepared, values, CancellationToken.None).GetAwaiter().GetResult();
        started.Value?.DisposeAsync().AsTask().GetAwaiter().GetResult();
        return started.Fault;
    }

    [Theory] // what differs in values only shares a plan, and what means something else does not
    [InlineData("Stations?id=1", "Stations?id=2", true)]
    [InlineData("Stations?id=1..2", "Stations?id=3..9", true)]
    [InlineData("Stations/1", "Stations/2", true)]
    [InlineData("Stations?limit=5", "Stations?limit=50", true)]
    [InlineData("Stations?id=1", "Stations?id=!1", false)]
    [InlineData("Stations?id=1..2", "Stations?id=1..,2", false)]
    [InlineData("Stations?name=a*", "Stations?name=*a", false)]
    [InlineData("Stations?name=a", "Stations?name=null", false)]
    [InlineData("Stations?name=null", "Stations?name=\"null\"", false)]
    [InlineData("Stations?changed_at=2024-01-01", "Stations?changed_at=2024-01-01T00:00:00Z", false)]
    [InlineData("Stations?sort=id", "Stations?sort=-id", false)]
    [InlineData("Stations?rows=1..5", "Stations?rows=2..5", false)]
    [InlineData("Certificates/code", "Certificates/A", false)]
    public void Shapes_hold_all_but_values(string one, string other, bool isSame) =>
        Assert.Equal(isSame, Read(one).Value!.Shape == Read(other).Value!.Shape);

    [Fact] // any text can be asked for in double quotes
    public void Quoted_texts_are_themselves() =>
        Gen
            .String.Where(t => !t.Contains('\0') && t.All(c => !char.IsSurrogate(c)))
            .Sample(text =>
            {
                var written = Uri.EscapeDataString($"\"{text.Replace("\"", "\"\"")}\"");
                var read = RestRequest.Of("Stations", "name=" + written, Paths).Value!;
                Assert.Equal(text, read.Literals.First(l => l.Target == "name").Value);
            });

    [Fact] // names of the face lead to the same rows
    public void Paths_and_names_are_declared()
    {
        var shape = new RestShape
        {
            Paths = Casing.KebabCase,
            HasNamedKeys = true,
            Sets = System.Collections.Immutable.ImmutableDictionary<string, RestSet>.Empty.Add(
                "Stations",
                new RestSet { Path = "network/gauges", FormerPaths = ["gauges"] }
            ),
        };
        var model = network.Service.Model.On(new ServiceFaces(new FaceShape(), shape));
        var paths = new RestPaths(model);
        BoundPath Path(string url) => RequestBinder.Bind(RestRequest.Of(url, "", paths).Value!.Parse().Value!, model).Value!.Path;
        Assert.Equal("Stations", Path("network/gauges").Target.Name);
        Assert.Equal(ResourceKind.Entity, Path("network/gauges/id=3").Kind);
        Assert.Equal("VisitTasks", Path("visit-tasks/visit_id=1,line_no=2").Target.Name);
        Assert.Equal("Sensors", Path("network/gauges/id=3/sensors").Target.Name);
        Assert.Equal("/Stations", paths.Find([new AddressSegment("Stations", "Stations")]).Set);
        Assert.Equal("network/gauges/id=3", paths.Moved([new AddressSegment("gauges", "gauges"), new AddressSegment("id=3", "id=3")]));
        Assert.Equal("key", RestRequest.Of("network/gauges/id=3,4", "", paths).Fault!.Code);
    }
}
