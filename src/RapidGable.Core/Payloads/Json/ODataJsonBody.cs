using System.Collections.Immutable;
using System.Text.Json;
using System.Text.Unicode;
using RapidGable.Changes;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Payloads.Json;

/// <summary>How a body of OData JSON is read.</summary>
/// <param name="Is40">By the rules of version 4.0: related entities of an update are bound only (M-24).</param>
/// <param name="NumbersAsText">Int64 and Decimal come as strings (<c>IEEE754Compatible=true</c>).</param>
public sealed record ODataJsonForm(bool Is40, bool NumbersAsText)
{
    /// <summary>Names with an at sign have no meaning, and what is never written may only be sent as it is.</summary>
    public bool IsPlain { get; init; }

    /// <summary>For a plain body: the entity as its caller sees it before the change; null = there is none.</summary>
    public JsonElement? Current { get; init; }

    /// <summary>That of version 4.01 with numbers as numbers.</summary>
    public static ODataJsonForm V401 { get; } = new(false, false);
}

/// <summary>Bodies of OData JSON (JSON format 4 to 8 and 15, Protocol 11.4).</summary>
public sealed class ODataJsonBody : ISentBody, IDisposable
{
    private static readonly JsonDocumentOptions Options = new() { MaxDepth = 128 };

    private readonly JsonDocument _document;
    private readonly ODataJsonForm _form;

    private ODataJsonBody(JsonDocument document, ODataJsonForm form) => (_document, _form) = (document, form);

    /// <summary>The JSON as it was sent, until the body is disposed of.</summary>
    public JsonElement Json => _document.RootElement;

    public void Dispose() => _document.Dispose();

    /// <param name="body">UTF-8, with or without a byte order mark.</param>
    /// <returns>The fault says where it is no JSON.</returns>
    public static Result<ODataJsonBody> Parse(ReadOnlyMemory<byte> body, ODataJsonForm form) =>
        Document(body).Is(out var document, out var fault) ? new ODataJsonBody(document, form) : fault;

    /// <param name="body">UTF-8, with or without a byte order mark.</param>
    /// <returns>The fault says where it is no JSON.</returns>
    internal static Result<JsonDocument> Document(ReadOnlyMemory<byte> body)
    {
        if (body.Span.StartsWith(new byte[] { 0xEF, 0xBB, 0xBF }))
            body = body[3..];
        if (!Utf8.IsValid(body.Span))
            return new RequestFault(400, "body", "The body is not valid UTF-8.");
        try
        {
            var document = JsonDocument.Parse(body, Options);
            if (UnpairedSurrogates.Find(body.Span) is not { } half)
                return document;
            document.Dispose();
            return new RequestFault(
                400,
                "body",
                $"A name or text in the body is not valid Unicode: an unpaired surrogate follows byte {half}."
            );
        }
        catch (JsonException exception)
        {
            return new RequestFault(
                400,
                "body",
                body.IsEmpty ? "The request needs a JSON body."
                    : exception.Message.Contains("maximum configured depth", StringComparison.Ordinal)
                        ? $"The body nests deeper than {Options.MaxDepth} levels."
                    : $"The body is not JSON: line {exception.LineNumber + 1}, byte {exception.BytePositionInLine + 1}."
            );
        }
    }

    /// <summary>Many entities come as a delta payload (Protocol 11.4.13).</summary>
    public bool IsList => false;

    public Result<IReadOnlyList<SentEntity>> Entities(WritableModel writable, EntitySet set, IReadOnlyCollection<string> given) =>
        throw new InvalidOperationException("The body is no list.");

    public Result<SentEntity> Entity(WritableModel writable, EntitySet set, SentFor use, IReadOnlyCollection<string> given)
    {
        var reader = new ODataEntityReader(writable, _form);
        return reader.Faults.Of(() => reader.Entity(Json, set, use, given, "", 1));
    }

    public Result<SentEntity> Property(WritableModel writable, EntitySet set, Property? group, Property property, SentFor use)
    {
        if (Json.ValueKind != JsonValueKind.Object)
            return new RequestFault(400, "body", "The body is an object.");
        // A complex value stands as itself, anything else under 'value' (JSON format 11).
        var isObject = property.Type is { Kind: EdmKind.Complex, IsCollection: false };
        if (!isObject && !Json.TryGetProperty("value", out _))
            return new RequestFault(400, "body", "The body is an object with the member 'value'.", "value");
        if (!isObject && Json.EnumerateObject().Select(m => m.Name).FirstOrDefault(n => n != "value" && !n.Contains('@')) is { } other)
            return new RequestFault(400, "unknown-property", $"'{other}' is not allowed beside 'value'.", other);
        var reader = new ODataEntityReader(writable, _form);
        var name = group is null ? property.Name : $"{group.Name}/{property.Name}";
        var value = isObject ? Json : Json.GetProperty("value");
        return reader.Faults.Of(() => new SentEntity(set, reader.Property(value, set, property, name, use), []));
    }

    public Result<string> Item(Property property)
    {
        var item = Json.ValueKind == JsonValueKind.Object && Json.TryGetProperty("value", out var value) ? value : Json;
        var faults = new FaultList();
        return faults.Of(() => new JsonValueReader(_form.NumbersAsText, faults).Item(item, property.Type, property.Name)!);
    }

    public Result<IReadOnlyList<SentReference>> References()
    {
        var isList = Json.ValueKind == JsonValueKind.Object && Json.TryGetProperty("value", out var list) && IsArray(list);
        IEnumerable<JsonElement> items = isList ? Json.GetProperty("value").EnumerateArray() : [Json];
        var references = new List<SentReference>();
        foreach (var item in items)
        {
            if (Annotation(item, "id") is not { } address)
                return NoReference;
            references.Add(new SentReference(address, Annotation(item, "etag")));
        }
        return references;
    }

    private static bool IsArray(JsonElement value) => value.ValueKind == JsonValueKind.Array;

    private static RequestFault NoReference => new(400, "body", "The body is a reference to one entity: {\"@odata.id\": \"…\"}.");

    /// <summary>The text of an annotation, with or without the prefix of 4.0; null = there is none.</summary>
    private static string? Annotation(JsonElement item, string name)
    {
        if (item.ValueKind != JsonValueKind.Object)
            return null;
        var isThere = item.TryGetProperty("@odata." + name, out var text) || item.TryGetProperty("@" + name, out text);
        return isThere && text.ValueKind == JsonValueKind.String ? text.GetString() : null;
    }

    public Result<IReadOnlyList<DeltaItem>> Delta(WritableModel writable, EntitySet set)
    {
        if (Json.ValueKind != JsonValueKind.Object || !Json.TryGetProperty("value", out var items) || !IsArray(items))
            return new RequestFault(
                400,
                "body",
                "The body is a delta payload: an object with an array 'value' of entities and of deleted ones with '@removed'."
            );
        if (Annotation(Json, "context") is { } context && !context.EndsWith("$delta", StringComparison.Ordinal))
            return new RequestFault(400, "body", "The context of a delta payload ends with $delta.", "@context");
        var reader = new ODataEntityReader(writable, _form);
        var read = new List<DeltaItem>();
        var told = 0;
        foreach (var item in items.EnumerateArray())
        {
            var related = DeltaItem(reader, item, set, $"value/{read.Count}");
            if (reader.HasTooMany)
                return RequestFault.Of(reader.Faults);
            // Each item says what is wrong with it, at length as long as there is room in the answer.
            var faults = reader.Faults.Take(Math.Max(1, RequestFault.MostDetails - told)).ToImmutableArray();
            told += faults.Length;
            read.Add(new DeltaItem(read.Count, related, faults));
            reader.Faults.Clear();
        }
        return read;
    }

    private static SentRelated? DeltaItem(ODataEntityReader reader, JsonElement item, EntitySet set, string path)
    {
        try
        {
            return reader.DeltaItem(item, set, path);
        }
        catch (TooManyFaultsException)
        {
            return null;
        }
    }

    /// <summary>An item of a delta payload as it was sent; null = the body is none.</summary>
    public JsonElement? DeltaItem(int number) =>
        Json.ValueKind == JsonValueKind.Object && Json.TryGetProperty("value", out var items) && IsArray(items) ? items[number] : null;
}
