using System.Collections.Immutable;
using System.Globalization;
using System.Text;
using System.Text.Json;
using System.Xml;
using System.Xml.Schema;
using RapidGable.Model;
using RapidGable.Payloads.Flat;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Payloads.Xml;

/// <summary>
/// Writes rows as XML: an element for each row, in it one for each value. A value that is null has no element. <see cref="RowsXsd"/>
/// describes it.
/// </summary>
public sealed class RowsXmlWriter : IListWriter
{
    /// <summary>The media type.</summary>
    public const string MediaType = "application/xml";

    private readonly PreparedRequest _prepared;
    private readonly ImmutableArray<EntityNode> _tree;

    private RowsXmlWriter(PreparedRequest prepared)
    {
        _prepared = prepared;
        _tree = EntityNode.TreeOf(prepared.Query!.Shape.Entity);
    }

    /// <summary>The writer for a prepared request, made at its first use.</summary>
    public static RowsXmlWriter For(PreparedRequest prepared) =>
        (RowsXmlWriter)prepared.Derived.GetOrAdd("xml", _ => new RowsXmlWriter(prepared));

    /// <summary>The name of an element.</summary>
    internal static string Name(string name) => XmlConvert.EncodeLocalName(name)!;

    /// <summary>The name of the element around a list of a set's rows: the set's, unless a type has it.</summary>
    internal static string ListName(EntitySet set, EntityModel model) =>
        Name(model.Sets.Any(s => s.Type.Name == set.Name) ? set.Name + "List" : set.Name);

    /// <inheritdoc/>
    public async Task<Continuation?> WriteAsync(QueryRun run, ILinks links, PayloadOutput output, CancellationToken cancellation)
    {
        var path = _prepared.Request.Path;
        await using var stream = new OutputStream(output);
        var rows = new Rows(XmlWriter.Create(stream, Settings), output);
        var walk = new RowWalk(_tree[0], _prepared.Request, run, rows, cancellation);
        await walk.FetchRemotesAsync();
        Continuation? next = null;
        if (path.Kind == ResourceKind.Entity)
            await rows.AloneAsync(_tree[0], walk);
        else
            next = await rows.ListAsync(ListName(path.Target, _prepared.Model), run.Count, walk);
        await output.SendAsync(cancellation);
        return next;
    }

    private static readonly XmlWriterSettings Settings = new() { Encoding = new UTF8Encoding(false) };

    private sealed class Rows(XmlWriter xml, PayloadOutput output) : IRowVisitor
    {
        private XmlWriter? _apart;

        private XmlWriter Xml => _apart ?? xml;

        public async Task<Continuation?> ListAsync(string name, long? total, RowWalk walk)
        {
            xml.WriteStartElement(name);
            if (total is { } count)
                xml.WriteAttributeString("total", count.ToString(CultureInfo.InvariantCulture));
            var next = await walk.CollectionAsync();
            xml.WriteEndElement();
            xml.Flush();
            return next;
        }

        public async Task AloneAsync(EntityNode node, RowWalk walk)
        {
            BeginEntity(node);
            await walk.EntityAsync();
            EndEntity(node);
            xml.Flush();
        }

        public void BeginEntity(EntityNode node) => Xml.WriteStartElement(Name(node.Shape.Set.Type.Name));

        public void Values(EntityNode node, IRowCursor row)
        {
            foreach (var cell in node.Shape.Cells)
                Write(cell, row);
            foreach (var cell in node.Shape.Computed)
                Write(cell, row);
        }

        public void EndEntity(EntityNode node) => Xml.WriteEndElement();

        public void BeginSingle(EntityNode related) => Xml.WriteStartElement(Name(related.Name));

        public void EndSingle(EntityNode related) => Xml.WriteEndElement();

        public void NoSingle(EntityNode related) { }

        public void Count(EntityNode related, long count) { }

        public void BeginMany(EntityNode related) => Xml.WriteStartElement(Name(related.Name));

        public void EndMany(EntityNode related, RelatedPage? next)
        {
            if (next is not null)
                throw new RelatedCutException(related.Name);
            Xml.WriteEndElement();
        }

        public ReadOnlyMemory<byte> Apart(EntityNode related, Action members)
        {
            using var buffer = new MemoryStream();
            using (
                _apart = XmlWriter.Create(buffer, new XmlWriterSettings { Encoding = new UTF8Encoding(false), OmitXmlDeclaration = true })
            )
            {
                _apart.WriteStartElement(Name(related.Shape.Set.Type.Name));
                members();
                _apart.WriteEndElement();
            }
            _apart = null;
            return buffer.ToArray();
        }

        public void Insert(EntityNode related, ReadOnlyMemory<byte> entity) => Xml.WriteRaw(Encoding.UTF8.GetString(entity.Span));

        public void InsertSingle(EntityNode related, ReadOnlyMemory<byte> entity)
        {
            Xml.WriteStartElement(Name(related.Name));
            // What was written apart is an element of the type's name; here only its content stands.
            var text = Encoding.UTF8.GetString(entity.Span);
            var (start, end) = (text.IndexOf('>') + 1, text.LastIndexOf('<'));
            if (end >= start)
                Xml.WriteRaw(text[start..end]);
            Xml.WriteEndElement();
        }

        public void Removed(EntityShape shape, IRowCursor row, bool isDeleted) =>
            throw new InvalidOperationException("This format does not follow changes.");

        public ValueTask SendIfFullAsync(CancellationToken cancellation)
        {
            xml.Flush();
            return output.SendIfFullAsync(cancellation);
        }

        private void Write(ShapeCell cell, IRowCursor row)
        {
            var property = cell.Property;
            if (property.IsGroup)
            {
                Xml.WriteStartElement(Name(property.Name));
                foreach (var member in cell.Members)
                    Write(member, row);
                Xml.WriteEndElement();
                return;
            }
            var isThere = cell.Presence is not { } presence || (!row.IsNull(presence) && row.GetInt64(presence) != 0);
            if (!isThere || row.IsNull(cell.Column))
                return;
            if (FlatValue.IsJson(property))
            {
                using var json = JsonDocument.Parse(FlatValue.Json(cell, row));
                Write(Name(property.Name), json.RootElement, property);
            }
            else if (!FlatValue.IsOdd(cell, row))
                Text(Name(property.Name), FlatValue.Text(cell, row), property);
        }

        private void Text(string name, string text, Property property)
        {
            try
            {
                XmlConvert.VerifyXmlChars(text);
            }
            catch (XmlException)
            {
                throw new SourceException(
                    SourceFaultKind.BadData,
                    $"A text of column '{property.Column}' holds a character that XML has no form for."
                );
            }
            Xml.WriteElementString(name, text);
        }

        /// <summary>An item of a list; one that is null keeps its place.</summary>
        private void Item(JsonElement item, Property property)
        {
            if (item.ValueKind != JsonValueKind.Null)
            {
                Write("item", item, property);
                return;
            }
            Xml.WriteStartElement("item");
            Xml.WriteAttributeString("xsi", "nil", XmlSchema.InstanceNamespace, "true");
            Xml.WriteEndElement();
        }

        /// <summary>A value that is kept as JSON: members and items become elements.</summary>
        private void Write(string name, JsonElement value, Property property)
        {
            switch (value.ValueKind)
            {
                case JsonValueKind.Null:
                    return;
                case JsonValueKind.Object:
                    Xml.WriteStartElement(name);
                    foreach (var member in value.EnumerateObject())
                        Write(Name(member.Name), member.Value, property);
                    Xml.WriteEndElement();
                    return;
                case JsonValueKind.Array:
                    Xml.WriteStartElement(name);
                    foreach (var item in value.EnumerateArray())
                        Item(item, property);
                    Xml.WriteEndElement();
                    return;
                default:
                    Text(name, value.ToString(), property);
                    return;
            }
        }
    }
}
