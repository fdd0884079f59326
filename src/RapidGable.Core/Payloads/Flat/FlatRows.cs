using System.Buffers;
using System.Collections.Immutable;
using System.Text.Json;
using RapidGable.Payloads.Json;
using RapidGable.Queries;
using RapidGable.Sources;

namespace RapidGable.Payloads.Flat;

/// <summary>Calls a format for each column of each row, from the first to the last.</summary>
internal abstract class FlatRows : IRowVisitor
{
    private readonly FlatColumns _columns;
    private readonly ArrayBufferWriter<byte> _nested = new();
    private readonly Utf8JsonWriter _json;
    private readonly PlainJsonRows _inner;
    private int _next;
    private int _depth;

    protected FlatRows(ImmutableArray<EntityNode> tree, FlatColumns columns, ILinks links, QueryRun run, PayloadOutput output)
    {
        _columns = columns;
        Output = output;
        _json = new Utf8JsonWriter(_nested, JsonRows.WriterOptions);
        _inner = new PlainJsonRows(PlainEntity.Of(tree, omitsNulls: false), PlainJsonLayout.Array, links, run, _json, output);
    }

    /// <summary>Where is written.</summary>
    protected PayloadOutput Output { get; }

    /// <summary>The value of a property; it is there and not null.</summary>
    protected abstract void Value(int column, ShapeCell cell, IRowCursor row);

    /// <summary>Related rows as JSON, or their number.</summary>
    protected abstract void Json(int column, ReadOnlySpan<byte> json);

    /// <summary>There is no value.</summary>
    protected abstract void Nothing(int column);

    /// <summary>The row ends.</summary>
    protected abstract void EndRow();

    public abstract ValueTask SendIfFullAsync(CancellationToken cancellation);

    /// <summary>Ends the row of an answer that is a single entity.</summary>
    public void End()
    {
        Reach(_columns.All.Length);
        EndRow();
        _next = 0;
    }

    public void BeginEntity(EntityNode node)
    {
        if (_depth > 0)
            _inner.BeginEntity(node);
    }

    public void Values(EntityNode node, IRowCursor row)
    {
        if (_depth > 0)
        {
            _inner.Values(node, row);
            return;
        }
        Reach(_columns.FirstOf(node));
        foreach (var cell in node.Shape.Cells)
            Write(cell, row);
        foreach (var cell in node.Shape.Computed)
            Write(cell, row);
    }

    public void EndEntity(EntityNode node)
    {
        if (_depth > 0)
            _inner.EndEntity(node);
        else
            End();
    }

    public void BeginSingle(EntityNode related)
    {
        if (_depth > 0)
            _inner.BeginSingle(related);
    }

    public void EndSingle(EntityNode related)
    {
        if (_depth > 0)
            _inner.EndSingle(related);
    }

    public void NoSingle(EntityNode related)
    {
        if (_depth > 0)
            _inner.NoSingle(related);
    }

    public void Count(EntityNode related, long count)
    {
        // A number beside the list of the same relation has no column of its own.
        if (_depth > 0 || related.Shape.Cells.Length > 0)
            return;
        Reach(_columns.FirstOf(related));
        Span<byte> text = stackalloc byte[20];
        count.TryFormat(text, out var length, provider: System.Globalization.CultureInfo.InvariantCulture);
        Json(_next++, text[..length]);
    }

    public void BeginMany(EntityNode related)
    {
        if (_depth++ > 0)
        {
            _inner.BeginMany(related);
            return;
        }
        Reach(_columns.FirstOf(related));
        _nested.ResetWrittenCount();
        _json.Reset();
        _json.WriteStartArray();
    }

    public void EndMany(EntityNode related, RelatedPage? next)
    {
        if (--_depth > 0)
        {
            _inner.EndMany(related, next);
            return;
        }
        if (next is not null)
            throw new RelatedCutException(related.Name);
        _json.WriteEndArray();
        _json.Flush();
        Json(_next++, _nested.WrittenSpan);
    }

    public ReadOnlyMemory<byte> Apart(EntityNode related, Action members)
    {
        _depth++;
        var written = _inner.Apart(related, members);
        _depth--;
        return written;
    }

    public void Insert(EntityNode related, ReadOnlyMemory<byte> entity) => _inner.Insert(related, entity);

    public void InsertSingle(EntityNode related, ReadOnlyMemory<byte> entity)
    {
        if (_depth > 0)
        {
            _inner.InsertSingle(related, entity);
            return;
        }
        Reach(_columns.FirstOf(related));
        Json(_next++, entity.Span);
    }

    public void Removed(EntityShape shape, IRowCursor row, bool isDeleted) =>
        throw new InvalidOperationException("Flat formats do not follow changes.");

    /// <summary>What was passed over on the way to a column has no value.</summary>
    private void Reach(int column)
    {
        while (_next < column)
            Nothing(_next++);
    }

    private void Write(ShapeCell cell, IRowCursor row)
    {
        if (cell.Property.IsGroup)
        {
            foreach (var member in cell.Members)
                Write(member, row);
            return;
        }
        var isThere = cell.Presence is not { } presence || (!row.IsNull(presence) && row.GetInt64(presence) != 0);
        if (isThere && cell.Property.Type.IsCollection && row.IsNull(cell.Column))
            Json(_next++, "[]"u8);
        else if (!isThere || row.IsNull(cell.Column))
            Nothing(_next++);
        else
            Value(_next++, cell, row);
    }
}
