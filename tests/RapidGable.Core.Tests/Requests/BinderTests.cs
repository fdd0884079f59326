using RapidGable.Access;
using RapidGable.Model;
using RapidGable.Requests;
using RapidGable.Requests.OData;

namespace RapidGable.Core.Tests;

public class BinderTests(NetworkFixture network) : IClassFixture<NetworkFixture>
{
    [Theory]
    [InlineData("", ResourceKind.ServiceDocument)]
    [InlineData("$metadata", ResourceKind.Metadata)]
    [InlineData("Stations", ResourceKind.Collection)]
    [InlineData("Stations(1)", ResourceKind.Entity)]
    [InlineData("Stations(id=1)", ResourceKind.Entity)]
    [InlineData("Sensors(sensor_no=1,station_id=2)", ResourceKind.Entity)]
    [InlineData("Certificates('CAL%2F2')", ResourceKind.Entity)]
    [InlineData("Technicians(21ec2020-3aea-1069-a2dd-08002b30309d)", ResourceKind.Entity)]
    [InlineData("Stations(1)/catchment", ResourceKind.Entity)]
    [InlineData("Stations(1)/Sensors", ResourceKind.Collection)]
    [InlineData("Stations(1)/Sensors(station_id=1,sensor_no=1)/Readings", ResourceKind.Collection)]
    [InlineData("Stations(1)/name", ResourceKind.PropertyValue)]
    [InlineData("Stations(1)/catchment/parent/name/$value", ResourceKind.RawValue)]
    [InlineData("Stations/$count", ResourceKind.Count)]
    [InlineData("Stations(1)/Sensors/$count", ResourceKind.Count)]
    [Proves("U-07 to U-30")]
    public void A_path_addresses_its_resource(string path, ResourceKind expected) =>
        Assert.Equal(expected, network.Prepare(path).Value?.Request.Path.Kind);

    [Theory]
    [InlineData("stations", 404)]
    [InlineData("Nothing", 404)]
    [InlineData("Stations(1)/nothing", 404)]
    [InlineData("Stations/1/2", 404)]
    [InlineData("Sensors/1", 404)] // a part of the key is missing
    [InlineData("Stations/1/nothing", 404)]
    [InlineData("Stations/A.B", 404)]
    [InlineData("Stations/$ref/$count", 404)]
    [InlineData("Stations(1)/name/$ref", 404)]
    [InlineData("Stations(1)/$filter(id eq 1)", 404)]
    [InlineData("Stations/$each", 405)]
    [InlineData("Stations(1)/name/more", 404)]
    [InlineData("Stations(1)/$count", 404)]
    [InlineData("Stations/$value", 404)]
    [InlineData("Stations(1)/$value", 404)]
    [InlineData("Stations(1)/catchment(3)", 404)]
    [InlineData("Stations/$count/$count", 404)]
    [InlineData("$metadata/x", 404)]
    [InlineData("$nonsense", 404)]
    [InlineData("Stations()", 400)]
    [InlineData("Stations('1')", 400)]
    [InlineData("Stations(1,2)", 400)]
    [InlineData("Stations(name='AB-001')", 400)]
    [InlineData("Stations(null)", 400)]
    [InlineData("Stations(99999999999999999999)", 400)]
    [InlineData("Sensors(1)", 400)]
    [InlineData("Sensors(station_id=1)", 400)]
    [InlineData("Sensors(station_id=1,sensor_no=1,x=1)", 400)]
    [InlineData("Sensors(station_id=1,station_id=1)", 400)]
    [InlineData("Sensors(1,2)", 400)]
    [InlineData("Technicians('x')", 400)]
    [InlineData("Stations(1", 400)]
    [InlineData("Stations(1)x", 400)]
    [InlineData("Stations//name", 400)]
    [InlineData("Stations(@p)", 400)]
    [InlineData("$all", 501)]
    [InlineData("$crossjoin(Stations,Nothing)", 404)]
    [InlineData("$crossjoin(Stations,Stations)", 400)]
    [InlineData("$crossjoin(Stations)", 400)]
    [InlineData("$crossjoin(Stations,Sensors)/x", 404)]
    [Proves("U-08, U-10, U-15, U-16, U-19, U-26, U-30, U-33, U-47, U-49, U-50, U-53")]
    public void A_wrong_path_is_refused(string path, int status) => Assert.Equal(status, network.Prepare(path).Fault?.Status);

    [Theory]
    [InlineData("Stations?$filter=nam eq 'x'", "unknown-property")]
    [InlineData("Stations?$filter=photo eq null", "unknown-property")] // hidden is the same as missing
    [InlineData("Stations?$filter=name", "type")]
    [InlineData("Stations?$filter=not name eq 'x'", "type")]
    [InlineData("Stations?$filter=name eq 1", "type")]
    [InlineData("Stations?$filter=id eq '1'", "type")]
    [InlineData("Stations?$filter=opened_on eq 10:00:00", "type")]
    [InlineData("Stations?$filter=name add 1 eq 2", "type")]
    [InlineData("Stations?$filter=telemetered and name", "type")]
    [InlineData("Stations?$filter=-name eq 'x'", "type")]
    [InlineData("Stations?$filter=length(id) eq 1", "type")]
    [InlineData("Stations?$filter=year(name) eq 1", "type")]
    [InlineData("Stations?$filter=contains(name) eq true", "arguments")]
    [InlineData("Stations?$filter=name in (1,2)", "type")]
    [InlineData("Stations?$filter=name/x eq 1", "not-a-path")]
    [InlineData("Stations?$filter=catchment eq 1", "type")]
    [InlineData("Stations?$filter=catchment/nothing eq 1", "unknown-property")]
    [InlineData("Stations?$filter=Sensors/kind eq 'x'", "not-implemented")]
    [InlineData("Stations?$filter=hour(2024-01-01T00:00:00%2B02:00) eq 1", "not-implemented")]
    [InlineData("Stations?$orderby=catchment", "type")]
    [InlineData("Stations?$orderby=nothing", "unknown-property")]
    [InlineData("Stations?$select=nothing", "unknown-property")]
    [InlineData("Stations?$expand=name", "unknown-property")]
    [InlineData("Stations?$expand=nothing", "unknown-property")]
    [InlineData("Stations?$expand=Sensors,Sensors", "expand-twice")]
    [InlineData("Stations?$expand=Sensors($select=nothing)", "unknown-property")]
    [InlineData("Stations(1)?$top=1", "option-not-here")]
    [InlineData("Stations(1)?$filter=id eq 1", "option-not-here")]
    [InlineData("Stations(1)/name?$select=name", "option-not-here")]
    [InlineData("$metadata?$top=1", "option-not-here")]
    [InlineData("?$filter=a eq 1", "option-not-here")]
    [Proves("U-06, Q-09, Q-10, Q-24, Q-33, Q-46, Q-48, Q-72, Q-80, Q-92")]
    public void A_wrong_option_is_refused(string url, string code) => Assert.Equal(code, network.Prepare(url).Fault?.Code);

    [Fact]
    public void A_suggestion_names_only_what_the_caller_may_know()
    {
        Assert.Contains("Did you mean 'name'?", network.Prepare("Stations?$filter=nmae eq 'x'").Fault!.Message);
        Assert.DoesNotContain("photo", network.Prepare("Stations?$filter=phto eq null").Fault!.Message);
    }

    [Fact] // rules: closed sets are missing sets, in paths and relations alike
    public void What_may_not_be_read_is_not_there()
    {
        var model = network.Service.Model;
        var closed = new EntityModel(
            "s",
            "S",
            "T",
            [
                .. model.Sets.Select(s =>
                    s.Name is "Sensors" ? s with { Rules = [] }
                    : s.Name is "Visits" ? s with { Rules = [Grant.Reading(AccessRule.ForRoles(["office"]))] }
                    : s
                ),
            ]
        );
        EntityModel For(Caller caller) => AccessGate.VisibleTo(closed, caller, AccessGate.Bind(closed));
        var visible = For(Caller.Anonymous);
        Assert.Null(visible.FindSet("Sensors"));
        Assert.Null(visible.FindSet("Visits"));
        Assert.Equal(["catchment"], visible.FindSet("Stations")!.Type.Navigations.Select(n => n.Name));
        Assert.NotNull(For(Caller.WithRoles("office")).FindSet("Visits"));
        Assert.Null(For(Caller.WithRoles("field")).FindSet("Visits"));
    }

    [Fact] // the gate holds even if a request was bound against a model that shows too much
    public void The_gate_refuses_every_touched_set()
    {
        var model = network.Service.Model;
        var closed = new EntityModel(
            "s",
            "S",
            "T",
            [.. model.Sets.Select(s => s.Name == "Catchments" ? s with { Rules = [Grant.Reading(AccessRule.SignedIn)] } : s)]
        );
        foreach (
            var url in new[]
            {
                "Catchments",
                "Stations(1)/catchment",
                "Stations?$expand=catchment",
                "Stations?$filter=catchment/name eq 'x'",
                "Stations?$orderby=catchment/name",
                "Stations?$filter=catchment eq null",
            }
        )
        {
            var bound = RequestBinder.Bind(RequestParser.Parse(NetworkFixture.Lex(url).Value!).Value!, closed).Value!;
            Assert.Equal(
                404,
                AccessGate.Permit(bound, closed, AccessGate.VisibleTo(closed, Caller.Anonymous, AccessGate.Bind(closed))).Fault?.Status
            );
            Assert.Null(AccessGate.Permit(bound, closed, AccessGate.VisibleTo(closed, Caller.WithRoles(), AccessGate.Bind(closed))).Fault);
        }
    }
}
