using RapidGable.Access;

namespace RapidGable.Service.Identity;

/// <summary>Keys that exist only while the service runs, for who started it and tries what callers may do.</summary>
internal sealed class LentKeys(IReadOnlyDictionary<string, Caller>? keys)
{
    public bool Any => keys is { Count: > 0 };

    public Caller? Find(string text) => keys?.GetValueOrDefault(text);
}
