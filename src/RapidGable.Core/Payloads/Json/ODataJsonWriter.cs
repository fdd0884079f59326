using System.Collections.Immutable;
using System.Text.Json;
using RapidGable.Queries;
using RapidGable.Requests;

namespace RapidGable.Payloads.Json;

/// <summary>Writes the OData JSON payload of one prepared request (JSON format 4.01); kept with its plan.</summary>
public sealed class ODataJsonWriter : IPayloadWriter
{
    private readonly BoundRequest _request;
    private readonly PayloadFormat _format;
    private readonly ImmutableArray<EntityNode> _tree;
    private readonly ImmutableArray<EntityJson> _entities;
    private readonly CellJsonWriter? _value;
    private readonly string _fragment;
    private readonly JsonEncodedText _context;
    private readonly JsonEncodedText _count;
    private readonly JsonEncodedText _nextLink;
    private readonly JsonEncodedText _deltaLink;

    private ODataJsonWriter(PreparedRequest prepared, PayloadFormat format)
    {
        _request = prepared.Request;
        _format = format;
        var shape = prepared.Query!.Shape;
        _tree = EntityNode.TreeOf(shape.Entity);
        _entities = EntityJson.Of(_tree, format, prepared.Model);
        _value = shape.Value is { } value ? CellJsonWriter.For(value, "value", format with { OmitsNulls = false }) : null;
        _fragment = ContextFragment.Of(_request, prepared.Model);
        _context = JsonEncodedText.Encode(format.Control("context"));
        _count = JsonEncodedText.Encode(format.Control("count"));
        _nextLink = JsonEncodedText.Encode(format.Control("nextLink"));
        _deltaLink = JsonEncodedText.Encode(format.Control("deltaLink"));
    }

    /// <summary>The writer for a prepared request, made at its first use.</summary>
    public static ODataJsonWriter For(PreparedRequest prepared, PayloadFormat format) =>
        (ODataJsonWriter)prepared.Derived.GetOrAdd($"json {format}", _ => new ODataJsonWriter(prepared, format));

    /// <inheritdoc/>
    public async Task WriteAsync(QueryRun run, LinkBuilder links, PayloadOutput output, CancellationToken cancellation)
    {
        await using var json = new Utf8JsonWriter(output, JsonRows.WriterOptions);
        var rows = new ODataJsonRows(_entities, _format, run, links, json, output);
        var walk = new RowWalk(_tree[0], _request, run, rows, cancellation);
        await walk.FetchRemotesAsync();
        json.WriteStartObject();
        switch (_request.Path.Kind)
        {
            case ResourceKind.Collection:
                WriteContext(json, links.Context(Fragment(run)));
                await WriteCollectionAsync(json, rows, walk, run, links);
                break;
            case ResourceKind.Entity:
                WriteContext(json, links.Context(Fragment(run)));
                await walk.EntityAsync();
                break;
            default:
                var id = KeyPredicate.EntityId(_tree[0].Shape, run.Rows);
                WriteContext(json, links.Context(ContextFragment.OfProperty(id, _request.Path)));
                WriteValue(json, run);
                break;
        }
        json.WriteEndObject();
        await output.SendAsync(json, cancellation);
    }

    private void WriteContext(Utf8JsonWriter json, string url)
    {
        if (_format.HasContext)
            json.WriteString(_context, url);
    }

    private void WriteValue(Utf8JsonWriter json, QueryRun run)
    {
        var value = run.Query.Shape.Value!;
        if (value.Property.IsGroup)
            _value!.WriteMembers(json, run.Rows);
        else
            _value!.Write(json, run.Rows, value.Column);
    }

    /// <summary>What a contained entity is part of stands in the context, and only its row may tell (Protocol 10.3).</summary>
    private string Fragment(QueryRun run) =>
        ContextFragment.ContainedPath(_request.Path, literal => LinkBuilder.Text(run.Values.LiteralOf(literal))) is { } path
            ? path + _fragment
            : _fragment;

    private async Task WriteCollectionAsync(Utf8JsonWriter json, ODataJsonRows rows, RowWalk walk, QueryRun run, LinkBuilder links)
    {
        if (run.Count is { } count)
            rows.WriteCount(_count, count);
        json.WriteStartArray("value"u8);
        var next = await walk.CollectionAsync();
        json.WriteEndArray();
        if (next is not null)
            json.WriteString(next is NextPage ? _nextLink : _deltaLink, links.Of(next, run.Values));
    }
}
