using Microsoft.OpenApi;
using RapidGable.Model;
using RapidGable.Requests.Rest;

namespace RapidGable.Metadata.OpenApi;

/// <summary>The parameters and headers of requests to the plain REST face.</summary>
internal static class RestParameterParts
{
    /// <summary>Parameters of reads. Examples stand in the texts: programs that try requests would send them.</summary>
    public static Dictionary<string, IOpenApiParameter> OfReads()
    {
        static OpenApiParameter Of(string name, string description, OpenApiSchema schema) =>
            new()
            {
                Name = name,
                In = ParameterLocation.Query,
                Description = description,
                Schema = schema,
            };
        static OpenApiParameter List(string name, string description)
        {
            var parameter = Of(name, description, new OpenApiSchema { Type = JsonSchemaType.Array, Items = OpenApiSchemas.Text() });
            (parameter.Style, parameter.Explode) = (ParameterStyle.Form, false);
            return parameter;
        }
        var all = new[]
        {
            Of(RestParameters.Filter, "A condition in the expression language, such as id gt 5.", OpenApiSchemas.Text()),
            List(RestParameters.Sort, "Properties to sort by, each with '-' before it for descending order."),
            List(RestParameters.Fields, "The properties that are wanted; all when left out."),
            List(RestParameters.Include, "Relations whose rows stand inside of each row."),
            Of(RestParameters.Search, "Words to look for, joined by AND, OR and NOT.", OpenApiSchemas.Text()),
            Limit(),
            Of(RestParameters.After, "Where a page starts, as the link to it says.", OpenApiSchemas.Text()),
            Of(RestParameters.Rows, "A window of rows, by number from 1, such as 41..60.", OpenApiSchemas.Text()),
            Of(RestParameters.Total, "Whether the number of all rows is told.", new OpenApiSchema { Type = JsonSchemaType.Boolean }),
            Of(
                RestParameters.Format,
                "The format, which beats Accept: json, jsonl, csv, xml, xlsx, or a media type such as text/csv;header=absent.",
                OpenApiSchemas.Text()
            ),
        };
        OpenApiParameter Limit()
        {
            var schema = new OpenApiSchema { Type = JsonSchemaType.Integer, Minimum = "1" };
            var limit = Of(RestParameters.Limit, "Rows of a page; more than the largest page counts as that.", schema);
            limit.Example = 5;
            return limit;
        }
        return all.ToDictionary(p => p.Name!, p => (IOpenApiParameter)p);
    }

    /// <summary>A parameter for each property that rows may be chosen by.</summary>
    public static IEnumerable<IOpenApiParameter> Matches(EntitySet set) =>
        from property in set.Type.Properties
        from leaf in property.Leaves
        where leaf is { IsFilterable: true, Type.IsCollection: false, Type.Kind: not (EdmKind.Stream or EdmKind.Complex or EdmKind.Binary) }
        where leaf.Conversion is not { Use: ConvertedUse.Read }
        let name = ReferenceEquals(leaf, property) ? leaf.Name : $"{property.Name}/{leaf.Name}"
        select (IOpenApiParameter)
            new OpenApiParameter
            {
                Name = IsTaken(set, name) ? RestParameters.PropertyPrefix + name : name,
                In = ParameterLocation.Query,
                Description = MatchDescription(leaf),
                Schema = new OpenApiSchema { Type = JsonSchemaType.String },
            };

    /// <summary>Whether a name means something else than a property.</summary>
    private static bool IsTaken(EntitySet set, string name) => RestParameters.All.Contains(name) || set.Parameters.Any(p => p.Name == name);

    private static string MatchDescription(Property property) =>
        property.Type.Kind switch
        {
            EdmKind.String => "A value, several with commas, a part with *, a range a..b, null; with ! before it, none of these.",
            EdmKind.Boolean or EdmKind.Guid or EdmKind.Enum => "A value, several with commas, null; with ! before it, none of these.",
            _ => "A value, several with commas, a range a..b, null; with ! before it, none of these.",
        };

    private static OpenApiParameter Header(string name, string description) =>
        new()
        {
            Name = name,
            In = ParameterLocation.Header,
            Description = description,
            Schema = OpenApiSchemas.Text(),
        };

    public static OpenApiParameter IfMatch(OpenApiSet set)
    {
        var header = Header("If-Match", "The tag of the state that the change is about, or *.");
        header.Required = set.Set.RequiresVersion;
        if (set.Set.RequiresVersion)
            header.Example = "*";
        return header;
    }

    public static OpenApiParameter IdempotencyKey() =>
        Header("Idempotency-Key", "An id by which the same request is done once, however often it is sent.");

    public static OpenApiParameter Prefer() => Header("Prefer", "return=minimal for no body, before for the row as it was, too.");
}
