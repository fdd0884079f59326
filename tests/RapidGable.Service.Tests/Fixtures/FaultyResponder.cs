using System.Net;
using System.Text;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.Extensions.Logging;

namespace RapidGable.Service.Tests;

/// <summary>
/// A small hand-written OData service with three rows in two pages, right in every point, in which a test can put one
/// thing wrong: each answer goes through <c>spoil</c>, which gets the target and the right answer.
/// </summary>
internal sealed class FaultyResponder : IAsyncDisposable
{
    private const string Metadata = """
        <edmx:Edmx xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx" Version="4.0"><edmx:DataServices>
        <Schema xmlns="http://docs.oasis-open.org/odata/ns/edm" Namespace="F">
        <EntityType Name="Item"><Key><PropertyRef Name="id"/></Key><Property Name="id" Type="Edm.Int32" Nullable="false"/>
        <Property Name="name" Type="Edm.String" MaxLength="5"/><NavigationProperty Name="twin" Type="F.Item"/></EntityType>
        <EntityContainer Name="C"><EntitySet Name="Items" EntityType="F.Item"><NavigationPropertyBinding Path="twin" Target="Items"/></EntitySet></EntityContainer></Schema></edmx:DataServices></edmx:Edmx>
        """;

    private readonly WebApplication _app;

    private FaultyResponder(WebApplication app) => _app = app;

    public string Root => _app.Urls.First() + "/f/";

    public static async Task<FaultyResponder> StartAsync(Func<string, (int Status, string Body), (int Status, string Body)> spoil)
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.ConfigureKestrel(k => k.Listen(IPAddress.Loopback, 0));
        var app = builder.Build();
        app.Run(async context =>
        {
            var target = context.Request.Path.Value![3..] + Uri.UnescapeDataString(context.Request.QueryString.Value ?? "");
            var asksLines = context.Request.Headers.Accept.ToString() == "application/x-ndjson";
            if (asksLines)
                target = "lines of " + target;
            var (status, body) = spoil(target, Right(target));
            context.Response.StatusCode = status;
            context.Response.Headers["OData-Version"] = "4.0";
            context.Response.ContentType =
                asksLines ? "application/x-ndjson"
                : body.StartsWith('<') ? "application/xml"
                : body.StartsWith('{') ? "application/json"
                : "text/plain";
            await context.Response.Body.WriteAsync(Encoding.UTF8.GetBytes(body));
        });
        await app.StartAsync();
        return new FaultyResponder(app);
    }

    private static (int, string) Right(string target) =>
        target switch
        {
            "" => (200, """{"@odata.context":"$metadata","value":[{"name":"Items","url":"Items"}]}"""),
            "$metadata" => (200, Metadata),
            "Items" => (
                200,
                """{"@odata.context":"$metadata#Items","value":[{"id":1,"name":"a"},{"id":2,"name":null}],"@odata.nextLink":"Items?$skiptoken=2"}"""
            ),
            "Items?$skiptoken=2" => (200, """{"@odata.context":"$metadata#Items","value":[{"id":3,"name":"c"}]}"""),
            "Items?$select=id&$orderby=name desc" => (
                200,
                """{"@odata.context":"$metadata#Items(id)","value":[{"id":3},{"id":1},{"id":2}]}"""
            ),
            "Items?$top=3" => (
                200,
                """{"@odata.context":"$metadata#Items","value":[{"id":1,"name":"a"},{"id":2,"name":null},{"id":3,"name":"c"}]}"""
            ),
            "lines of Items?$top=3" => (
                200,
                """
                {"@count":3}
                {"id":1,"name":"a"}
                {"id":2,"name":null}
                {"id":3,"name":"c"}

                """
            ),
            "Items/$count" => (200, "3"),
            "Items(1)" or "Items(2)" or "Items(3)" => (
                200,
                $$"""{"@odata.context":"$metadata#Items/$entity","id":{{target[6]}},"name":"a"}"""
            ),
            "Items(1)/twin" or "Items(2)/twin" or "Items(3)/twin" => (
                200,
                $$"""{"@odata.context":"$metadata#Items/$entity","id":{{target[6]}},"name":"a"}"""
            ),
            _ when target.EndsWith(")?$select=id") => (200, $$"""{"@odata.context":"$metadata#Items(id)/$entity","id":{{target[6]}}}"""),
            _ when target.EndsWith(")?$expand=twin") => (
                200,
                $$$"""{"@odata.context":"$metadata#Items(twin())/$entity","id":{{{target[6]}}},"name":"a","twin":{"id":{{{target[6]}}},"name":"a"}}"""
            ),
            _ when target.Contains("?$filter=") => (400, """{"error":{"code":"x","message":"no such property"}}"""),
            _ => (404, """{"error":{"code":"x","message":"not here"}}"""),
        };

    public ValueTask DisposeAsync() => _app.DisposeAsync();
}
