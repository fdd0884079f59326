using System.Collections.Immutable;
using System.Text.Json;
using RapidGable.Changes;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Payloads.Json;

namespace RapidGable.Payloads.Plain;

/// <summary>
/// Bodies of the plain REST face: JSON, JSON Lines and CSV with nothing but names and values, and patches of JSON. Whatever form they
/// come in, they are read as JSON objects.
/// </summary>
public sealed class PlainBody : ISentBody, IDisposable
{
    private readonly List<JsonDocument> _documents = [];
    private readonly JsonElement _root;
    private readonly CsvTable? _table;
    private readonly bool _isPatch;

    private PlainBody(JsonDocument document, bool isPatch)
    {
        _documents.Add(document);
        (_root, _isPatch) = (document.RootElement, isPatch);
    }

    private PlainBody(CsvTable table) => _table = table;

    /// <summary>The media types of bodies that hold one entity or several to be created.</summary>
    public static ImmutableArray<string> Lists { get; } = ["application/json", JsonLinesWriter.MediaType, "text/csv"];

    /// <summary>The media type of a merge patch (RFC 7396); a body of plain JSON is one, too.</summary>
    public const string MergePatch = "application/merge-patch+json";

    /// <summary>The media type of a patch by operations (RFC 6902).</summary>
    public const string JsonPatchType = "application/json-patch+json";

    /// <summary>
    /// The entity as its caller sees it before the change, as JSON; null = it is not known. What is never written may be sent as it is
    /// there, and a patch by operations is about it.
    /// </summary>
    public JsonElement? Current { get; set; }

    /// <summary>The names of the entity's members; empty where it is no object.</summary>
    public IEnumerable<string> Names =>
        _table is null && _root.ValueKind == JsonValueKind.Object ? _root.EnumerateObject().Select(m => m.Name) : [];

    public bool IsList => _table is not null || (!_isPatch && _root.ValueKind == JsonValueKind.Array);

    /// <summary>One JSON value.</summary>
    /// <returns>The fault says where it is no JSON.</returns>
    public static Result<PlainBody> Json(byte[] body) =>
        ODataJsonBody.Document(body).Is(out var document, out var fault) ? new PlainBody(document, isPatch: false) : fault;

    /// <summary>A patch by operations.</summary>
    public static Result<PlainBody> Patch(byte[] body) =>
        ODataJsonBody.Document(body).Is(out var document, out var fault) ? new PlainBody(document, isPatch: true) : fault;

    /// <summary>A JSON object on each line; empty lines are passed over.</summary>
    public static Result<PlainBody> JsonLines(byte[] body)
    {
        var whole = new MemoryStream(body.Length + 16);
        whole.WriteByte((byte)'[');
        var (start, number, isFirst) = (0, 0, true);
        while (start < body.Length)
        {
            number++;
            var length = Array.IndexOf(body, (byte)'\n', start) is >= 0 and var end ? end - start : body.Length - start;
            var line = body.AsMemory(start, length);
            start += length + 1;
            if (line.Span.Trim(" \t\r"u8).IsEmpty)
                continue;
            // Each line must be whole by itself, or two wrong ones could make a right list.
            if (!ODataJsonBody.Document(line).Is(out var document, out var fault))
                return new RequestFault(400, "body", $"Line {number} is not JSON: {fault.Message}");
            document.Dispose();
            if (!isFirst)
                whole.WriteByte((byte)',');
            isFirst = false;
            whole.Write(line.Span);
        }
        whole.WriteByte((byte)']');
        return Json(whole.ToArray());
    }

    /// <summary>Rows of CSV (RFC 4180) under a line of names.</summary>
    public static Result<PlainBody> Csv(byte[] body) => CsvTable.Read(body).Is(out var table, out var fault) ? new PlainBody(table) : fault;

    public void Dispose() => _documents.ForEach(d => d.Dispose());

    public Result<SentEntity> Entity(WritableModel writable, EntitySet set, SentFor use, IReadOnlyCollection<string> given)
    {
        if (IsList)
            return new RequestFault(400, "body", "This takes one entity, and the body is a list.");
        var entity = _root;
        if (_isPatch)
        {
            if (!Patched(set, writable.Model.Limits.BodyBytes).Is(out var document, out var wrong))
                return wrong;
            _documents.Add(document);
            entity = document.RootElement;
        }
        else if (entity.ValueKind != JsonValueKind.Object)
            return new RequestFault(400, "body", $"An entity is a JSON object, and the body is {JsonValueReader.Shown(entity)}.");
        var reader = Reader(writable);
        return reader.Faults.Of(() => reader.Entity(entity, set, use, given, "", 1));
    }

    public Result<IReadOnlyList<SentEntity>> Entities(WritableModel writable, EntitySet set, IReadOnlyCollection<string> given)
    {
        var list = _root;
        if (_table is not null)
        {
            var whole = writable.Access(set, Model.SetOperations.Create)?.Set ?? set;
            if (!_table.ToJson(whole).Is(out var document, out var wrong))
                return wrong;
            _documents.Add(document);
            list = document.RootElement;
        }
        var reader = Reader(writable);
        return reader.Faults.Of<IReadOnlyList<SentEntity>>(() =>
        {
            var sent = new List<SentEntity>();
            foreach (var item in list.EnumerateArray())
            {
                sent.Add(reader.Entity(item, set, SentFor.Create, given, $"{sent.Count}/", 1));
                if (reader.HasTooMany)
                    break;
            }
            return sent;
        });
    }

    /// <summary>What a patch by operations changes of the entity, as a merge patch.</summary>
    /// <param name="most">Bytes that the patch may add.</param>
    private Result<JsonDocument> Patched(EntitySet set, int most) =>
        Current is { } current
            ? JsonPatch.Changes(_root, current, most)
            : new RequestFault(
                409,
                "patch",
                $"The entity of {set.Name} cannot be read by you, and a patch by operations is about what is there. Send a merge patch."
            );

    private ODataEntityReader Reader(WritableModel writable) =>
        new(writable, ODataJsonForm.V401 with { IsPlain = true, Current = Current });

    public Result<SentEntity> Property(WritableModel writable, EntitySet set, Property? group, Property property, SentFor use) =>
        RequestFault.NotFound("A single value has no address of its own; change it by its entity.", "path");

    public Result<string> Item(Property property) =>
        RequestFault.NotFound("A single value has no address of its own; change it by its entity.", "path");

    public Result<IReadOnlyList<SentReference>> References() =>
        RequestFault.NotFound("References have no address of their own; change the property that refers.", "path");

    public Result<IReadOnlyList<DeltaItem>> Delta(WritableModel writable, EntitySet set) =>
        new RequestFault(405, "method", "A collection is not patched; patch its entities one by one.");
}
