using System.Collections.Immutable;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Inspection;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Drafting;

/// <summary>A service file as it should be, and what was put into it.</summary>
/// <param name="Text">The whole file.</param>
/// <param name="Added">Objects that got a set.</param>
/// <param name="Known">Objects that had one already.</param>
/// <param name="Refused">Objects that cannot be published, and why; they stand in the file as comments.</param>
public sealed record DraftResult(
    string Text,
    ImmutableArray<string> Added,
    ImmutableArray<string> Known,
    ImmutableArray<(string Object, string Why)> Refused
)
{
    /// <summary>Objects that may hold secrets, with the word that says so; they stand in the file as comments.</summary>
    public ImmutableArray<(string Object, string Word)> LeftOut { get; init; } = [];

    /// <summary>Columns that look secret or personal and are hidden, as <c>object.column</c>.</summary>
    public ImmutableArray<string> Hidden { get; init; } = [];

    /// <summary>How many of the added objects have no key.</summary>
    public int Keyless { get; init; }
}

/// <summary>
/// Writes sets for objects of a source into a service file: a new one, or at the end of the sets of one that is there, whose
/// own lines are left exactly as they are.
/// </summary>
public sealed class ServiceDraft
{
    private readonly ISource _source;
    private readonly SourceCatalog _catalog;
    private readonly ServiceDeclaration? _existing;
    private readonly NamingPolicy _names;
    private readonly HashSet<string> _setNames;
    private readonly List<string> _added = [];
    private readonly List<string> _known = [];
    private readonly List<(string, string)> _refused = [];
    private readonly List<(string, string)> _leftOut = [];
    private readonly List<string> _hidden = [];
    private readonly IReadOnlyCollection<string> _named;
    private readonly string _text;
    private int _keyless;

    private ServiceDraft(
        ISource source,
        SourceCatalog catalog,
        ServiceDeclaration? existing,
        NamingPolicy names,
        IReadOnlyCollection<string> named,
        string text
    )
    {
        _text = text;
        _named = named;
        _source = source;
        _catalog = catalog;
        _existing = existing;
        _names = names;
        _setNames = [.. (existing?.Sets ?? []).Select(s => s.Name?.Value ?? PublicNames.Set(s.From.Value, names))];
    }

    /// <param name="text">The service file as it is; null = there is none yet.</param>
    /// <param name="existing">The same, read; null when there is none.</param>
    /// <param name="names">The naming policy that holds for the service.</param>
    /// <param name="objects">What is to be published.</param>
    /// <param name="named">Objects that are asked for by name: they become sets even if they may hold secrets, which makes
    /// comments of others.</param>
    /// <param name="progress">Is told which object's key is looked for.</param>
    /// <exception cref="InvalidDataException">When the file's sets are not written as a list with one set in a line.</exception>
    /// <exception cref="SourceException">When rows cannot be read to find a key.</exception>
    public static async Task<DraftResult> WriteAsync(
        string? text,
        string title,
        ServiceDeclaration? existing,
        ISource source,
        SourceCatalog catalog,
        NamingPolicy names,
        IEnumerable<SourceObject> objects,
        IReadOnlyCollection<string> named,
        Action<string> progress,
        CancellationToken cancellation
    )
    {
        var draft = new ServiceDraft(source, catalog, existing, names, named, text ?? "");
        var entries = new List<string>();
        // Of two tables with one name, that of the default schema gets it.
        // Tables come before the views over them.
        var ordered = objects.OrderBy(o => catalog.ShortName(o) == o.Name ? 0 : 1).ThenBy(o => o.Kind == SourceObjectKind.Table ? 0 : 1);
        foreach (var item in ordered)
            entries.AddRange(await draft.EntryAsync(item, progress, cancellation));
        var whole = text is null ? draft.Header(title) + string.Concat(entries.Select(e => $"  {e}\n")) : Inserted(text, entries);
        return new DraftResult(whole, [.. draft._added], [.. draft._known], [.. draft._refused])
        {
            LeftOut = [.. draft._leftOut],
            Hidden = [.. draft._hidden],
            Keyless = draft._keyless,
        };
    }

    private string Header(string title) =>
        $"""
            title: {YamlText.Of(title)}
            source: {YamlText.Of(_source.Name)}

            # Nobody may read anything until a rule says so. Uncomment to open the service to everyone:
            # rules:
            #   read: anyone

            # A table's name alone publishes it. 'gable show' prints all that is taken from the catalog.
            sets:

            """;

    /// <summary>The lines of one set, without the indent of the list.</summary>
    private async Task<IEnumerable<string>> EntryAsync(SourceObject item, Action<string> progress, CancellationToken cancellation)
    {
        var name = _catalog.ShortName(item);
        if (_existing?.Sets.Any(s => s.Source.Value == _source.Name && s.Select is null && _catalog.Find(s.From.Value) == item) == true)
        {
            _known.Add(name);
            return [];
        }
        if (item.Fault is { } fault)
            return Refuse(name, fault);
        if (!_named.Contains(name) && SensitiveNames.SecretTable(item.Name) is { } secret)
            return LeaveOut(name, secret);
        item = await _source.DescribeAsync(item, cancellation);
        if (item.Columns.All(c => c.Type is null))
            return Refuse(name, item.Columns.IsEmpty ? "it has no columns" : "none of its columns has a type that can be published");
        var settings = new List<string>();
        string comment;
        try
        {
            comment = await KeyAsync(item, settings, progress, cancellation);
        }
        catch (SourceException exception) when (exception.Kind is not (SourceFaultKind.Unavailable or SourceFaultKind.Busy))
        {
            return Refuse(name, exception.Message);
        }
        if (_existing is not null && _existing.Source.Value != _source.Name)
            settings.Insert(0, $"source: {YamlText.Of(_source.Name)}");
        var setName = PublicNames.Set(item.Name, _names);
        if (!_setNames.Add(setName))
        {
            for (var i = 2; !_setNames.Add(setName = PublicNames.Set(item.FullName, _names) + (i > 2 ? "_" + (i - 1) : "")); i++) { }
            settings.Add($"name: {setName}");
        }
        settings.AddRange(Renames(item));
        if (await UnrepresentableAsync(item, cancellation) is { } columns)
            settings.Add(columns);
        if (Hidden(item, name) is { } hidden)
            settings.Add(hidden);
        _added.Add(name);
        return Lines(item, name, settings, comment);
    }

    /// <summary>Whether a former draft says already why an object is not published.</summary>
    private bool IsNoted(string name) => _text.Contains($"# - {YamlText.Of(name)}   # ", StringComparison.Ordinal);

    private IEnumerable<string> LeaveOut(string name, string word)
    {
        _leftOut.Add((name, word));
        return IsNoted(name)
            ? []
            : [$"# - {YamlText.Of(name)}   # left out: it may hold secrets ({word}); publish it only with rules of its own"];
    }

    /// <summary>Hides what looks secret or personal, outside of keys.</summary>
    private string? Hidden(SourceObject item, string name)
    {
        var inKeys = item.NaturalKey.Concat(item.ForeignKeys.SelectMany(f => f.Columns)).ToHashSet();
        var found = item
            .Columns.Where(c => c.Type is not null && !inKeys.Contains(c.Name))
            .Select(c => (c.Name, Secret: SensitiveNames.SecretColumn(c), Personal: SensitiveNames.PersonalColumn(c)))
            .Where(c => c.Secret is not null || c.Personal is not null)
            .ToList();
        if (found.Count == 0 || found.Count == item.Columns.Count(c => c.Type is not null))
            return null;
        _hidden.AddRange(found.Select(c => $"{name}.{c.Name}"));
        var kinds = new[] { (found.Exists(c => c.Secret is not null), "secret"), (found.Exists(c => c.Secret is null), "personal") };
        var looks = string.Join(" or ", kinds.Where(k => k.Item1).Select(k => k.Item2));
        var names = string.Join(", ", found.Select(c => YamlText.Of(c.Name)));
        return $"hide: [{names}]   # {(found.Count == 1 ? "it looks" : "they look")} {looks}";
    }

    private IEnumerable<string> Refuse(string name, string why)
    {
        _refused.Add((name, why));
        return IsNoted(name) ? [] : [$"# - {YamlText.Of(name)}   # cannot be published: {OneLine(why)}"];
    }

    /// <summary>
    /// Declares columns that hold values which no payload has a value for as null there; null = none does, or it takes too long to
    /// find out.
    /// </summary>
    private async Task<string?> UnrepresentableAsync(SourceObject item, CancellationToken cancellation)
    {
        var dialect = _source.Dialect;
        var columns = item
            .Columns.Where(c =>
                c is { MayBeUnrepresentable: true, Unrepresentable: UnrepresentableValues.Undeclared } && !item.NaturalKey.Contains(c.Name)
            )
            .Select(c => (c.Name, Condition: dialect.Unrepresentable(dialect.Quote(c.Name), c.Type!)))
            .Where(c => c.Condition is not null)
            .ToList();
        if (columns.Count == 0)
            return null;
        try
        {
            await using var session = await _source.OpenSessionAsync(SessionKind.Plain, cancellation);
            var counts = string.Join(", ", columns.Select(c => $"COUNT(CASE WHEN {c.Condition} THEN 1 END)"));
            await using var cursor = await session.QueryAsync($"SELECT {counts} FROM {dialect.From(item)}", default, cancellation);
            await cursor.ReadAsync(cancellation);
            var found = columns
                .Where((_, i) => cursor.GetInt64(i) > 0)
                .Select(c => $"{YamlText.Of(c.Name)}: {{ {UnrepresentableWords.Name}: null }}")
                .ToList();
            return found.Count == 0
                ? null
                : $"columns: {{ {string.Join(", ", found)} }}   # hold values that no payload has, such as infinity; 'text' shows them";
        }
        catch (SourceException exception) when (exception.Kind == SourceFaultKind.TooSlow)
        {
            return null;
        }
    }

    /// <summary>Adds what identifies a row, and says it in a few words.</summary>
    private async Task<string> KeyAsync(SourceObject item, List<string> settings, Action<string> progress, CancellationToken cancellation)
    {
        if (!item.NaturalKey.IsEmpty && item.NaturalKey.All(c => item.Column(c) is { MayBeKey: true }))
            return "key " + string.Join(", ", item.NaturalKey);
        progress(item.Name);
        var found = await KeyFinder.FindAsync(_source, item, _catalog, _ => { }, cancellation);
        if (found is { Candidates: [{ IsLikely: true } best, ..], Rows: > 0 })
        {
            settings.Add(
                $"key: [{string.Join(", ", best.Columns.Select(YamlText.Of))}]   # identifies each of {found.Rows:N0} rows; "
                    + $"see 'gable keys' for others"
            );
            return "no key in the catalog";
        }
        _keyless++;
        settings.Add(
            "keyless: true   # "
                + (
                    found.Rows == 0 ? "it has no key and no rows to find one by"
                    : found.Candidates is [var chance, ..]
                        ? $"{OneLine(string.Join(", ", chance.Columns))} is different in each of {found.Rows:N0} rows, which may be chance"
                    : "no three columns identify a row, so it is read as a plain collection"
                )
        );
        return "no key";
    }

    /// <summary>New names for columns that would otherwise have one name.</summary>
    private IEnumerable<string> Renames(SourceObject item)
    {
        var taken = new HashSet<string>(StringComparer.Ordinal);
        var renames = new List<string>();
        foreach (var column in item.Columns.Where(c => c.Type is not null))
        {
            var name = PublicNames.Property(column.Name, _names);
            if (taken.Add(name))
                continue;
            var free = Enumerable.Range(2, 1_000).Select(i => $"{name}_{i}").First(n => taken.Add(n));
            renames.Add($"{YamlText.Of(column.Name)}: {free}");
        }
        return renames.Count == 0 ? [] : [$"rename: {{ {string.Join(", ", renames)} }}"];
    }

    private string Short(string name) => _catalog.Find(name) is { } item ? _catalog.ShortName(item) : name;

    private IEnumerable<string> Lines(SourceObject item, string name, List<string> settings, string comment)
    {
        var facts = new List<string> { $"{item.Columns.Length} columns", comment };
        if (!item.ForeignKeys.IsEmpty)
            facts.Add("refers to " + string.Join(", ", item.ForeignKeys.Select(f => Short(f.TargetObject)).Distinct()));
        var note = $"{item.Kind.Word()}, {string.Join(", ", facts)}";
        if (settings.Count == 0)
            yield return $"- {YamlText.Of(name)}   # {OneLine(note)}";
        else
        {
            yield return $"- from: {YamlText.Of(name)}   # {OneLine(note)}";
            foreach (var setting in settings)
                yield return "  " + setting;
        }
        foreach (var column in item.Columns.Where(c => c.Type is null && c.Fields.IsEmpty))
            yield return $"  # left out: {OneLine(column.Name)}, {OneLine(column.Reason)}";
    }

    private static string OneLine(string text) => text.ReplaceLineEndings(" ").Trim();

    /// <summary>Puts lines at the end of the list of sets, in its own indent; every other line stays as it is.</summary>
    private static string Inserted(string text, List<string> entries)
    {
        if (entries.Count == 0)
            return text;
        var ending = text.Contains("\r\n", StringComparison.Ordinal) ? "\r\n" : "\n";
        var lines = text.Split('\n').Select(l => l.TrimEnd('\r')).ToList();
        var sets = lines.FindIndex(l => l.StartsWith("sets:", StringComparison.Ordinal));
        if (sets < 0 || lines[sets]["sets:".Length..].Split('#')[0].Trim().Length > 0)
            throw new InvalidDataException("its sets are not a list with one set in a line, as in\nsets:\n  - station");
        var last = sets;
        var indent = 2;
        for (var i = sets + 1; i < lines.Count; i++)
        {
            var line = lines[i];
            var depth = line.Length - line.TrimStart(' ').Length;
            if (line.Trim().Length == 0 || (line.TrimStart().StartsWith('#') && depth == 0))
                continue;
            if (depth == 0 && !line.StartsWith("- ", StringComparison.Ordinal))
                break;
            if (last == sets)
                indent = depth;
            last = i;
        }
        lines.InsertRange(last + 1, entries.Select(e => new string(' ', indent) + e));
        return string.Join(ending, lines);
    }
}
