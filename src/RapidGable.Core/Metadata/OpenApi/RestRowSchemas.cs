using System.Collections.Immutable;
using System.Text.Json.Nodes;
using Microsoft.OpenApi;
using RapidGable.Model;
using RapidGable.Requests.Rest;

namespace RapidGable.Metadata.OpenApi;

/// <summary>The schemas of rows: as they are read, and as they are sent to be created, replaced and changed.</summary>
internal sealed class RestRowSchemas(OpenApiFacts facts, OpenApiSchemas schemas, OpenApiDocument document)
{
    /// <summary>The schema of a statement over sets.</summary>
    public const string Statement = "sql-statement";

    /// <summary>The schema of what such a statement gives.</summary>
    public const string StatementRows = "sql-rows";

    /// <summary>Adds the schemas of what the caller may do with a set.</summary>
    public void Add(OpenApiSet set)
    {
        var (type, all) = (set.Set.Type.Name, document.Components!.Schemas!);
        if (set.May(set.Set.Use) && set.Set is { GivesRows: true, EntitiesOf: null })
        {
            all[type] = Row(set);
            all[type + "List"] = List(type);
        }
        if (set.Set.IsAction)
            all[set.Set.Name + "Arguments"] = Arguments(set.Set);
        if (!set.Create.IsEmpty)
            all[type + "Create"] = New(set);
        if (!set.Update.IsEmpty)
        {
            all[type + "Replace"] = Sent(set.Update, allOptional: false, $"All of a {type} that may change.");
            all[type + "Update"] = Sent(set.Update, allOptional: true, $"What changes of a {type}; null takes a value away.");
        }
    }

    /// <summary>Adds the schemas of a statement and of its answer; no type has such names.</summary>
    public void AddStatement()
    {
        var (text, all) = (OpenApiSchemas.Text(), document.Components!.Schemas!);
        text.Description = "One SELECT.";
        var statement = OpenApiSchemas.Object([
            ("statement", text),
            ("parameters", new OpenApiSchema { Type = JsonSchemaType.Object, Description = "Values of the parameters, by name." }),
        ]);
        statement.Required = new HashSet<string> { "statement" };
        all[Statement] = statement;
        var column = OpenApiSchemas.Object([
            ("name", OpenApiSchemas.Text()),
            ("type", OpenApiSchemas.Text()),
            ("nullable", new OpenApiSchema { Type = JsonSchemaType.Boolean }),
        ]);
        column.Required = new HashSet<string> { "name", "type", "nullable" };
        var rows = OpenApiSchemas.Object([
            ("columns", new OpenApiSchema { Type = JsonSchemaType.Array, Items = column }),
            (
                "rows",
                new OpenApiSchema
                {
                    Type = JsonSchemaType.Array,
                    Items = new OpenApiSchema { Type = JsonSchemaType.Object },
                }
            ),
        ]);
        rows.Required = new HashSet<string> { "columns", "rows" };
        all[StatementRows] = rows;
    }

    private OpenApiSchema Row(OpenApiSet set)
    {
        var type = set.Set.Type;
        var own = type.Properties.Where(p => p.Type.Kind != EdmKind.Stream).ToList();
        var schema = OpenApiSchemas.Object(
            own.Concat(type.Derived.SelectMany(d => d.Properties).Where(p => p.Type.Kind != EdmKind.Stream))
                .Select(p => (p.Name, (IOpenApiSchema)schemas.Of(p, isWritten: false)))
                .Concat(type.Navigations.Select(n => (n.Name, Related(n))))
        );
        schema.Description = type.Description ?? set.Set.Description;
        // With 'fields' a row holds what was chosen; without it, all of these.
        schema.Required = own.Select(p => p.Name).ToHashSet();
        if (ExampleValues.Of(own) is { } example)
            SetExample(schema, example);
        return schema;
    }

    /// <summary>What an action is called with.</summary>
    private OpenApiSchema Arguments(EntitySet action)
    {
        var inPath = new RestPaths(facts.Model).VariablesOf(action.Name).Select(v => v.Name).ToHashSet();
        var open = action.Parameters.Where(p => !inPath.Contains(p.Name)).ToList();
        var schema = schemas.Arguments(open);
        var example = new JsonObject();
        foreach (var parameter in open.Where(p => p.IsRequired || p.Example is not null))
            example[parameter.Name] = OpenApiSchemas.Constant(parameter.Sample, parameter.Type);
        if (example.Count > 0)
            SetExample(schema, example);
        return schema;
    }

    /// <summary>Related rows, which stand in a row only when 'include' names them.</summary>
    private IOpenApiSchema Related(NavigationProperty navigation)
    {
        var type = facts.Model.Target(navigation).Type.Name;
        return navigation.IsCollection ? Reference(type + "List")
            : navigation.Nullable ? schemas.Nullable(Reference(type))
            : Reference(type);
    }

    private OpenApiSchema List(string type)
    {
        var rows = new OpenApiSchema { Type = JsonSchemaType.Array, Items = Reference(type) };
        if (facts.Model.Faces.Rest.HasBareLists)
            return rows;
        var schema = OpenApiSchemas.Object([
            (
                "total",
                new OpenApiSchema
                {
                    Type = JsonSchemaType.Integer,
                    Format = "int64",
                    Description = "All rows, when 'total' asks.",
                }
            ),
            ("rows", rows),
            (
                "next",
                new OpenApiSchema
                {
                    Type = JsonSchemaType.String,
                    Format = "uri",
                    Description = "The next page; absent on the last.",
                }
            ),
        ]);
        schema.Required = new HashSet<string> { "rows" };
        return schema;
    }

    private OpenApiSchema Sent(ImmutableArray<OpenApiMember> members, bool allOptional, string description)
    {
        var schema = OpenApiSchemas.Object(members.Select(m => (m.Property.Name, (IOpenApiSchema)schemas.Of(m.Property, isWritten: true))));
        schema.Description = description;
        schema.AdditionalPropertiesAllowed = false;
        if (!allOptional)
            schema.Required = members.Where(m => m.IsRequired).Select(m => m.Property.Name).ToHashSet();
        var told = allOptional ? members.Take(1) : members.Where(m => m.IsRequired);
        if (ExampleValues.Of(told.Select(m => m.Property)) is { Count: > 0 } example)
            SetExample(schema, example);
        return schema;
    }

    /// <summary>A new row, with those that are part of it.</summary>
    private OpenApiSchema New(OpenApiSet set)
    {
        var given = Given(set);
        var members = set.Create.Select(m => given.Contains(m.Property.Column) ? m with { IsRequired = false } : m).ToImmutableArray();
        var schema = Sent(members, allOptional: false, $"A new {set.Set.Type.Name}.");
        foreach (
            var navigation in set.Set.Type.Navigations.Where(n => n.IsContained && facts.Find(n.TargetSet) is { Create.IsEmpty: false })
        )
            schema.Properties![navigation.Name] = new OpenApiSchema
            {
                Type = JsonSchemaType.Array,
                Items = Reference(facts.Model.Target(navigation).Type.Name + "Create"),
            };
        return schema;
    }

    /// <summary>Columns that the row which a contained one is part of gives.</summary>
    private HashSet<string> Given(OpenApiSet set) =>
        set.Set.ContainedIn is { } container && facts.Model.FindSet(container) is { } parent
            ? parent
                .Type.Navigations.Where(n => n.IsContained && n.TargetSet == set.Set.Name)
                .SelectMany(n => n.Joins)
                .Select(j => j.Target.Column)
                .ToHashSet()
            : [];

    private static void SetExample(OpenApiSchema schema, JsonNode example)
    {
        schema.Examples = [example];
    }

    private OpenApiSchemaReference Reference(string schema) => new(schema, document);
}
