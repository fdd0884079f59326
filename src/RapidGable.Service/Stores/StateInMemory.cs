using System.Collections.Concurrent;
using System.Collections.Immutable;
using System.Globalization;
using System.Text;
using RapidGable.Service.State;

namespace RapidGable.Service.Stores;

/// <summary>A store that ends with the process, for services that are started to be tried.</summary>
public sealed class StateInMemory : IStateStore
{
    private readonly ConcurrentDictionary<(string Room, string Name), StateDocument> _documents = new();
    private readonly ConcurrentDictionary<(string Journal, string Part), ImmutableArray<string>> _journals = new();
    private long _last;

    public StateDocument? Find(string room, string name) => _documents.GetValueOrDefault((room, name));

    public string? VersionOf(string room, string name) => Find(room, name)?.Version;

    public ImmutableArray<string> Names(string room) =>
        [.. _documents.Keys.Where(k => k.Room == room).Select(k => k.Name).Order(StringComparer.Ordinal)];

    public long BytesOf(string room) => _documents.Where(d => d.Key.Room == room).Sum(d => (long)d.Value.Bytes.Length);

    public string? Write(string room, string name, ReadOnlyMemory<byte> bytes, string? version)
    {
        var written = new StateDocument(bytes.ToArray(), Interlocked.Increment(ref _last).ToString(CultureInfo.InvariantCulture));
        var isFirst = version is null
            ? _documents.TryAdd((room, name), written)
            : Find(room, name) is { } before && before.Version == version && _documents.TryUpdate((room, name), written, before);
        return isFirst ? written.Version : null;
    }

    public void Remove(string room, string name) => _documents.TryRemove((room, name), out _);

    public void Append(string journal, string part, ReadOnlyMemory<byte> lines)
    {
        var added = Encoding.UTF8.GetString(lines.Span).Split('\n', StringSplitOptions.RemoveEmptyEntries);
        _journals.AddOrUpdate((journal, part), [.. added], (_, before) => before.AddRange(added));
    }

    public ImmutableArray<string> Parts(string journal) =>
        [.. _journals.Keys.Where(k => k.Journal == journal).Select(k => k.Part).Order(StringComparer.Ordinal)];

    public IEnumerable<string> LinesFromEnd(string journal, string part) =>
        _journals.TryGetValue((journal, part), out var lines) ? lines.Reverse() : [];

    public void RemovePart(string journal, string part) => _journals.TryRemove((journal, part), out _);
}
