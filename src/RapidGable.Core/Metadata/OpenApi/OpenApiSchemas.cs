using System.Text.Json.Nodes;
using Microsoft.OpenApi;
using RapidGable.Model;
using JsonValue = System.Text.Json.Nodes.JsonValue;

namespace RapidGable.Metadata.OpenApi;

/// <summary>Types of properties as schemas (JSON Schema 2020-12, OpenAPI 4.8.24).</summary>
/// <param name="document">Holds the names for primitive types among its components.</param>
internal sealed class OpenApiSchemas(bool isOlder, OpenApiDocument document)
{
    /// <summary>The schema of a property's value.</summary>
    /// <param name="isWritten">It is about what is sent, so that the rules of written values hold.</param>
    public OpenApiSchema Of(Property property, bool isWritten)
    {
        var schema =
            property.IsGroup
                ? Object(property.Members.Where(m => m.Type.Kind != EdmKind.Stream).Select(m => (m.Name, (IOpenApiSchema)Of(m, isWritten))))
            : property.Definition is { } definition ? Named(property, definition)
            : Of(property.Type, property.Conversion);
        schema.Description = Description(property);
        schema.Deprecated = property.Deprecation is not null;
        // A complex value of columns is always there.
        if (property is { Nullable: true, IsGroup: false, Type.IsCollection: false, Definition: null })
            AllowNull(schema);
        if (property.DefaultValue is { } text && Constant(text, property.Type) is { } value)
            schema.Default = value;
        if (!isWritten)
            schema.ReadOnly = property.IsComputed || property.Expression is not null || property.Access == PropertyAccess.ReadOnly;
        else
            Restrict(schema, property);
        if (property.Measure is { IsPath: false } measure)
            schema.Extensions = new Dictionary<string, IOpenApiExtension>
            {
                [measure.IsCurrency ? "x-currency" : "x-unit"] = new JsonNodeExtension(JsonValue.Create(measure.Text)),
            };
        return schema;
    }

    /// <summary>Adds the names for primitive types to the components of the document.</summary>
    public void AddDefinitions(IEnumerable<TypeDefinition> definitions)
    {
        foreach (var definition in definitions)
        {
            var schema = Of(definition.Underlying);
            schema.Description = definition.Description;
            document.Components!.Schemas![definition.Name] = schema;
        }
    }

    /// <summary>A schema that refers to a name for a primitive type.</summary>
    private OpenApiSchema Named(Property property, TypeDefinition definition)
    {
        var reference = new OpenApiSchemaReference(definition.Name, document);
        var plain = Of(definition.Underlying).Type;
        if (property.Type.IsCollection)
            return new OpenApiSchema { Type = JsonSchemaType.Array, Items = Nullable(reference, plain) };
        var schema = property.Nullable ? Nullable(reference, plain) : new OpenApiSchema { AllOf = [reference] };
        if (property is { Conversion: null, Type.Kind: EdmKind.String } && definition.Underlying.MaxLength is null)
            schema.MaxLength = property.Type.MaxLength;
        return schema;
    }

    /// <summary>The schema of a value that a query is called with.</summary>
    public OpenApiSchema OfArgument(OperationParameter parameter) =>
        Of(parameter.AsProperty() with { Nullable = false, Description = null }, isWritten: true);

    /// <summary>The object that an action is called with.</summary>
    public OpenApiSchema Arguments(IEnumerable<OperationParameter> parameters)
    {
        var all = parameters.ToList();
        var schema = Object(all.Select(p => (p.Name, (IOpenApiSchema)Of(p.AsProperty(), isWritten: true))));
        schema.Required = all.Where(p => p.IsRequired).Select(p => p.Name).ToHashSet();
        return schema;
    }

    /// <summary>An object with some properties.</summary>
    public static OpenApiSchema Object(IEnumerable<(string Name, IOpenApiSchema Schema)> properties) =>
        new() { Type = JsonSchemaType.Object, Properties = properties.ToDictionary(p => p.Name, p => p.Schema) };

    /// <summary>A value of a type, which is not null.</summary>
    public OpenApiSchema Of(EdmType type, ValueConversion? conversion = null)
    {
        if (type.IsCollection)
        {
            var item = Of(type with { IsCollection = false });
            AllowNull(item);
            return new OpenApiSchema { Type = JsonSchemaType.Array, Items = item };
        }
        if (type.Complex is { } complex)
            return Complex(complex);
        return type.Kind switch
        {
            EdmKind.Boolean => new OpenApiSchema { Type = JsonSchemaType.Boolean },
            EdmKind.Byte => Integer("uint8", 0, 255),
            EdmKind.SByte => Integer("int8", -128, 127),
            EdmKind.Int16 => Integer("int16", short.MinValue, short.MaxValue),
            EdmKind.Int32 => new OpenApiSchema { Type = JsonSchemaType.Integer, Format = "int32" },
            EdmKind.Int64 => new OpenApiSchema { Type = JsonSchemaType.Integer, Format = "int64" },
            EdmKind.Decimal => new OpenApiSchema
            {
                Type = type.Scale == 0 ? JsonSchemaType.Integer : JsonSchemaType.Number,
                Format = type.Scale == 0 ? null : "decimal",
            },
            EdmKind.Single => new OpenApiSchema { Type = JsonSchemaType.Number, Format = "float" },
            EdmKind.Double => new OpenApiSchema { Type = JsonSchemaType.Number, Format = "double" },
            EdmKind.Guid => Text("uuid"),
            EdmKind.Date => Text("date"),
            EdmKind.TimeOfDay => Text("time-local"),
            EdmKind.DateTimeOffset => Text("date-time"),
            EdmKind.Duration => Text("duration"),
            EdmKind.Binary => Binary(),
            EdmKind.Enum => new OpenApiSchema
            {
                Type = JsonSchemaType.String,
                Enum = [.. type.Enum!.Members.Select(m => (JsonNode)JsonValue.Create(m.Name))],
            },
            _ => new OpenApiSchema { Type = JsonSchemaType.String, MaxLength = conversion is null ? type.MaxLength : null },
        };
    }

    /// <summary>Lets a value be null, whatever else it may be.</summary>
    public static void AllowNull(OpenApiSchema schema)
    {
        schema.Type |= JsonSchemaType.Null;
        schema.Enum?.Add(JsonNullSentinel.JsonNull);
    }

    /// <summary>A schema that may be null beside one that is referred to.</summary>
    /// <param name="plain">The JSON type of what it refers to.</param>
    public OpenApiSchema Nullable(OpenApiSchemaReference reference, JsonSchemaType? plain = JsonSchemaType.Object) =>
        isOlder
            ? new OpenApiSchema { Type = plain | JsonSchemaType.Null, AllOf = [reference] }
            : new OpenApiSchema { OneOf = [reference, new OpenApiSchema { Type = JsonSchemaType.Null }] };

    private static OpenApiSchema Integer(string format, long least, long most) =>
        new()
        {
            Type = JsonSchemaType.Integer,
            Format = format,
            Minimum = least.ToString(System.Globalization.CultureInfo.InvariantCulture),
            Maximum = most.ToString(System.Globalization.CultureInfo.InvariantCulture),
        };

    /// <summary>Any text.</summary>
    public static OpenApiSchema Text() => new() { Type = JsonSchemaType.String };

    /// <summary>A body that is no text: from 3.1 on its media type says all.</summary>
    public OpenApiSchema Bytes() => isOlder ? Text("binary") : new OpenApiSchema();

    private static OpenApiSchema Text(string format) => new() { Type = JsonSchemaType.String, Format = format };

    private OpenApiSchema Binary() =>
        isOlder ? Text("base64url") : new OpenApiSchema { Type = JsonSchemaType.String, ContentEncoding = "base64url" };

    private OpenApiSchema Complex(ComplexType complex)
    {
        var schema = Object(complex.Properties.Select(p => (p.Name, (IOpenApiSchema)Of(p, isWritten: false))));
        schema.Description = complex.Description;
        schema.AdditionalPropertiesAllowed = complex.IsOpen;
        schema.Required = complex.Properties.Where(p => !p.Nullable).Select(p => p.Name).ToHashSet();
        return schema;
    }

    private static string? Description(Property property)
    {
        var parts = new List<string>();
        if (property.Description is { } text)
            parts.Add(text.TrimEnd('.') + ".");
        if (property.Measure is { } measure)
            parts.Add(
                measure.IsPath ? $"The {(measure.IsCurrency ? "currency" : "unit")} stands in {measure.Text}."
                : measure.IsCurrency ? $"In {measure.Text}."
                : $"Measured in {measure.Text}."
            );
        if (property.MediaType is { } type && property.Type.Kind == EdmKind.String)
            parts.Add($"A text of {type}.");
        return parts.Count == 0 ? null : string.Join(' ', parts);
    }

    private static void Restrict(OpenApiSchema schema, Property property)
    {
        var rules = property.Rules;
        if (property.Type.IsNumeric)
        {
            schema.Minimum = rules.Minimum is { } least ? ValueConversion.Text(least) : schema.Minimum;
            schema.Maximum = rules.Maximum is { } most ? ValueConversion.Text(most) : schema.Maximum;
        }
        else if ((rules.Minimum ?? rules.Maximum) is not null)
        {
            var bounds = new[] { ("at least", rules.Minimum), ("at most", rules.Maximum) }
                .Where(b => b.Item2 is not null)
                .Select(b => $"{b.Item1} {ValueConversion.Text(b.Item2!)}");
            var sentence = string.Join(", ", bounds);
            schema.Description =
                $"{schema.Description}{(schema.Description is null ? "" : " ")}{char.ToUpperInvariant(sentence[0])}{sentence[1..]}.";
        }
        if (property.Type.Kind == EdmKind.String)
        {
            schema.MinLength = rules.MinLength;
            schema.MaxLength = rules.MaxLength is { } length ? Math.Min(length, schema.MaxLength ?? length) : schema.MaxLength;
            schema.Pattern = rules.Pattern?.ToString();
        }
        if (!rules.Values.IsEmpty)
            schema.Enum = [.. rules.Values.Select(v => Constant(ValueConversion.Text(v), property.Type)).OfType<JsonNode>()];
        else if (!property.AllowedValues.IsEmpty)
            schema.Enum = [.. property.AllowedValues.Select(v => (JsonNode)JsonValue.Create(v))];
        if (schema.Enum is { } values && property.Nullable && values.All(v => !JsonNullSentinel.IsJsonNullSentinel(v)))
            values.Add(JsonNullSentinel.JsonNull);
    }

    /// <summary>A constant as JSON; null = it has no form there.</summary>
    public static JsonNode? Constant(string text, EdmType type) =>
        type.Kind switch
        {
            EdmKind.Boolean => text is "true" or "false" ? JsonValue.Create(text == "true") : null,
            _ when type.IsNumeric => decimal.TryParse(
                text,
                System.Globalization.NumberStyles.Float,
                System.Globalization.CultureInfo.InvariantCulture,
                out var number
            )
                ? JsonValue.Create(number)
                : null,
            EdmKind.Complex or EdmKind.Stream => null,
            _ => JsonValue.Create(text),
        };
}
