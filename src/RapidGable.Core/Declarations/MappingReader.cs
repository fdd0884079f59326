using System.Collections.Immutable;
using System.Globalization;
using RapidGable.Model;

namespace RapidGable.Declarations;

/// <summary>Takes the known names out of a mapping, one after the other, and then reports whatever is left.</summary>
internal sealed class MappingReader(YamlMapping mapping, Diagnostics diagnostics)
{
    private readonly HashSet<string> _known = new(StringComparer.Ordinal);

    public Diagnostics Diagnostics => diagnostics;

    public SourceLocation Location => mapping.Location;

    /// <summary>The names that are given, in their order.</summary>
    public ImmutableArray<string> Names => [.. mapping.Entries.Select(e => e.Key.Value)];

    /// <summary>The node under a name; null when it is absent or empty.</summary>
    public YamlNode? Node(string name)
    {
        _known.Add(name);
        var value = mapping.Entries.FirstOrDefault(e => e.Key.Value == name).Value;
        return value is YamlScalar { IsNothing: true } ? null : value;
    }

    /// <summary>Refuses a word that has another name now; its new name stands in the finding, so that it can be put in its place.</summary>
    public void ReportOlder(string old, string word)
    {
        if (mapping.Entries.All(e => e.Key.Value != old))
            return;
        _known.Add(old);
        var place = KeyLocation(old) with { Length = old.Length };
        var isPlain = place.LineText.AsSpan(place.Column - 1).StartsWith(old, StringComparison.Ordinal);
        diagnostics.Error(
            "older-word",
            $"'{old}' is called '{word}' now.",
            place,
            $"Write '{word}', or run 'gable upgrade' for the whole workspace.",
            isPlain ? word : null
        );
    }

    public SourceLocation KeyLocation(string name) =>
        mapping.Entries.FirstOrDefault(e => e.Key.Value == name).Key?.Location ?? mapping.Location;

    public Located<string>? Text(string name) =>
        Node(name) switch
        {
            null => null,
            YamlScalar scalar => new Located<string>(scalar.Value, scalar.Location),
            var other => Wrong<Located<string>>(other, $"'{name}' must be one text"),
        };

    /// <summary>One word, of which <c>null</c> may be one.</summary>
    public Located<string>? Word(string name)
    {
        if (mapping.Entries.FirstOrDefault(e => e.Key.Value == name).Value is not YamlScalar { Value: "null" } word)
            return Text(name);
        _known.Add(name);
        return new Located<string>(word.Value, word.Location);
    }

    public Located<string>? RequiredText(string name, string meaning)
    {
        if (Text(name) is { } text)
            return text;
        if (Node(name) is null)
            diagnostics.Error("missing", $"'{name}' is missing: {meaning}.", mapping.Location, $"Write '{name}: …'.");
        return null;
    }

    public int? Number(string name, int least, int most)
    {
        if (Text(name) is not { } text)
            return null;
        if (int.TryParse(text.Value, NumberStyles.None, CultureInfo.InvariantCulture, out var number) && number >= least && number <= most)
            return number;
        diagnostics.Error("number", $"'{name}' must be a whole number from {least} to {most}, not '{text.Value}'.", text.Location);
        return null;
    }

    /// <summary>Yes or no; <paramref name="otherwise"/> when it is absent or neither, which is then reported.</summary>
    public bool Flag(string name, bool otherwise)
    {
        if (Text(name) is not { } text)
            return otherwise;
        if (text.Value is "true" or "yes")
            return true;
        if (text.Value is not ("false" or "no"))
            diagnostics.Error("flag", $"'{name}' is true or false, not '{text.Value}'.", text.Location);
        return false;
    }

    /// <summary>All entries of a mapping under a name, for sections whose names belong to somebody else.</summary>
    public IEnumerable<(Located<string> Name, YamlNode Value)> Entries(string name)
    {
        switch (Node(name))
        {
            case null:
                yield break;
            case YamlMapping inner:
                foreach (var (key, value) in inner.Entries)
                    yield return (new Located<string>(key.Value, key.Location), value);
                break;
            case var other:
                Wrong<string>(other, $"'{name}' must hold names with values");
                break;
        }
    }

    /// <summary>A list of texts; one text alone counts as a list of one.</summary>
    public ImmutableArray<Located<string>> Texts(string name)
    {
        switch (Node(name))
        {
            case null:
                return [];
            case YamlScalar scalar:
                return [new Located<string>(scalar.Value, scalar.Location)];
            case YamlSequence sequence:
                var items = ImmutableArray.CreateBuilder<Located<string>>();
                foreach (var item in sequence.Items)
                {
                    if (item is YamlScalar text)
                        items.Add(new Located<string>(text.Value, text.Location));
                    else
                        Wrong<string>(item, $"each item of '{name}' must be one text");
                }
                return items.ToImmutable();
            case var other:
                Wrong<string>(other, $"'{name}' must be a list of texts");
                return [];
        }
    }

    public ImmutableArray<(Located<string>, Located<string>)> Pairs(string name)
    {
        switch (Node(name))
        {
            case null:
                return [];
            case YamlMapping pairs:
                var items = ImmutableArray.CreateBuilder<(Located<string>, Located<string>)>();
                foreach (var (key, value) in pairs.Entries)
                {
                    if (value is YamlScalar text)
                        items.Add((new Located<string>(key.Value, key.Location), new Located<string>(text.Value, text.Location)));
                    else
                        Wrong<string>(value, $"'{key.Value}' under '{name}' must be one text");
                }
                return items.ToImmutable();
            case var other:
                Wrong<string>(other, $"'{name}' must hold names with values");
                return [];
        }
    }

    public MappingReader? Mapping(string name) =>
        Node(name) switch
        {
            null => null,
            YamlMapping inner => new MappingReader(inner, diagnostics),
            var other => Wrong<MappingReader>(other, $"'{name}' must hold names with values"),
        };

    /// <summary>All entries that were not asked for, as texts; for sections whose names belong to somebody else.</summary>
    public IEnumerable<(Located<string> Name, Located<string> Value)> RemainingTexts()
    {
        foreach (var (key, value) in mapping.Entries.Where(e => !_known.Contains(e.Key.Value)))
        {
            _known.Add(key.Value);
            if (value is YamlScalar text)
                yield return (new Located<string>(key.Value, key.Location), new Located<string>(text.Value, text.Location));
            else
                Wrong<string>(value, $"'{key.Value}' must be one text");
        }
    }

    public void ReportUnknown(string what)
    {
        foreach (var (key, _) in mapping.Entries.Where(e => !_known.Contains(e.Key.Value)))
            diagnostics.Error(
                "unknown-name",
                $"'{key.Value}' is not known in {what}.{NearestName.Hint(key.Value, _known)}",
                key.Location,
                $"Known here: {string.Join(", ", _known)}."
            );
    }

    internal T? Wrong<T>(YamlNode node, string message)
        where T : class
    {
        diagnostics.Error("shape", message + ".", node.Location);
        return null;
    }
}
