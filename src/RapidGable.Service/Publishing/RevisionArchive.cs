using System.Collections.Immutable;
using System.Globalization;
using System.IO.Compression;
using System.Security.Cryptography;
using System.Text.Json;
using RapidGable.Publishing;
using RapidGable.Service.State;

namespace RapidGable.Service.Publishing;

/// <summary>
/// The revisions of a workspace in its state. What a revision holds is kept first and under a name of its own; then its summary takes the
/// number, which only one of several who publish at once gets.
/// </summary>
public sealed class RevisionArchive(IStateStore state)
{
    /// <summary>A mark for the newest, which changes when one is published; read without opening any.</summary>
    private const string Newest = "newest.json";

    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web);

    private sealed record Mark(int Number);

    /// <summary>Changes with each publication; null = nothing was published yet.</summary>
    public string? Version => state.VersionOf(StateRooms.Revisions, Newest);

    /// <summary>All revisions, the newest first. Those that cannot be read are left out, and told.</summary>
    /// <param name="unreadable">Is told of each summary that is damaged; null = they are faults.</param>
    public ImmutableArray<RevisionSummary> List(Action<string>? unreadable = null)
    {
        var found = ImmutableArray.CreateBuilder<RevisionSummary>();
        foreach (var number in Numbers().OrderDescending())
        {
            try
            {
                if (Find(number) is { } summary)
                    found.Add(summary);
            }
            catch (StateException exception) when (unreadable is not null)
            {
                unreadable(exception.Message);
            }
        }
        return found.ToImmutable();
    }

    private IEnumerable<int> Numbers() => state.Names(StateRooms.Revisions).Select(NumberOf).OfType<int>();

    private static int? NumberOf(string name) =>
        name.EndsWith(".json", StringComparison.Ordinal)
        && int.TryParse(name[..^".json".Length], NumberStyles.None, CultureInfo.InvariantCulture, out var number)
            ? number
            : null;

    private static string NameOf(int number) => number.ToString("000000", CultureInfo.InvariantCulture) + ".json";

    /// <summary>A name that nobody else gives to what they publish under the same number.</summary>
    private static string NewContent(int number) =>
        $"{number.ToString("000000", CultureInfo.InvariantCulture)}-{Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(8))}.json.gz";

    /// <summary>The number of the newest revision; 0 = there is none.</summary>
    public int NewestNumber => Numbers().DefaultIfEmpty(0).Max();

    /// <summary>What is told of a revision; null = there is none of that number.</summary>
    public RevisionSummary? Find(int number) => state.Read<RevisionSummary>(StateRooms.Revisions, NameOf(number));

    /// <summary>The newest revision; null = nothing was published yet.</summary>
    public RevisionSummary? FindNewest() => NewestNumber is > 0 and var number ? Find(number) : null;

    /// <summary>What a revision holds.</summary>
    /// <exception cref="StateException">When it is not there, or damaged.</exception>
    public RevisionContent Read(int number)
    {
        var summary = Find(number) ?? throw new StateException($"There is no revision {number}.");
        var kept = state.Find(StateRooms.Contents, summary.Content)
            ?? throw new StateException($"What revision {number} holds is not there: '{StateRooms.Contents}/{summary.Content}'.");
        try
        {
            using var packed = new MemoryStream(kept.Bytes.ToArray());
            using var unpacked = new GZipStream(packed, CompressionMode.Decompress);
            return
                JsonSerializer.Deserialize<RevisionContent>(unpacked, Json)
                    is { Texts: not null, Record: not null, Services: not null } read
                ? read
                : throw new JsonException("A part of it is missing.");
        }
        catch (Exception exception) when (exception is JsonException or InvalidDataException or NotSupportedException)
        {
            throw new StateException($"What revision {number} holds is damaged: {exception.Message}", exception);
        }
    }

    /// <summary>Keeps a revision under the next number.</summary>
    /// <param name="basedOn">The newest revision that its author knew of.</param>
    /// <returns>Null = another one was published since.</returns>
    public RevisionSummary? Add(RevisionSummary summary, RevisionContent content, int basedOn)
    {
        if (NewestNumber != basedOn)
            return null;
        summary = summary with { Number = basedOn + 1, Content = NewContent(basedOn + 1) };
        using var packed = new MemoryStream();
        using (var packing = new GZipStream(packed, CompressionLevel.Optimal, leaveOpen: true))
            JsonSerializer.Serialize(packing, content, Json);
        state.Write(StateRooms.Contents, summary.Content, packed.ToArray(), null);
        if (state.Write(StateRooms.Revisions, NameOf(summary.Number), StateDocuments.ToBytes(summary), null) is null)
        {
            state.Remove(StateRooms.Contents, summary.Content);
            return null;
        }
        state.Change<Mark>(StateRooms.Revisions, Newest, before => new Mark(Math.Max(summary.Number, before?.Number ?? 0)));
        return summary;
    }

    /// <summary>Removes revisions whose time is over; the newest always stays.</summary>
    public void RemoveOld(DateTime now)
    {
        var newest = NewestNumber;
        foreach (var old in List(_ => { }).Where(r => r.KeptUntil < now && r.Number != newest))
        {
            state.Remove(StateRooms.Revisions, NameOf(old.Number));
            state.Remove(StateRooms.Contents, old.Content);
        }
    }
}
