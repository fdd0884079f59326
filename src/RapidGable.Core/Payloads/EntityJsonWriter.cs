using System.Collections.Immutable;
using System.Text.Json;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Sources;

namespace RapidGable.Payloads;

/// <summary>Writes the entities of one shape; made once for a plan and a format.</summary>
internal sealed class EntityJsonWriter
{
    private readonly EntityShape _shape;
    private readonly ControlJsonWriter _control;
    private readonly ImmutableArray<(CellJsonWriter Writer, int Column)> _cells;
    private readonly ImmutableArray<SingleJsonWriter> _singles;
    private readonly ImmutableArray<ManyJsonWriter> _many;
    private readonly ImmutableArray<RemoteJsonWriter> _remotes;
    private readonly bool _hasRows;

    public EntityJsonWriter(EntityShape shape, PayloadFormat format, EntityModel model)
    {
        _shape = shape;
        _control = new ControlJsonWriter(shape, format, model);
        _cells = [.. shape.Cells.Concat(shape.Computed).Select(c => (CellJsonWriter.For(c, c.Property.Name, format), c.Column))];
        _singles =
        [
            .. shape.Singles.Select(s => new SingleJsonWriter(
                Encode(s.Navigation.Name),
                s.PresenceColumn,
                s.TypeColumn ?? -1,
                new EntityJsonWriter(s.Entity, format, model)
            )),
        ];
        _many = [.. shape.Many.Select(m => new ManyJsonWriter(m, format, model))];
        _remotes = [.. shape.Remotes.Select(r => new RemoteJsonWriter(r, format, model))];
        _hasRows = shape.HasRows;
    }

    private sealed record SingleJsonWriter(JsonEncodedText Name, int Presence, int Type, EntityJsonWriter Entity)
    {
        /// <summary>Whether the row's entity has the relation at all.</summary>
        public bool IsThere(IRowCursor row) => Type < 0 || !row.IsNull(Type);
    }

    /// <summary>Writes the members of the current row's entity, without the braces.</summary>
    /// <param name="number">Number of the row in its statement, from 1.</param>
    public ValueTask WriteMembersAsync(Utf8JsonWriter json, PayloadContext context, IRowCursor row, long number)
    {
        if (_hasRows)
            return WriteWithRowsAsync(json, context, row, number);
        WriteOwnMembers(json, context, row);
        return default;
    }

    /// <summary>Fetches what the page is related to in other sources; before the first entity is written.</summary>
    public async Task FetchRemotesAsync(PayloadContext context)
    {
        foreach (var remote in _remotes)
            context.Remotes.Add(await remote.FetchAsync(context));
    }

    public string Id(IRowCursor row) => ValueText.EntityId(_shape, row);

    internal static JsonEncodedText Encode(string name) => JsonEncodedText.Encode(name, JsonText.Encoder);

    private async ValueTask WriteWithRowsAsync(Utf8JsonWriter json, PayloadContext context, IRowCursor row, long number)
    {
        WriteValues(json, context, row);
        foreach (var single in _singles)
        {
            if (!Begins(single, json, row))
                continue;
            await single.Entity.WriteMembersAsync(json, context, row, number);
            json.WriteEndObject();
        }
        foreach (var many in _many)
            await many.WriteAsync(json, context, this, row, number);
        foreach (var remote in _remotes)
            remote.Write(json, context, this, row);
    }

    /// <summary>An entity without rows of other statements.</summary>
    internal void WriteOwnMembers(Utf8JsonWriter json, PayloadContext context, IRowCursor row)
    {
        WriteValues(json, context, row);
        foreach (var single in _singles)
        {
            if (!Begins(single, json, row))
                continue;
            single.Entity.WriteOwnMembers(json, context, row);
            json.WriteEndObject();
        }
        foreach (var many in _many)
            many.WriteCount(json, row);
        foreach (var remote in _remotes)
            remote.Write(json, context, this, row);
    }

    /// <summary>
    /// Starts the object of a single related entity; false when there is none, which is then said, or nothing to be said of.
    /// </summary>
    private static bool Begins(SingleJsonWriter single, Utf8JsonWriter json, IRowCursor row)
    {
        if (!single.IsThere(row))
            return false;
        if (row.IsNull(single.Presence))
        {
            json.WriteNull(single.Name);
            return false;
        }
        json.WriteStartObject(single.Name);
        return true;
    }

    private void WriteValues(Utf8JsonWriter json, PayloadContext context, IRowCursor row)
    {
        if (_control.IsNeeded)
            _control.Write(json, context.Links, row);
        try
        {
            foreach (var (writer, column) in _cells)
                writer.Write(json, row, column);
        }
        catch (SourceException exception) when (exception.Kind == SourceFaultKind.BadData)
        {
            throw new SourceException(
                SourceFaultKind.BadData,
                $"{exception.Message} The row is {_shape.Set.Name}{KeyText(row)}.",
                exception
            );
        }
    }

    /// <summary>The key of the current row for messages, as it is stored.</summary>
    private string KeyText(IRowCursor row) =>
        $"({string.Join(", ", _shape.Key.Select(k => $"{k.Property.Column} = {row.GetStored(k.Column)}"))})";

    /// <summary>Writes one expanded collection, in step with its parents.</summary>
    private sealed class ManyJsonWriter(ManyShape shape, PayloadFormat format, EntityModel model)
    {
        private readonly JsonEncodedText _name = Encode(shape.Navigation.Name);
        private readonly JsonEncodedText _count = Encode(shape.Navigation.Name + format.Control("count"));
        private readonly JsonEncodedText _nextLink = Encode(shape.Navigation.Name + format.Control("nextLink"));
        private readonly EntityJsonWriter _entity = new(shape.Entity, format, model);

        private bool IsThere(IRowCursor row) => shape.TypeColumn is not { } type || !row.IsNull(type);

        public void WriteCount(Utf8JsonWriter json, IRowCursor row)
        {
            if (shape.CountColumn is not { } column || !IsThere(row))
                return;
            if (format.Ieee754Compatible)
                json.WriteString(_count, row.GetInt64(column).ToString(System.Globalization.CultureInfo.InvariantCulture));
            else
                json.WriteNumber(_count, row.GetInt64(column));
        }

        public async ValueTask WriteAsync(
            Utf8JsonWriter json,
            PayloadContext context,
            EntityJsonWriter parentWriter,
            IRowCursor parentRow,
            long parent
        )
        {
            WriteCount(json, parentRow);
            if (shape.Child is not { } child || !IsThere(parentRow))
                return;
            var children = context.Run.Children[child];
            var most = context.Run.Values.ChildRowsOf(shape.Expand);
            var rows = 0;
            string? nextLink = null;
            ImmutableArray<StoredValue> last = [];
            json.WriteStartArray(_name);
            for (; await children.FindAsync(parent, context.Cancellation); await children.AdvanceAsync(context.Cancellation))
            {
                if (rows == most)
                {
                    nextLink = context.Links.ChildNextLink(
                        parentWriter.Id(parentRow),
                        context.RootId(),
                        shape.Expand,
                        context.Run.Values,
                        last
                    );
                    continue;
                }
                json.WriteStartObject();
                await _entity.WriteMembersAsync(json, context, children.Cursor, children.Number);
                json.WriteEndObject();
                rows++;
                if (rows == most)
                    last = [.. shape.Order.Select(children.Cursor.GetStored)];
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

    /// <summary>The id of the current entity of the request's own rows.</summary>
    public required Func<string> RootId { get; init; }
}
