using System.Globalization;
using RapidGable.Model;

namespace RapidGable.Sources;

/// <summary>Takes the known settings of a source file, one after the other, and then reports whatever is left.</summary>
internal sealed class SettingsReader(string engine, IReadOnlyDictionary<string, SettingText> settings, ICollection<SettingFault> faults)
{
    private readonly HashSet<string> _known = new(StringComparer.Ordinal);
    private readonly int _before = faults.Count;

    /// <summary>Whether a fault was found by this reader.</summary>
    public bool HasFaults => faults.Count > _before;

    private readonly Dictionary<string, string> _added = [];

    /// <summary>Adds settings that hold where the file says nothing.</summary>
    public void Add(IReadOnlyDictionary<string, string> more)
    {
        foreach (var (name, text) in more)
            _added[name] = text;
    }

    public string? Text(string name)
    {
        _known.Add(name);
        return settings.TryGetValue(name, out var text) && text.Reveal().Length > 0 ? text.Reveal() : _added.GetValueOrDefault(name);
    }

    /// <summary>Whether a setting came from a variable.</summary>
    public bool IsSecret(string name) => settings.TryGetValue(name, out var text) && text.IsSecret;

    /// <summary>A setting as messages may show it.</summary>
    public string Shown(string name) =>
        settings.TryGetValue(name, out var text) ? text.ToString()
        : IsSecret("connection") ? $"(in {Shown("connection")})"
        : _added.GetValueOrDefault(name, "");

    public string Required(string name, string meaning, string example)
    {
        if (Text(name) is { } text)
            return text;
        faults.Add(new SettingFault(name, $"'{name}' is missing: {meaning}.", $"Write '{name}: {example}'."));
        return "";
    }

    /// <summary>The settings below a name, written as <c>name.inner</c>.</summary>
    public IReadOnlyDictionary<string, string> Inner(string name)
    {
        var found = settings
            .Where(s => s.Key.StartsWith(name + ".", StringComparison.Ordinal))
            .ToDictionary(s => s.Key[(name.Length + 1)..], s => s.Value.Reveal());
        _known.UnionWith(found.Keys.Select(k => $"{name}.{k}"));
        return found;
    }

    public int Number(string name, int usual, int least, int most)
    {
        if (Text(name) is not { } text)
            return usual;
        if (int.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var number) && number >= least && number <= most)
            return number;
        faults.Add(new SettingFault(name, $"'{name}' must be a whole number from {least} to {most}, not '{Shown(name)}'."));
        return usual;
    }

    public string OneOf(string name, string usual, params string[] words)
    {
        if (Text(name) is not { } text || words.Contains(text))
            return Text(name) ?? usual;
        var hint = IsSecret(name) ? "" : NearestName.Hint(text, words);
        faults.Add(new SettingFault(name, $"'{name}' is one of {string.Join(", ", words)}, not '{Shown(name)}'.{hint}"));
        return usual;
    }

    public void Report(string name, string message, string? advice = null) => faults.Add(new SettingFault(name, message, advice));

    public void ReportUnknown()
    {
        foreach (var unknown in settings.Keys.Where(k => !_known.Contains(k)))
            faults.Add(
                new SettingFault(
                    unknown,
                    $"'{unknown}' is not a setting of a {engine} source.{NearestName.Hint(unknown, _known)}",
                    $"Settings: {string.Join(", ", _known)}."
                )
            );
    }
}
