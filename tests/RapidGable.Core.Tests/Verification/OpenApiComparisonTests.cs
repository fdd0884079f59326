using RapidGable.Verification;

namespace RapidGable.Core.Tests;

/// <summary>What a change of a description means for those who call the service.</summary>
public class OpenApiComparisonTests
{
    private const string Before = """
        {
          "paths": {
            "/Rivers": { "get": { "parameters": [
              { "name": "id", "in": "query", "schema": { "type": "string" } },
              { "$ref": "#/components/parameters/limit" } ] } },
            "/Rivers/{id}": { "get": { "parameters": [ { "name": "id", "in": "path", "required": true, "schema": { "type": "integer" } } ] },
              "delete": {} }
          },
          "components": {
            "parameters": { "limit": { "name": "limit", "in": "query", "schema": { "type": "integer" } } },
            "schemas": {
              "River": { "properties": { "id": { "type": "integer" }, "name": { "type": "string", "maxLength": 40 } } },
              "RiverCreate": { "properties": { "id": { "type": "integer" } }, "required": ["id"] }
            }
          }
        }
        """;

    [Theory]
    [InlineData("\"/Rivers\":", "\"/Waters\":", "breaks /Rivers the address is gone|adds /Waters the address is new")]
    [InlineData(
        "\"delete\": {}",
        "\"patch\": {}",
        "breaks DELETE /Rivers/{id} the operation is gone|adds PATCH /Rivers/{id} the operation is new"
    )]
    [InlineData("\"name\": \"limit\"", "\"name\": \"top\"", "breaks GET /Rivers limit the parameter is gone")]
    [InlineData(
        "\"in\": \"query\", \"schema\": { \"type\": \"string\" }",
        "\"in\": \"query\", \"required\": true, \"schema\": { \"type\": \"string\" }",
        "breaks GET /Rivers id the parameter must be sent now"
    )]
    [InlineData(
        "\"required\": true, \"schema\": { \"type\": \"integer\" }",
        "\"required\": true, \"schema\": { \"type\": \"string\" }",
        "breaks GET /Rivers/{id} {id} the parameter was integer and is string"
    )]
    [InlineData(
        "\"name\": { \"type\": \"string\", \"maxLength\": 40 }",
        "\"title\": { \"type\": \"string\" }",
        "breaks River.name the member is gone|adds River.title the member is new (string)"
    )]
    [InlineData(
        "\"maxLength\": 40",
        "\"maxLength\": 80",
        "breaks River.name it was string of 40 characters and is string of 80 characters"
    )]
    [InlineData(
        "{ \"id\": { \"type\": \"integer\" } }, \"required\": [\"id\"]",
        "{ \"id\": { \"type\": \"integer\" }, \"name\": { \"type\": \"string\" } }, \"required\": [\"id\", \"name\"]",
        "adds RiverCreate.name the member is new (string)|breaks RiverCreate.name the member must be sent now"
    )]
    public void A_change_says_what_it_breaks(string text, string now, string expected)
    {
        var changes = OpenApiComparison.Compare(Before, Before.Replace(text, now, StringComparison.Ordinal));
        Assert.Equal(expected, string.Join('|', changes.Select(c => $"{(c.IsBreaking ? "breaks" : "adds")} {c.Subject} {c.What}")));
        Assert.All(changes, c => Assert.NotEmpty(c.Meaning));
    }
}
