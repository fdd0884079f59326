using System.Globalization;
using Microsoft.AspNetCore.Http;

namespace RapidGable.Service.Faces;

/// <summary>
/// The preferences of a request (RFC 7240, Protocol 8.2.8). Names are known in any case, with and without the prefix of 4.0; of one given
/// twice the first counts; what is not known is ignored.
/// </summary>
internal sealed class Preferences
{
    private readonly Dictionary<string, (string Echo, string Value)> _items = new(StringComparer.OrdinalIgnoreCase);
    private readonly List<string> _applied = [];

    public Preferences(IHeaderDictionary headers)
    {
        foreach (var item in headers["Prefer"].SelectMany(v => Split(v ?? "")))
        {
            var parts = item.Split(';')[0].Split('=', 2, StringSplitOptions.TrimEntries);
            var name = parts[0].StartsWith("odata.", StringComparison.OrdinalIgnoreCase) ? parts[0][6..] : parts[0];
            if (name.Length > 0)
                _items.TryAdd(name, (parts[0], parts.Length > 1 ? parts[1].Trim('"', ' ') : ""));
        }
    }

    /// <summary>What stands in <c>Preference-Applied</c>; null = nothing was applied.</summary>
    public string? Applied => _applied.Count == 0 ? null : string.Join(", ", _applied);

    /// <summary>Rows of a page; null = not asked, or not a number above 0.</summary>
    public int? MaxPageSize => Number("maxpagesize") is > 0 and var rows ? rows : null;

    public bool OmitNulls => Is("omit-values", "nulls");

    public bool RespondAsync => _items.ContainsKey("respond-async");

    /// <summary>Seconds to wait for an answer before it becomes an asynchronous one; null = not said.</summary>
    public int? Wait => Number("wait");

    public bool ContinueOnError =>
        _items.TryGetValue("continue-on-error", out var item) && !item.Value.Equals("false", StringComparison.OrdinalIgnoreCase);

    /// <summary><c>minimal</c> or <c>representation</c>; null = not said.</summary>
    public string? Return =>
        _items.TryGetValue("return", out var item) && item.Value.ToLowerInvariant() is var value && value is "minimal" or "representation"
            ? value
            : null;

    /// <summary>The state before a change is asked for beside that after it.</summary>
    public bool AsksForBefore => _items.ContainsKey("before");

    public bool TrackChanges => _items.ContainsKey("track-changes");

    private bool Is(string name, string value) =>
        _items.TryGetValue(name, out var item) && item.Value.Equals(value, StringComparison.OrdinalIgnoreCase);

    private int? Number(string name) =>
        _items.TryGetValue(name, out var item) && int.TryParse(item.Value, NumberStyles.None, CultureInfo.InvariantCulture, out var number)
            ? number
            : null;

    /// <summary>
    /// States a preference as applied: its name, with the prefix where the request has it, and its value where that is one that is known.
    /// </summary>
    public void Apply(string name)
    {
        var (echo, value) = _items[name];
        var known = name switch
        {
            "maxpagesize" => MaxPageSize?.ToString(CultureInfo.InvariantCulture),
            "return" => Return,
            "omit-values" => OmitNulls ? "nulls" : null,
            _ when value.Equals("true", StringComparison.OrdinalIgnoreCase) => "true",
            _ => null,
        };
        _applied.Add(
            (echo.StartsWith("odata.", StringComparison.OrdinalIgnoreCase) ? "odata." + name : name) + (known is null ? "" : "=" + known)
        );
    }

    private static IEnumerable<string> Split(string header)
    {
        var (start, quoted) = (0, false);
        for (var i = 0; i < header.Length; i++)
        {
            if (header[i] == '"')
                quoted = !quoted;
            else if (header[i] == ',' && !quoted)
            {
                yield return header[start..i].Trim();
                start = i + 1;
            }
        }
        yield return header[start..].Trim();
    }
}
