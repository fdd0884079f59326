using System.Collections.Immutable;
using System.Text.Json;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Payloads.Json;

/// <summary>How a list of plain JSON is laid out.</summary>
public enum PlainJsonLayout
{
    /// <summary>An object with <c>rows</c>, <c>next</c> and <c>total</c>; the rows of a relation likewise.</summary>
    Object,

    /// <summary>As <see cref="Object"/>, with the columns before the rows.</summary>
    Described,

    /// <summary>An array; where it goes on stands outside of it.</summary>
    Array,

    /// <summary>An object on each line; as <see cref="Array"/>.</summary>
    Lines,
}

/// <summary>Writes rows as JSON with nothing but their values.</summary>
public sealed class PlainJsonWriter : IListWriter
{
    private readonly PreparedRequest _prepared;
    private readonly PlainJsonLayout _layout;
    private readonly ImmutableArray<EntityNode> _tree;
    private readonly ImmutableArray<PlainEntity> _entities;

    private PlainJsonWriter(PreparedRequest prepared, PlainJsonLayout layout, bool omitsNulls)
    {
        _prepared = prepared;
        _layout = layout;
        _tree = EntityNode.TreeOf(prepared.Query!.Shape.Entity);
        _entities = PlainEntity.Of(_tree, omitsNulls);
    }

    /// <summary>The writer for a prepared request, made at its first use.</summary>
    /// <param name="omitsNulls">Properties without a value are left out.</param>
    public static PlainJsonWriter For(PreparedRequest prepared, PlainJsonLayout layout, bool omitsNulls) =>
        (PlainJsonWriter)prepared.Derived.GetOrAdd($"plain {layout} {omitsNulls}", _ => new PlainJsonWriter(prepared, layout, omitsNulls));

    /// <inheritdoc/>
    public async Task<Continuation?> WriteAsync(QueryRun run, ILinks links, PayloadOutput output, CancellationToken cancellation)
    {
        await using var json = new Utf8JsonWriter(output, JsonRows.WriterOptions);
        var isEntity = _prepared.Request.Path.Kind == ResourceKind.Entity;
        var rows = new PlainJsonRows(_entities, _layout, links, run, json, output);
        var walk = new RowWalk(_tree[0], _prepared.Request, run, rows, cancellation);
        await walk.FetchRemotesAsync();
        if (isEntity)
        {
            json.WriteStartObject();
            await walk.EntityAsync();
            json.WriteEndObject();
            await output.SendAsync(json, cancellation);
            return null;
        }
        Begin(json, run);
        var next = await walk.CollectionAsync();
        End(json, next is null ? null : links.Of(next, run.Values));
        await output.SendAsync(json, cancellation);
        return next;
    }

    private void Begin(Utf8JsonWriter json, QueryRun run)
    {
        switch (_layout)
        {
            case PlainJsonLayout.Object or PlainJsonLayout.Described:
                json.WriteStartObject();
                if (_layout == PlainJsonLayout.Described)
                    Columns(json);
                if (run.Count is { } total)
                    json.WriteNumber("total"u8, total);
                json.WriteStartArray("rows"u8);
                break;
            case PlainJsonLayout.Array:
                json.WriteStartArray();
                break;
        }
    }

    /// <summary>What the columns of the rows are.</summary>
    private void Columns(Utf8JsonWriter json)
    {
        json.WriteStartArray("columns"u8);
        foreach (var property in _tree[0].Shape.Cells.Select(c => c.Property))
        {
            json.WriteStartObject();
            json.WriteString("name"u8, property.Name);
            json.WriteString("type"u8, property.Type.Enum?.Name ?? property.Type.Kind.ToString().ToLowerInvariant());
            json.WriteBoolean("nullable"u8, property.Nullable);
            if (property.Type.MaxLength is { } length)
                json.WriteNumber("maxLength"u8, length);
            if (property.Type is { Kind: EdmKind.Decimal, Precision: { } precision })
                json.WriteNumber("precision"u8, precision);
            if (property.Type is { Kind: EdmKind.Decimal, Scale: { } scale })
                json.WriteNumber("scale"u8, scale);
            if (property.Description is { } description)
                json.WriteString("description"u8, description);
            if (property.Measure is { IsPath: false } measure)
                json.WriteString("unit"u8, measure.Text);
            json.WriteEndObject();
        }
        json.WriteEndArray();
    }

    private void End(Utf8JsonWriter json, string? next)
    {
        switch (_layout)
        {
            case PlainJsonLayout.Object or PlainJsonLayout.Described:
                json.WriteEndArray();
                if (next is not null)
                    json.WriteString("next"u8, next);
                json.WriteEndObject();
                break;
            case PlainJsonLayout.Array:
                json.WriteEndArray();
                break;
        }
    }
}

/// <summary>What is prepared for one entity of a tree.</summary>
internal sealed class PlainEntity(EntityNode node, bool omitsNulls)
{
    private readonly ImmutableArray<(CellJsonWriter Writer, int Column)> _cells =
    [
        .. node
            .Shape.Cells.Concat(node.Shape.Computed)
            .Select(c => (CellJsonWriter.For(c, c.Property.Name, FormatOf(omitsNulls)), c.Column)),
    ];

    public JsonEncodedText Name { get; } = EntityJson.Encode(node.Name);

    public static ImmutableArray<PlainEntity> Of(ImmutableArray<EntityNode> tree, bool omitsNulls) =>
        [.. tree.Select(n => new PlainEntity(n, omitsNulls))];

    private static PayloadFormat FormatOf(bool omitsNulls) => new(ODataVersion.V401, MetadataLevel.None, false) { OmitsNulls = omitsNulls };

    public void Values(Utf8JsonWriter json, IRowCursor row)
    {
        foreach (var (writer, column) in _cells)
            writer.Write(json, row, column);
    }
}

/// <summary>Rows as plain JSON objects.</summary>
internal sealed class PlainJsonRows(
    ImmutableArray<PlainEntity> entities,
    PlainJsonLayout layout,
    ILinks links,
    QueryRun run,
    Utf8JsonWriter json,
    PayloadOutput output
) : JsonRows([.. entities.Select(e => e.Name)], json, output)
{
    public override void Values(EntityNode node, IRowCursor row) => entities[node.Number].Values(Json, row);

    public override void EndEntity(EntityNode node)
    {
        base.EndEntity(node);
        if (layout == PlainJsonLayout.Lines && node.Number == 0)
            EndLine();
    }

    public override void Count(EntityNode related, long count) { }

    public override void BeginMany(EntityNode related)
    {
        if (layout != PlainJsonLayout.Object)
        {
            base.BeginMany(related);
            return;
        }
        Json.WriteStartObject(entities[related.Number].Name);
        Json.WriteStartArray("rows"u8);
    }

    public override void EndMany(EntityNode related, RelatedPage? next)
    {
        if (layout != PlainJsonLayout.Object && next is not null)
            throw new RelatedCutException(related.Name);
        Json.WriteEndArray();
        if (layout != PlainJsonLayout.Object)
            return;
        if (next is not null)
            Json.WriteString("next"u8, links.Of(next, run.Values));
        Json.WriteEndObject();
    }

    public override void Removed(EntityShape shape, IRowCursor row, bool isDeleted) =>
        throw new InvalidOperationException("This face does not follow changes.");
}
