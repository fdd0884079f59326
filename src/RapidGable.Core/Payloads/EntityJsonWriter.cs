using System.Buffers;
using System.Collections.Immutable;
using System.Text.Json;
using RapidGable.Queries;
using RapidGable.Sources;

namespace RapidGable.Payloads;

/// <summary>Writes the entities of one shape; made once for a plan and a format.</summary>
internal sealed class EntityJsonWriter
{
    private readonly EntityShape _shape;
    private readonly ImmutableArray<(CellJsonWriter Writer, int Column)> _cells;
    private readonly ImmutableArray<(JsonEncodedText Name, int Presence, EntityJsonWriter Writer)> _singles;
    private readonly ImmutableArray<ManyJsonWriter> _many;
    private readonly ImmutableArray<RemoteJsonWriter> _remotes;
    private readonly JsonEncodedText? _id;

    public EntityJsonWriter(EntityShape shape, PayloadFormat format)
    {
        _shape = shape;
        _cells = [.. shape.Cells.Select(c => (CellJsonWriter.For(c, c.Property.Name, format), c.Column))];
        _singles = [.. shape.Singles.Select(s => (Encode(s.Navigation.Name), s.PresenceColumn, new EntityJsonWriter(s.Entity, format)))];
        _many = [.. shape.Many.Select(m => new ManyJsonWriter(m, format))];
        _remotes = [.. shape.Remotes.Select(r => new RemoteJsonWriter(r, format))];
        _id = shape.NeedsId && format.HasContext ? Encode(format.Control("id")) : null;
    }

    /// <summary>Writes the members of the current row's entity, without the braces.</summary>
    /// <param name="parent">Number of the row in its page, from 1.</param>
    public ValueTask WriteMembersAsync(Utf8JsonWriter json, PayloadContext context, IRowCursor row, long parent)
    {
        WriteOwnMembers(json, row);
        foreach (var remote in _remotes)
            remote.Write(json, context, this, row);
        return _many.IsEmpty ? default : WriteManyAsync(json, context, row, parent);
    }

    /// <summary>Fetches what the page is related to in other sources; before the first entity is written.</summary>
    public async Task FetchRemotesAsync(PayloadContext context)
    {
        foreach (var remote in _remotes)
            context.Remotes.Add(await remote.FetchAsync(context));
    }

    private async ValueTask WriteManyAsync(Utf8JsonWriter json, PayloadContext context, IRowCursor row, long parent)
    {
        foreach (var many in _many)
            await many.WriteAsync(json, context, this, row, parent);
    }

    public string Id(IRowCursor row) => ValueText.EntityId(_shape, row);

    private static JsonEncodedText Encode(string name) => JsonEncodedText.Encode(name, JsonText.Encoder);

    private void WriteOwnMembers(Utf8JsonWriter json, IRowCursor row)
    {
        if (_id is { } id)
            json.WriteString(id, Id(row));
        foreach (var (writer, column) in _cells)
            writer.Write(json, row, column);
        foreach (var (name, presence, writer) in _singles)
        {
            if (row.IsNull(presence))
            {
                json.WriteNull(name);
                continue;
            }
            json.WriteStartObject(name);
            writer.WriteOwnMembers(json, row);
            json.WriteEndObject();
        }
    }

    /// <summary>Writes one relation to another source. Its entities are written when they are fetched, and put in their places later.</summary>
    private sealed class RemoteJsonWriter(RemoteShape shape, PayloadFormat format)
    {
        private readonly JsonEncodedText _name = Encode(shape.Navigation.Name);
        private readonly JsonEncodedText _nextLink = Encode(shape.Navigation.Name + format.Control("nextLink"));
        private readonly EntityJsonWriter _entity = new(shape.Entity, format);

        public async Task<RemoteEntities> FetchAsync(PayloadContext context)
        {
            var found = new RemoteEntities();
            var most = context.Run.Values.ChildRowsOf(shape.Expand);
            await context.Run.ReadRemoteAsync(shape.Remote, (key, row) =>
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
                    _entity.WriteOwnMembers(json, row);
                    json.WriteEndObject();
                }
                entities.Add(buffer.WrittenMemory);
                if (entities.Count == most)
                    found.Last[key] = [.. shape.Order.Select(o => row.GetStored(o.Column))];
            }, context.Cancellation);
            return found;
        }

        public void Write(Utf8JsonWriter json, PayloadContext context, EntityJsonWriter parentWriter, IRowCursor parentRow)
        {
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
                json.WriteString(_nextLink, context.Links.ChildNextLink(parentWriter.Id(parentRow), shape.Expand, context.Run.Values, found.Last[key]));
        }
    }

    /// <summary>Writes one expanded collection, in step with its parents.</summary>
    private sealed class ManyJsonWriter(ManyShape shape, PayloadFormat format)
    {
        private readonly JsonEncodedText _name = Encode(shape.Navigation.Name);
        private readonly JsonEncodedText _nextLink = Encode(shape.Navigation.Name + format.Control("nextLink"));
        private readonly EntityJsonWriter _entity = new(shape.Entity, format);

        public async ValueTask WriteAsync(Utf8JsonWriter json, PayloadContext context, EntityJsonWriter parentWriter, IRowCursor parentRow, long parent)
        {
            var children = context.Run.Children[shape.Child];
            var most = context.Run.Values.ChildRowsOf(shape.Expand);
            var rows = 0;
            string? nextLink = null;
            ImmutableArray<Model.StoredValue> last = [];
            json.WriteStartArray(_name);
            for (; children.IsAt(parent); await children.AdvanceAsync(context.Cancellation))
            {
                if (rows == most)
                {
                    nextLink = context.Links.ChildNextLink(parentWriter.Id(parentRow), shape.Expand, context.Run.Values, last);
                    continue;
                }
                json.WriteStartObject();
                _entity.WriteOwnMembers(json, children.Cursor);
                json.WriteEndObject();
                rows++;
                if (rows == most)
                    last = [.. shape.Order.Select(k => children.Cursor.GetStored(k.Column))];
                await context.Output.SendIfFullAsync(json, context.Cancellation);
            }
            json.WriteEndArray();
            if (nextLink is not null)
                json.WriteString(_nextLink, nextLink);
        }
    }
}

/// <summary>What the writers of one response share.</summary>
internal sealed record PayloadContext(QueryRun Run, LinkBuilder Links, PayloadOutput Output, CancellationToken Cancellation)
{
    /// <summary>What was fetched for each relation to another source, in the plan's order.</summary>
    public List<RemoteEntities> Remotes { get; } = [];
}

/// <summary>Related entities of one page, as JSON, by what the page's entities are related by.</summary>
internal sealed class RemoteEntities
{
    private readonly Dictionary<string, List<ReadOnlyMemory<byte>>> _entities = new(StringComparer.Ordinal);

    /// <summary>Keys with more entities than an answer holds.</summary>
    public HashSet<string> Cut { get; } = new(StringComparer.Ordinal);

    /// <summary>Positions of the last entities of full answers.</summary>
    public Dictionary<string, ImmutableArray<Model.StoredValue>> Last { get; } = new(StringComparer.Ordinal);

    public List<ReadOnlyMemory<byte>> Of(string key) => _entities.TryGetValue(key, out var found) ? found : _entities[key] = [];
}
