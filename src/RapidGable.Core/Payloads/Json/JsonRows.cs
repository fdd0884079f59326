using System.Buffers;
using System.Collections.Immutable;
using System.Globalization;
using System.Text.Json;
using RapidGable.Queries;
using RapidGable.Sources;

namespace RapidGable.Payloads.Json;

/// <summary>What is prepared for one entity of a tree: names encoded, a writer for each column. Made once for plan and format.</summary>
internal sealed class EntityJson
{
    private readonly ImmutableArray<(CellJsonWriter Writer, int Column)> _cells;
    private readonly ControlJsonWriter _control;

    public EntityJson(EntityNode node, PayloadFormat format, Model.EntityModel model)
    {
        var shape = node.Shape;
        _control = new ControlJsonWriter(shape, format, model);
        _cells = [.. shape.Cells.Concat(shape.Computed).Select(c => (CellJsonWriter.For(c, c.Property.Name, format), c.Column))];
        Name = Encode(node.Name);
        Count = Encode(node.Name + format.Control("count"));
        NextLink = Encode(node.Name + format.Control("nextLink"));
    }

    /// <summary>The relation's name, and those of its count and its next link.</summary>
    public JsonEncodedText Name { get; }

    public JsonEncodedText Count { get; }

    public JsonEncodedText NextLink { get; }

    public static ImmutableArray<EntityJson> Of(ImmutableArray<EntityNode> tree, PayloadFormat format, Model.EntityModel model) =>
        [.. tree.Select(n => new EntityJson(n, format, model))];

    public void Values(Utf8JsonWriter json, LinkBuilder links, IRowCursor row)
    {
        if (_control.IsNeeded)
            _control.Write(json, links, row);
        foreach (var (writer, column) in _cells)
            writer.Write(json, row, column);
    }

    public static JsonEncodedText Encode(string name) => JsonEncodedText.Encode(name, JsonText.Encoder);
}

/// <summary>Writes the rows of one answer as JSON objects. What stands beside the values is the format's own.</summary>
/// <param name="names">Those of the relations, by the number of the node.</param>
internal abstract class JsonRows(ImmutableArray<JsonEncodedText> names, Utf8JsonWriter json, PayloadOutput output) : IRowVisitor
{
    internal static readonly JsonWriterOptions WriterOptions = new() { Encoder = JsonText.Encoder, SkipValidation = true };

    private Utf8JsonWriter? _apart;

    /// <summary>Where is written: the answer, or what is put into it later.</summary>
    protected Utf8JsonWriter Json => _apart ?? json;

    public virtual void BeginEntity(EntityNode node) => Json.WriteStartObject();

    public abstract void Values(EntityNode node, IRowCursor row);

    public virtual void EndEntity(EntityNode node) => Json.WriteEndObject();

    public void BeginSingle(EntityNode related) => Json.WriteStartObject(names[related.Number]);

    public void EndSingle(EntityNode related) => Json.WriteEndObject();

    public void NoSingle(EntityNode related) => Json.WriteNull(names[related.Number]);

    public abstract void Count(EntityNode related, long count);

    public virtual void BeginMany(EntityNode related) => Json.WriteStartArray(names[related.Number]);

    public abstract void EndMany(EntityNode related, RelatedPage? next);

    public ReadOnlyMemory<byte> Apart(EntityNode related, Action members)
    {
        var buffer = new ArrayBufferWriter<byte>();
        using (_apart = new Utf8JsonWriter(buffer, WriterOptions))
        {
            Json.WriteStartObject();
            members();
            Json.WriteEndObject();
        }
        _apart = null;
        return buffer.WrittenMemory;
    }

    public void Insert(EntityNode related, ReadOnlyMemory<byte> entity) => Json.WriteRawValue(entity.Span, skipInputValidation: true);

    public void InsertSingle(EntityNode related, ReadOnlyMemory<byte> entity)
    {
        Json.WritePropertyName(names[related.Number]);
        Json.WriteRawValue(entity.Span, skipInputValidation: true);
    }

    public abstract void Removed(EntityShape shape, IRowCursor row, bool isDeleted);

    public ValueTask SendIfFullAsync(CancellationToken cancellation) => output.SendIfFullAsync(json, cancellation);

    /// <summary>Ends a line between two objects, so that the next is the first one of a new text and no comma stands before it.</summary>
    protected void EndLine()
    {
        Json.Flush();
        Json.Reset();
        output.GetSpan(1)[0] = (byte)'\n';
        output.Advance(1);
    }
}

/// <summary>Writes the rows of one answer as OData JSON, with the control information that the level asks for.</summary>
/// <param name="entities">By the number of the node.</param>
internal class ODataJsonRows(
    ImmutableArray<EntityJson> entities,
    PayloadFormat format,
    QueryRun run,
    LinkBuilder links,
    Utf8JsonWriter json,
    PayloadOutput output
) : JsonRows([.. entities.Select(e => e.Name)], json, output)
{
    public override void Values(EntityNode node, IRowCursor row) => entities[node.Number].Values(Json, links, row);

    public override void Count(EntityNode related, long count) => WriteCount(entities[related.Number].Count, count);

    public override void EndMany(EntityNode related, RelatedPage? next)
    {
        Json.WriteEndArray();
        if (next is not null)
            Json.WriteString(entities[related.Number].NextLink, links.Of(next, run.Values));
    }

    /// <summary>An entity that is no longer part of the result (JSON format 15.3).</summary>
    public override void Removed(EntityShape shape, IRowCursor row, bool isDeleted)
    {
        var (id, reason) = (KeyPredicate.EntityId(shape, row), isDeleted ? "deleted" : "changed");
        Json.WriteStartObject();
        if (format.Version == ODataVersion.V40)
        {
            var context = links.Context($"{Uri.EscapeDataString(shape.Set.Name)}/$deletedEntity");
            Json.WriteString(format.Control("context"), context);
            Json.WriteString("id"u8, id);
            Json.WriteString("reason"u8, reason);
        }
        else
        {
            Json.WriteStartObject("@removed"u8);
            Json.WriteString("reason"u8, reason);
            Json.WriteEndObject();
            Json.WriteString("@id"u8, id);
        }
        Json.WriteEndObject();
    }

    /// <summary>A count is a text where a caller's numbers are too small for it (JSON format 3.2).</summary>
    public void WriteCount(JsonEncodedText name, long count)
    {
        if (format.Ieee754Compatible)
            Json.WriteString(name, count.ToString(CultureInfo.InvariantCulture));
        else
            Json.WriteNumber(name, count);
    }
}
