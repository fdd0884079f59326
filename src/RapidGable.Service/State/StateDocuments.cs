using System.Text.Json;
using System.Text.Json.Serialization;

namespace RapidGable.Service.State;

/// <summary>Documents that are JSON.</summary>
public static class StateDocuments
{
    private const int MostAttempts = 200;

    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web)
    {
        WriteIndented = true,
        DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull,
        RespectNullableAnnotations = true,
        Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    };

    public static byte[] ToBytes<T>(T value) => JsonSerializer.SerializeToUtf8Bytes(value, Json);

    /// <exception cref="StateException">When the bytes are not such a document.</exception>
    public static T Parse<T>(StateDocument document, string room, string name)
        where T : class
    {
        try
        {
            return JsonSerializer.Deserialize<T>(document.Bytes.Span, Json) ?? throw new JsonException("It is null.");
        }
        catch (Exception exception) when (exception is JsonException or ArgumentException or NotSupportedException)
        {
            throw new StateException($"'{name}' of the room '{room}' cannot be read: {exception.Message}", exception);
        }
    }

    /// <summary>A document as what it says; null = there is none.</summary>
    public static T? Read<T>(this IStateStore store, string room, string name)
        where T : class => store.Find(room, name) is { } document ? Parse<T>(document, room, name) : null;

    /// <summary>
    /// Changes a document, which may not exist yet, from what it says at that time; done again when somebody else was faster.
    /// </summary>
    /// <param name="change">Gives null to leave all as it is.</param>
    /// <returns>What the document says then; null = it was left as it is.</returns>
    public static T? Change<T>(this IStateStore store, string room, string name, Func<T?, T?> change)
        where T : class => store.Change(room, name, kept => Parse<T>(kept, room, name), ToBytes, change);

    /// <summary>The same for a document that has a form of its own.</summary>
    public static T? Change<T>(
        this IStateStore store,
        string room,
        string name,
        Func<StateDocument, T> parse,
        Func<T, byte[]> write,
        Func<T?, T?> change
    )
        where T : class
    {
        for (var attempt = 0; attempt < MostAttempts; attempt++)
        {
            var before = store.Find(room, name);
            if (change(before is null ? null : parse(before)) is not { } changed)
                return null;
            if (store.Write(room, name, write(changed), before?.Version) is not null)
                return changed;
        }
        throw new StateException($"'{name}' of the room '{room}' is being changed by others, again and again.");
    }
}
