using System.Text.Json;
using RapidGable.Changes;
using RapidGable.Expressions;
using RapidGable.Payloads;

namespace RapidGable.Service.Faces.OData;

/// <summary>
/// The answer to a change of many entities: each that has changed as it is now, and those that could not be with why (Protocol 11.4.13,
/// 11.4.14).
/// </summary>
internal static class ChangedMembers
{
    private const string Exception = "@Org.OData.Core.V1.DataModificationException";

    /// <param name="context">Gives the context URL of a fragment.</param>
    /// <param name="members">In the order of the request, each that is there with its representation.</param>
    /// <param name="sent">Gives an item as it was sent, by its number.</param>
    public static byte[] Write(
        PayloadFormat format,
        Func<string, string> context,
        string set,
        bool isDelta,
        IEnumerable<(ChangedMember Member, byte[]? Now)> members,
        Func<int, JsonElement?> sent
    )
    {
        using var stream = new MemoryStream();
        using (var json = new Utf8JsonWriter(stream, new JsonWriterOptions { Encoder = JsonText.Encoder }))
        {
            json.WriteStartObject();
            if (format.HasContext)
                json.WriteString(format.Control("context"), context(isDelta ? set + "/$delta" : set));
            json.WriteStartArray("value");
            foreach (var (member, now) in members)
            {
                json.WriteStartObject();
                if (member.Fault is null && now is not null)
                    Copy(json, now);
                else
                    Told(json, format, context, set, member, member.Number is { } number ? sent(number) : null);
                json.WriteEndObject();
            }
            json.WriteEndArray();
            json.WriteEndObject();
        }
        return stream.ToArray();
    }

    /// <summary>
    /// An entity that is gone, or one that is as it was; a new one that could not be made is neither, and goes back as it came.
    /// </summary>
    private static void Told(
        Utf8JsonWriter json,
        PayloadFormat format,
        Func<string, string> context,
        string set,
        ChangedMember member,
        JsonElement? item
    )
    {
        var is40 = format.Version == ODataVersion.V40;
        var isGone = member.Change == MemberChange.Insert || (member.Change == MemberChange.Delete && member.Fault is null);
        if (isGone && is40)
        {
            json.WriteString("@odata.context", context(set + "/$deletedEntity"));
            json.WriteString("reason", "deleted");
        }
        else if (isGone)
        {
            json.WriteStartObject("@removed");
            json.WriteString("reason", "deleted");
            json.WriteEndObject();
        }
        if (member.Address is { } address)
            json.WriteString(isGone && is40 ? "id" : format.Control("id"), address);
        if (member.Fault is { } fault)
            Why(json, member.Change, fault);
        if (item is not { ValueKind: JsonValueKind.Object } sent || (member.Address is not null && member.Change != MemberChange.Insert))
            return;
        foreach (
            var value in sent.EnumerateObject()
                .Where(m => !m.Name.StartsWith('@') || m.Name is "@id" or "@odata.id")
                .DistinctBy(m => m.Name)
        )
            value.WriteTo(json);
    }

    private static void Why(Utf8JsonWriter json, MemberChange change, RequestFault fault)
    {
        json.WriteStartObject(Exception);
        json.WriteString("failedOperation", change.ToString().ToLowerInvariant());
        json.WriteNumber("responseCode", fault.Status);
        json.WriteStartObject("info");
        Message(json, fault);
        json.WriteStartArray("details");
        foreach (var detail in fault.Details)
        {
            json.WriteStartObject();
            Message(json, detail);
            json.WriteEndObject();
        }
        json.WriteEndArray();
        json.WriteEndObject();
        json.WriteEndObject();
    }

    private static void Message(Utf8JsonWriter json, RequestFault fault)
    {
        json.WriteString("code", fault.Code);
        json.WriteString("message", fault.Message);
        json.WriteString("severity", "error");
        if (fault.Target is { } target)
            json.WriteString("target", target);
    }

    /// <summary>The members of an entity's representation, without its context, which is that of the whole.</summary>
    private static void Copy(Utf8JsonWriter json, byte[] entity)
    {
        using var document = JsonDocument.Parse(entity);
        foreach (var member in document.RootElement.EnumerateObject().Where(m => m.Name is not ("@context" or "@odata.context")))
            member.WriteTo(json);
    }
}
