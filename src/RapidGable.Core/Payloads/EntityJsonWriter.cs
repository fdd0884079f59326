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
    private readonly JsonEncodedText? _id;

    public EntityJsonWriter(EntityShape shape, PayloadFormat format)
    {
        _shape = shape;
        _cells = [.. shape.Cells.Select(c => (CellJsonWriter.For(c.Property, c.Property.Name, format), c.Column))];
        _singles = [.. shape.Singles.Select(s => (Encode(s.Navigation.Name), s.PresenceColumn, new EntityJsonWriter(s.Entity, format)))];
        _many = [.. shape.Many.Select(m => new ManyJsonWriter(m, format))];
        _id = shape.NeedsId && format.HasContext ? Encode(format.Control("id")) : null;
    }

    /// <summary>Writes the members of the current row's entity, without the braces.</summary>
    /// <param name="parent">Number of the row in its page, from 1.</param>
    public ValueTask WriteMembersAsync(Utf8JsonWriter json, PayloadContext context, IRowCursor row, long parent)
    {
        WriteOwnMembers(json, row);
        return _many.IsEmpty ? default : WriteManyAsync(json, context, row, parent);
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

    /// <summary>Writes one expanded collection, in step with its parents.</summary>
    private sealed class ManyJsonWriter(ManyShape shape, PayloadFormat format)
    {
        private readonly JsonEncodedText _name = Encode(shape.Navigation.Name);
        private readonly JsonEncodedText _nextLink = Encode(shape.Navigation.Name + format.Control("nextLink"));
        private readonly EntityJsonWriter _entity = new(shape.Entity, format);

        public async ValueTask WriteAsync(Utf8JsonWriter json, PayloadContext context, EntityJsonWriter parentWriter, IRowCursor parentRow, long parent)
        {
            var children = context.Run.Children[shape.Child];
            var rows = 0;
            string? nextLink = null;
            ImmutableArray<Model.StoredValue> last = [];
            json.WriteStartArray(_name);
            for (; children.IsAt(parent); await children.AdvanceAsync(context.Cancellation))
            {
                if (rows == context.Run.Values.ChildRows)
                {
                    nextLink = context.Links.ChildNextLink(parentWriter.Id(parentRow), shape, last);
                    continue;
                }
                json.WriteStartObject();
                _entity.WriteOwnMembers(json, children.Cursor);
                json.WriteEndObject();
                rows++;
                if (rows == context.Run.Values.ChildRows)
                    last = [.. shape.Entity.Key.Select(k => children.Cursor.GetStored(k.Column))];
                await context.Output.SendIfFullAsync(json, context.Cancellation);
            }
            json.WriteEndArray();
            if (nextLink is not null)
                json.WriteString(_nextLink, nextLink);
        }
    }
}

/// <summary>What the writers of one response share.</summary>
internal sealed record PayloadContext(QueryRun Run, LinkBuilder Links, PayloadOutput Output, CancellationToken Cancellation);
