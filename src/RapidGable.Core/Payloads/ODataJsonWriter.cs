using System.Text.Json;
using RapidGable.Queries;
using RapidGable.Requests;

namespace RapidGable.Payloads;

/// <summary>Writes the OData JSON payload of one prepared request (JSON format 4.01); kept with its plan.</summary>
public sealed class ODataJsonWriter
{
    private static readonly JsonWriterOptions WriterOptions = new() { Encoder = JsonText.Encoder, SkipValidation = true };

    private readonly BoundRequest _request;
    private readonly PayloadFormat _format;
    private readonly EntityJsonWriter _entity;
    private readonly CellJsonWriter? _value;
    private readonly string _fragment;
    private readonly EntityShape? _deleted;
    private readonly JsonEncodedText _context;
    private readonly JsonEncodedText _count;
    private readonly JsonEncodedText _nextLink;
    private readonly JsonEncodedText _deltaLink;

    private ODataJsonWriter(PreparedRequest prepared, PayloadFormat format)
    {
        _request = prepared.Request;
        _format = format;
        var shape = prepared.Query!.Shape;
        _entity = new EntityJsonWriter(shape.Entity, format, prepared.Model);
        _value = shape.Value is { } value ? CellJsonWriter.For(value, "value", format with { OmitsNulls = false }) : null;
        _fragment = ContextFragment.Of(_request, prepared.Model);
        if (_request is { IsDelta: true, Target.Changes.Log: { } log })
            _deleted = new EntityShape(
                _request.Target,
                BoundSelect.Nothing,
                [],
                [.. log.Key.Select((k, i) => new ShapeCell(k, i))],
                [],
                []
            );
        _context = JsonEncodedText.Encode(format.Control("context"));
        _count = JsonEncodedText.Encode(format.Control("count"));
        _nextLink = JsonEncodedText.Encode(format.Control("nextLink"));
        _deltaLink = JsonEncodedText.Encode(format.Control("deltaLink"));
    }

    /// <summary>The writer for a prepared request, made at its first use.</summary>
    public static ODataJsonWriter For(PreparedRequest prepared, PayloadFormat format) =>
        (ODataJsonWriter)prepared.Derived.GetOrAdd($"json {format}", _ => new ODataJsonWriter(prepared, format));

    /// <summary>Writes a collection, an entity or a property's value; the run must have a row, except for a collection.</summary>
    public async Task WriteAsync(QueryRun run, LinkBuilder links, PayloadOutput output, CancellationToken cancellation)
    {
        await using var json = new Utf8JsonWriter(output, WriterOptions);
        var context = new PayloadContext(run, links, output, cancellation) { RootId = () => _entity.Id(run.Rows) };
        await _entity.FetchRemotesAsync(context);
        json.WriteStartObject();
        switch (_request.Path.Kind)
        {
            case ResourceKind.Collection:
                await WriteCollectionAsync(json, context);
                break;
            case ResourceKind.Entity:
                WriteContext(json, links.Context(Fragment(run)));
                await _entity.WriteMembersAsync(json, context, run.Rows, 1);
                break;
            default:
                WriteContext(json, links.Context(ContextFragment.OfProperty(_entity.Id(run.Rows), _request.Path)));
                if (run.Query.Shape.Value!.Property.IsGroup)
                    _value!.WriteMembers(json, run.Rows);
                else
                    _value!.Write(json, run.Rows, run.Query.Shape.Value.Column);
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

    /// <summary>What a contained entity is part of stands in the context, and only its row may tell (Protocol 10.3).</summary>
    private string Fragment(QueryRun run) =>
        ContextFragment.ContainedPath(_request.Path, run.Values.Literal) is { } path ? path + _fragment : _fragment;

    private async Task WriteCollectionAsync(Utf8JsonWriter json, PayloadContext context)
    {
        var run = context.Run;
        WriteContext(json, context.Links.Context(Fragment(run)));
        if (run.Count is { } count)
        {
            if (_format.Ieee754Compatible)
                json.WriteString(_count, count.ToString());
            else
                json.WriteNumber(_count, count);
        }
        json.WriteStartArray("value"u8);
        var marks = run.Marks;
        var tracked = marks is null ? "" : QueryValues.Fingerprint(_request.Target, _request.Target.Changes!);
        var rows = 0;
        string? nextLink = null;
        for (var more = run.HasRow; more; more = await run.Rows.ReadAsync(context.Cancellation))
        {
            if (rows == run.Values.PageRows)
                break;
            json.WriteStartObject();
            if (run.Query.Shape.MatchColumn is { } matches && (run.Rows.IsNull(matches) || !run.Rows.GetBoolean(matches)))
                WriteRemoved(json, context, _entity.Id(run.Rows), "changed");
            else
                await _entity.WriteMembersAsync(json, context, run.Rows, rows + 1);
            json.WriteEndObject();
            rows++;
            if (rows == run.Values.PageRows && run.Values.FetchRows > rows)
            {
                // The position is taken before the cursor moves on; it counts only if one more row follows.
                var last = run.Values.NextOffset is { } offset
                    ? [offset]
                    : run.Query.Shape.OrderColumns.Select(run.Rows.GetStored).ToArray();
                if (await run.Rows.ReadAsync(context.Cancellation))
                    nextLink = context.Links.NextLink(run.Values, [.. last], marks, tracked);
                break;
            }
            await context.Output.SendIfFullAsync(json, context.Cancellation);
        }
        if (_request.IsDelta && nextLink is null)
        {
            await run.ReadDeletedAsync(
                row =>
                {
                    json.WriteStartObject();
                    WriteRemoved(json, context, ValueText.EntityId(_deleted!, row), "deleted");
                    json.WriteEndObject();
                },
                context.Cancellation
            );
        }
        json.WriteEndArray();
        if (nextLink is not null)
            json.WriteString(_nextLink, nextLink);
        else if (marks is not null)
            json.WriteString(_deltaLink, context.Links.DeltaLink(marks.Value, tracked));
    }

    /// <summary>An entity that is no longer part of the result (JSON format 15.3).</summary>
    private void WriteRemoved(Utf8JsonWriter json, PayloadContext context, string id, string reason)
    {
        if (_format.Version == ODataVersion.V40)
        {
            json.WriteString(_context, context.Links.Context($"{Uri.EscapeDataString(_request.Path.Target.Name)}/$deletedEntity"));
            json.WriteString("id"u8, id);
            json.WriteString("reason"u8, reason);
            return;
        }
        json.WriteStartObject("@removed"u8);
        json.WriteString("reason"u8, reason);
        json.WriteEndObject();
        json.WriteString("@id"u8, id);
    }
}
