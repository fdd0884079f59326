using System.Buffers;
using System.Collections.Immutable;
using System.Text.Json;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Sources;

namespace RapidGable.Payloads;

/// <summary>Writes one relation to another source. Its entities are written when they are fetched, and put in their places later.</summary>
internal sealed class RemoteJsonWriter(RemoteShape shape, PayloadFormat format, EntityModel model)
{
    private readonly JsonEncodedText _name = EntityJsonWriter.Encode(shape.Navigation.Name);
    private readonly JsonEncodedText _nextLink = EntityJsonWriter.Encode(shape.Navigation.Name + format.Control("nextLink"));
    private readonly EntityJsonWriter _entity = new(shape.Entity, format, model);

    public async Task<RemoteEntities> FetchAsync(PayloadContext context)
    {
        var found = new RemoteEntities();
        var most = context.Run.Values.ChildRowsOf(shape.Expand);
        await context.Run.ReadRemoteAsync(
            shape.Remote,
            (key, row) =>
            {
                var entities = found.Of(key);
                if (entities.Count == most)
                {
                    found.Cut.Add(key);
                    return;
                }
                var buffer = new ArrayBufferWriter<byte>();
                using (var json = new Utf8JsonWriter(buffer, new JsonWriterOptions { Encoder = JsonText.Encoder, SkipValidation = true }))
                {
                    json.WriteStartObject();
                    _entity.WriteOwnMembers(json, context, row);
                    json.WriteEndObject();
                }
                context.Run.Values.Allowance.Take(buffer.WrittenCount + 64);
                entities.Add(buffer.WrittenMemory);
                if (entities.Count == most)
                    found.Last[key] = [.. shape.Order.Select(row.GetStored)];
            },
            context.Cancellation
        );
        return found;
    }

    public void Write(Utf8JsonWriter json, PayloadContext context, EntityJsonWriter parentWriter, IRowCursor parentRow)
    {
        if (shape.TypeColumn is { } type && parentRow.IsNull(type))
            return;
        var found = context.Remotes[shape.Remote];
        var isRelated = shape.Own.All(o => !parentRow.IsNull(o.Column));
        var key = isRelated ? QueryRun.RemoteKey(shape.Own.Select(o => RowValue.Published(parentRow, o.Property, o.Column))) : "";
        var entities = isRelated ? found.Of(key) : [];
        json.WritePropertyName(_name);
        if (!shape.Navigation.IsCollection)
        {
            if (entities.Count == 0)
                json.WriteNullValue();
            else
                json.WriteRawValue(entities[0].Span, skipInputValidation: true);
            return;
        }
        json.WriteStartArray();
        foreach (var entity in entities)
            json.WriteRawValue(entity.Span, skipInputValidation: true);
        json.WriteEndArray();
        if (found.Cut.Contains(key))
            json.WriteString(
                _nextLink,
                context.Links.ChildNextLink(parentWriter.Id(parentRow), context.RootId(), shape.Expand, context.Run.Values, found.Last[key])
            );
    }
}

/// <summary>Related entities of one page, as JSON, by what the page's entities are related by.</summary>
internal sealed class RemoteEntities
{
    private readonly Dictionary<string, List<ReadOnlyMemory<byte>>> _entities = new(StringComparer.Ordinal);

    /// <summary>Keys with more entities than an answer holds.</summary>
    public HashSet<string> Cut { get; } = new(StringComparer.Ordinal);

    /// <summary>Positions of the last entities of full answers.</summary>
    public Dictionary<string, ImmutableArray<StoredValue>> Last { get; } = new(StringComparer.Ordinal);

    public List<ReadOnlyMemory<byte>> Of(string key) => _entities.TryGetValue(key, out var found) ? found : _entities[key] = [];
}
