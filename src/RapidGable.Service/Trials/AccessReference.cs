using System.Collections.Immutable;
using System.Globalization;
using System.Text;
using System.Text.Json;
using System.Text.RegularExpressions;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Expressions;
using RapidGable.Metadata;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Payloads.Json;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Requests.OData;
using RapidGable.Verification;

namespace RapidGable.Service.Trials;

/// <summary>
/// What callers should find of a service: all its rows, read past the rules, and each rule asked for alone and put together here, row by
/// row. The statements that carry rules out for callers are not used.
/// </summary>
internal sealed partial class AccessReference
{
    /// <summary>Rows of a set that are looked at, in the order of the key.</summary>
    public const int MostRows = 2_000;

    private const int SampledValues = 2;
    private const int ShortestHidden = 5;

    private readonly PublishedService _service;
    private readonly PublishedService _open;
    private readonly Dictionary<string, (List<ExpectedRow> Rows, bool IsWhole)> _rows = [];
    private readonly Dictionary<(string Set, string Rule), HashSet<string>> _keys = [];

    public AccessReference(PublishedService service, LoadedWorkspace workspace)
    {
        _service = service;
        var model = service.Model;
        _open = new PublishedService(
            model.With([
                .. model.Sets.Select(s =>
                    s with
                    {
                        Rules = [Grant.Reading(AccessRule.Anyone)],
                        Operations = s.IsAction ? s.Operations : s.Operations | SetOperations.Read,
                        PageSize = MostRows,
                        LargestPage = MostRows,
                        RequiresFilter = false,
                        ContainedIn = null,
                    }
                ),
            ]),
            workspace.Sources,
            "open"
        );
    }

    /// <summary>The kinds of caller to try: all that the rules name, and with values of the attributes that rules ask for.</summary>
    public async Task<List<(string Name, Caller Caller)>> CallersAsync(CancellationToken cancellation)
    {
        var callers = AccessMatrix.CallersOf(_service.Model).ToList();
        foreach (var (name, caller) in callers.ToList())
        {
            var asked = _service
                .Model.Sets.SelectMany(s =>
                    _service
                        .RulesOf(s)
                        .Where(r => AccessGate.Allows(r.Grant.Who, caller))
                        .SelectMany(r => r.Attributes.Select(a => (Set: s, Rule: r, Attribute: a)))
                )
                .Where(a => a.Attribute != "user")
                .ToList();
            var values = new Dictionary<string, List<string>>();
            foreach (var (set, rule, attribute) in asked)
            {
                if (
                    !values.ContainsKey(attribute)
                    && await ValuesAsync(set, rule.Grant.Rows!, attribute, cancellation) is { Count: > 0 } found
                )
                    values[attribute] = found;
            }
            for (var i = 0; i < SampledValues && values.Values.Any(v => v.Count > i); i++)
            {
                var own = values.Select(v => (v.Key, Value: v.Value[Math.Min(i, v.Value.Count - 1)])).ToList();
                callers.Add(
                    (
                        $"{name} {string.Join(' ', own.Select(o => $"{o.Key}={o.Value}"))}",
                        caller with
                        {
                            Attributes = Caller.AttributesOf(own),
                        }
                    )
                );
            }
        }
        return callers;
    }

    /// <summary>Some values of what an attribute is compared with in a condition.</summary>
    private async Task<List<string>> ValuesAsync(EntitySet set, string condition, string attribute, CancellationToken cancellation)
    {
        if (Regex.Match(condition, $@"([\w/]+) (?:eq|in|ge|le|gt|lt) \(?@{Regex.Escape(attribute)}\b") is not { Success: true } compared)
            return [];
        var rows = await ReadAsync(set, $"$apply=groupby(({compared.Groups[1].Value}))", cancellation);
        var name = compared.Groups[1].Value;
        return [.. (rows ?? []).Select(r => Inner(r, name)).OfType<string>().Distinct().Order(StringComparer.Ordinal).Take(SampledValues)];
    }

    private static string? Inner(JsonElement row, string path)
    {
        foreach (var step in path.Split('/'))
        {
            if (row.ValueKind != JsonValueKind.Object || !row.TryGetProperty(step, out row))
                return null;
        }
        return row.ValueKind switch
        {
            JsonValueKind.String => row.GetString(),
            JsonValueKind.Number or JsonValueKind.True or JsonValueKind.False => row.GetRawText(),
            _ => null,
        };
    }

    /// <summary>What a caller should find.</summary>
    /// <param name="probe">Asks as this caller.</param>
    public async Task<AccessCase> CaseAsync(string name, Caller caller, IServiceProbe probe, CancellationToken cancellation)
    {
        var sets = ImmutableArray.CreateBuilder<ExpectedSet>();
        var (visible, hidden) = (new HashSet<string>(), new HashSet<string>());
        foreach (var set in _service.Model.Sets)
            sets.Add(await ExpectedAsync(set, name, caller, visible, hidden, cancellation));
        hidden.ExceptWith(visible);
        hidden.IntersectWith(await DistinctiveAsync(cancellation));
        return new AccessCase(name, caller.IsSignedIn, probe, sets.ToImmutable(), hidden);
    }

    /// <summary>What a caller should find of one set.</summary>
    /// <param name="visible">Takes the texts that they see.</param>
    /// <param name="hidden">Takes those that are kept from them.</param>
    private async Task<ExpectedSet> ExpectedAsync(
        EntitySet set,
        string name,
        Caller caller,
        HashSet<string> visible,
        HashSet<string> hidden,
        CancellationToken cancellation
    )
    {
        var (all, isWhole) = await RowsAsync(set, cancellation);
        var cell = AccessMatrix.Of(_service, name, caller, holdsAll: false).First(c => c.Set == set.Name);
        var (allowing, denying, deniesAll) = AccessGate.Applying(SetOperations.Read, caller, _service.RulesOf(set));
        if (set.IsAction)
            return new ExpectedSet(set, Operations(cell).HasFlag(SetOperations.Call), Operations(cell)) { IsWhole = false };
        var mayRead = cell.MayRead && !deniesAll;
        var shown = new List<ExpectedRow>();
        foreach (var row in all)
        {
            var held = mayRead ? await HeldAsync(set, row, allowing, denying, caller, cancellation) : [];
            var view = new RowView(set, allowing, held);
            view.Sort(row, visible, hidden);
            if (held.Count > 0)
                shown.Add(view.Of(row));
        }
        return new ExpectedSet(set, mayRead, Operations(cell))
        {
            Hidden = mayRead ? new RowView(set, allowing, []).Gone : [],
            Rows = shown,
            IsWhole = isWhole,
        };
    }

    private static SetOperations Operations(AccessCell cell) =>
        cell
            .May.Split(", ", StringSplitOptions.RemoveEmptyEntries)
            .Select(w => Enum.Parse<SetOperations>(w, ignoreCase: true))
            .Aggregate(SetOperations.None, (sum, o) => sum | o);

    /// <summary>The rules that let a row be seen; none when one takes it away.</summary>
    private async Task<List<BoundRule>> HeldAsync(
        EntitySet set,
        ExpectedRow row,
        IEnumerable<BoundRule> allowing,
        IEnumerable<BoundRule> denying,
        Caller caller,
        CancellationToken cancellation
    )
    {
        var (key, held) = (KeyOf(set, row), new List<BoundRule>());
        foreach (var rule in allowing)
        {
            if ((await KeysAsync(set, rule, caller, cancellation)).Contains(key))
                held.Add(rule);
        }
        foreach (var rule in held.Count > 0 ? denying : [])
        {
            if ((await KeysAsync(set, rule, caller, cancellation)).Contains(key))
                return [];
        }
        return held;
    }

    /// <summary>A row as a caller should see it.</summary>
    /// <param name="Allowing">The rules that let the caller read some rows of the set.</param>
    /// <param name="Held">Those of them that let this row be seen; none = it is not.</param>
    private sealed record RowView(EntitySet Set, IReadOnlyCollection<BoundRule> Allowing, List<BoundRule> Held)
    {
        /// <summary>The properties that are not there for the caller.</summary>
        public ImmutableArray<string> Gone =>
            [.. Set.Type.Properties.Where(p => p.Leaves.All(IsGone) && !Set.Type.Key.Contains(p)).Select(p => p.Name)];

        private bool IsGone(Property property) => Allowing.All(r => r.Grant.Hide.Contains(property.Column));

        private bool IsShown(Property? own) =>
            Held.Count > 0
            && (
                own is null
                || Set.Type.Key.Contains(own)
                || Held.Exists(r => !r.Grant.Hide.Contains(own.Column) && !r.Grant.Mask.Contains(own.Column))
            );

        private Property? Own(string property) =>
            Set
                .Type.Properties.Concat(Set.Type.Derived.SelectMany(d => d.Properties))
                .FirstOrDefault(p => p.Name == property && p.Via is null);

        /// <summary>Puts the texts of a row to those that are seen or to those that are not.</summary>
        public void Sort(ExpectedRow row, HashSet<string> visible, HashSet<string> hidden)
        {
            foreach (var (member, value) in row.Values)
            {
                foreach (var (own, part) in Parts(Own(member), value))
                    (IsShown(own) ? visible : hidden).UnionWith(Texts(part));
            }
        }

        /// <summary>The row without what is not there, and with null for what is not shown.</summary>
        public ExpectedRow Of(ExpectedRow row) =>
            new(
                row.Values.Where(v => !IsAbsent(v.Key))
                    .ToImmutableSortedDictionary(v => v.Key, v => Value(v.Key, v.Value), StringComparer.Ordinal)
            );

        private bool IsAbsent(string property) => Own(property) is { } own && !Set.Type.Key.Contains(own) && own.Leaves.All(IsGone);

        private string Value(string property, string value) =>
            Own(property) is { IsGroup: true } group ? Group(group, value)
            : IsShown(Own(property)) ? value
            : "null";

        private string Group(Property group, string value)
        {
            var parts = Parts(group, value)
                .Where(p => !IsGone(p.Own!))
                .Select(p => $"\"{p.Own!.Name}\":{(IsShown(p.Own) ? p.Value : "null")}");
            return $"{{{string.Join(',', parts)}}}";
        }
    }

    /// <summary>The values of a property as JSON: its own, or those of its members.</summary>
    private static IEnumerable<(Property? Own, string Value)> Parts(Property? property, string json)
    {
        if (property is not { IsGroup: true })
            return [(property, json)];
        using var value = JsonDocument.Parse(json);
        return
        [
            .. value
                .RootElement.EnumerateObject()
                .Where(m => property.Members.Any(p => p.Name == m.Name))
                .Select(m => ((Property?)property.Members.First(p => p.Name == m.Name), m.Value.GetRawText())),
        ];
    }

    private HashSet<string>? _distinctive;

    /// <summary>Texts that stand in one value only, so that finding them elsewhere means something.</summary>
    private async Task<HashSet<string>> DistinctiveAsync(CancellationToken cancellation)
    {
        if (_distinctive is not null)
            return _distinctive;
        var counts = new Dictionary<string, int>();
        foreach (var set in _service.Model.Sets)
        {
            foreach (
                var text in (await RowsAsync(set, cancellation)).Rows.SelectMany(r =>
                    r.Values.SelectMany(v =>
                        Parts(set.Type.Properties.FirstOrDefault(p => p.Name == v.Key), v.Value).SelectMany(p => Texts(p.Value))
                    )
                )
            )
                counts[text] = counts.GetValueOrDefault(text) + 1;
        }
        // A table that is published twice holds everything twice.
        var most = _service.Model.Sets.GroupBy(s => s.Source).Max(g => g.Count());
        // A value may be a word of the metadata, too, such as the name of a column in a table about tables.
        var named = Name()
            .Matches(Encoding.UTF8.GetString(CsdlXmlWriter.Write(_service.Model, ODataVersion.V401)))
            .Select(m => m.Value)
            .ToHashSet();
        return _distinctive = [.. counts.Where(c => c.Value <= most && !named.Contains(c.Key)).Select(c => c.Key)];
    }

    [GeneratedRegex(@"\w+")]
    private static partial Regex Name();

    /// <summary>The texts in a JSON value that are long enough to be recognised; dates and times are shared by too many rows.</summary>
    private static IEnumerable<string> Texts(string json) =>
        json.StartsWith('"')
        && JsonSerializer.Deserialize<string>(json) is { Length: >= ShortestHidden } text
        && !DateTime.TryParse(text, CultureInfo.InvariantCulture, DateTimeStyles.None, out _)
            ? [text]
            : [];

    /// <summary>A saved check with what it is about.</summary>
    public async Task<AccessCheck> CheckAsync(
        AccessCheckDeclaration declared,
        string caller,
        IServiceProbe probe,
        CancellationToken cancellation
    )
    {
        var set = _service.Model.FindSet(declared.Set.Value);
        var check = new AccessCheck(declared.Title, caller, probe, set, declared.Can, declared.Operation, null, declared.Property);
        if (set is null)
            return check with
            {
                Fault =
                    $"There is no set '{declared.Set.Value}'."
                    + $"{NearestName.Hint(declared.Set.Value, _service.Model.Sets.Select(s => s.Name))}",
            };
        if (declared.Property is { } property && set.Type.Properties.All(p => p.Name != property))
            return check with
            {
                Fault = $"'{set.Name}' has no property '{property}'.{NearestName.Hint(property, set.Type.Properties.Select(p => p.Name))}",
            };
        if (declared.Rows is not { } rows)
            return check;
        if (set.IsUnkeyed)
            return check with { Fault = "Rows without a key cannot be told apart, so 'rows' says nothing here." };
        var select = string.Join(',', set.Type.Key.Select(k => k.Name));
        var read = await TryReadAsync(set, $"$filter={Uri.EscapeDataString(rows.Value)}&$select={select}", cancellation);
        if (!read.Is(out var found, out var fault))
            return check with { Fault = $"Its 'rows' cannot be asked for: {fault.Message}" };
        return found.Count == 0
            ? check with
            {
                Fault = $"No row fulfils '{rows.Value}', so this proves nothing.",
            }
            : check with
            {
                Keys = found.Select(r => KeyOf(set, AccessVerifier.RowOf(r))).ToHashSet(),
            };
    }

    private static string KeyOf(EntitySet set, ExpectedRow row) =>
        set.IsUnkeyed ? row.ToString() : string.Join(", ", set.Type.Key.Select(k => row.Values.GetValueOrDefault(k.Name)));

    private async Task<(List<ExpectedRow> Rows, bool IsWhole)> RowsAsync(EntitySet set, CancellationToken cancellation)
    {
        if (_rows.TryGetValue(set.Name, out var known))
            return known;
        if (!AccessVerifier.IsCompared(set))
            return ([], false);
        var rows = (await ReadAsync(set, Order(set), cancellation) ?? []).Select(AccessVerifier.RowOf).ToList();
        return _rows[set.Name] = (rows, rows.Count < MostRows);
    }

    private static string Order(EntitySet set) => set.IsUnkeyed ? "" : "$orderby=" + string.Join(',', set.Type.Key.Select(k => k.Name));

    /// <summary>The keys of the rows that one rule is about, among the first ones.</summary>
    private async Task<HashSet<string>> KeysAsync(EntitySet set, BoundRule rule, Caller caller, CancellationToken cancellation)
    {
        var aliases = string.Concat(rule.Attributes.Select(a => $"&@{a}={Uri.EscapeDataString(Literal(rule, a, caller))}"));
        var id = (set.Name, $"{rule.Ordinal} {aliases}");
        if (_keys.TryGetValue(id, out var known))
            return known;
        var filter = rule.Grant.Rows is { } rows ? $"$filter={Uri.EscapeDataString(rows)}{aliases}&" : "";
        var select = set.IsUnkeyed ? "" : $"&$select={string.Join(',', set.Type.Key.Select(k => k.Name))}";
        var found = await ReadAsync(set, (filter + Order(set) + select).Trim('&'), cancellation) ?? [];
        return _keys[id] = [.. found.Select(r => KeyOf(set, AccessVerifier.RowOf(r)))];
    }

    /// <summary>An attribute as a literal: as a text where the condition takes one, else as it stands.</summary>
    private static string Literal(BoundRule rule, string attribute, Caller caller)
    {
        var value = rule.ValueOf(attribute, caller);
        return rule.TypeOf(attribute).Kind is EdmKind.String ? $"'{value.Replace("'", "''", StringComparison.Ordinal)}'" : value;
    }

    private async Task<List<JsonElement>?> ReadAsync(EntitySet set, string query, CancellationToken cancellation) =>
        (await TryReadAsync(set, query, cancellation)).Is(out var rows, out _) ? rows : null;

    private async Task<Result<List<JsonElement>>> TryReadAsync(EntitySet set, string query, CancellationToken cancellation)
    {
        var path = SampleCall.OData(set);
        if (
            !LexedRequest.Read(path, query).Is(out var lexed, out var fault)
            || !_open.Prepare(lexed, Caller.Anonymous).Is(out var prepared, out fault)
            || !QueryValues.Make(prepared.Request, lexed, null, TimeProvider.System.GetUtcNow().UtcDateTime).Is(out var values, out fault)
            || !(await QueryRun.StartAsync(prepared, values, cancellation)).Is(out var run, out fault)
        )
            return fault;
        await using (run)
        {
            using var body = new MemoryStream();
            using (var output = new PayloadOutput((bytes, token) => body.WriteAsync(bytes, token)))
                await ODataJsonWriter
                    .For(prepared, new PayloadFormat(ODataVersion.V401, MetadataLevel.None, false))
                    .WriteAsync(run, new LinkBuilder("http://localhost/", lexed), output, cancellation);
            using var json = JsonDocument.Parse(body.ToArray());
            return json.RootElement.GetProperty("value").EnumerateArray().Select(r => r.Clone()).ToList();
        }
    }
}
