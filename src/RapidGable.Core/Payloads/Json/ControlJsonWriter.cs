using System.Collections.Immutable;
using System.Text.Json;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Sources;

namespace RapidGable.Payloads.Json;

/// <summary>
/// Writes the control information of one entity (JSON format 4.6): what a client cannot compute, and at the level full all of it.
/// </summary>
internal sealed class ControlJsonWriter
{
    private readonly EntityShape _shape;
    private readonly PayloadFormat _format;
    private readonly JsonEncodedText _id;
    private readonly JsonEncodedText? _etag;
    private readonly (JsonEncodedText Name, string Value)? _type;
    private readonly JsonEncodedText _readLink;
    private readonly ImmutableArray<(JsonEncodedText Name, JsonEncodedText Association, string Segment)> _links;
    private readonly ImmutableArray<(JsonEncodedText ReadLink, JsonEncodedText ContentType, Property Property)> _streams;

    public ControlJsonWriter(EntityShape shape, PayloadFormat format, EntityModel model)
    {
        _shape = shape;
        _format = format;
        _id = Encode("id");
        _readLink = Encode("readLink");
        var hasIdentity = !shape.Key.IsEmpty;
        _etag = shape.HasVersion && format.HasContext && !shape.IsReference ? Encode("etag") : null;
        _type = format.IsFull && hasIdentity && !shape.IsReference ? (Encode("type"), "#" + model.QualifiedName(shape.Set.Type)) : null;
        _typeName = Encode("type");
        _derived =
        [
            .. (format.HasContext && !shape.IsReference ? shape.Types : []).Select(t => (t.Column, $"#{model.Namespace}.{t.Type.Name}")),
        ];
        var links =
            shape.IsReference || !format.HasContext || !hasIdentity ? []
            : format.IsFull && !shape.Select.IsPartial ? shape.Set.Type.Navigations
            : shape.Select.Navigations;
        _links =
        [
            .. links.Select(n => (Encode(n.Name, "navigationLink"), Encode(n.Name, "associationLink"), Uri.EscapeDataString(n.Name))),
        ];
        _streams =
        [
            .. (format.IsFull ? shape.Select.Properties.Where(p => p.Type.Kind == EdmKind.Stream) : []).Select(p =>
                (Encode(p.Name, "mediaReadLink"), Encode(p.Name, "mediaContentType"), p)
            ),
        ];
        _isTransient = shape.Set.IsTransient && format.HasContext && shape.Joined.IsEmpty;
        _joined = [.. (format.HasContext ? shape.Joined : []).Select(j => (Encode(j.Navigation.Name, "navigationLink"), j.Entity))];
        HasId = shape.IsReference || (hasIdentity && format.HasContext && (format.IsFull || shape.NeedsId));
    }

    private readonly JsonEncodedText _typeName;
    private readonly ImmutableArray<(int Column, string Name)> _derived;
    private readonly bool _isTransient;
    private readonly ImmutableArray<(JsonEncodedText Name, EntityShape Entity)> _joined;

    private bool HasId { get; }

    public bool IsNeeded => HasId || _isTransient || !_joined.IsEmpty || !_derived.IsEmpty || _etag is not null || !_links.IsEmpty;

    public void Write(Utf8JsonWriter json, LinkBuilder links, IRowCursor row)
    {
        if (Derived(row) is { } derived)
            json.WriteString(_typeName, derived);
        else if (_type is { } type)
            json.WriteString(type.Name, type.Value);
        foreach (var (name, entity) in _joined)
            json.WriteString(name, KeyPredicate.EntityId(entity, row));
        if (_isTransient)
            json.WriteNull(_id);
        // Relative addresses count from the context URL, which is not there at the level none.
        var needsAddress = HasId || !_links.IsEmpty;
        var address = needsAddress ? KeyPredicate.EntityId(_shape, row) : "";
        if (HasId)
            json.WriteString(_id, _format.HasContext ? address : links.Absolute(address));
        if (_etag is { } etag && CellText.ETag(_shape, row) is { } tag)
            json.WriteString(etag, tag);
        if (_type is not null)
            json.WriteString(_readLink, address);
        foreach (var (name, association, segment) in _links)
        {
            json.WriteString(name, $"{address}/{segment}");
            if (_format.IsFull)
                json.WriteString(association, $"{address}/{segment}/$ref");
        }
        foreach (var (readLink, contentType, property) in _streams)
        {
            json.WriteString(readLink, $"{address}/{Uri.EscapeDataString(property.Name)}");
            if (property is { MediaType: { } mediaType, MediaTypeColumn: null })
                json.WriteString(contentType, mediaType);
        }
    }

    /// <summary>The name of the derived type that the row is of, with a number sign; null = of the set's own.</summary>
    private string? Derived(IRowCursor row)
    {
        foreach (var (column, name) in _derived)
        {
            if (!row.IsNull(column))
                return name;
        }
        return null;
    }

    private JsonEncodedText Encode(string control) => Encode("", control);

    private JsonEncodedText Encode(string name, string control) => EntityJson.Encode(name + _format.Control(control));
}
