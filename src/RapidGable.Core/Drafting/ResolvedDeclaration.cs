using System.Collections.Immutable;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Model;

namespace RapidGable.Drafting;

/// <summary>A line of a resolved declaration.</summary>
/// <param name="Text">YAML.</param>
/// <param name="Origin">Where the value comes from: declared, the catalog, a policy, built in; empty for a line without a value.</param>
public sealed record ResolvedLine(string Text, string Origin);

/// <summary>
/// A service's declaration with nothing left open: every value that was taken from the catalog or a policy is written out,
/// each with where it comes from. Read as a service file, the lines publish the same service.
/// </summary>
public sealed partial class ResolvedDeclaration
{
    private readonly ServiceDeclaration _declaration;
    private readonly EntityModel _model;
    private readonly ILookup<string, Inference> _inferences;
    private readonly List<ResolvedLine> _lines = [];
    private readonly HashSet<(string Set, string Navigation)> _related = [];

    private ResolvedDeclaration(ServiceDeclaration declaration, BuiltService service)
    {
        _declaration = declaration;
        _model = service.Model;
        _inferences = service.Inferences.ToLookup(i => i.Subject);
    }

    /// <summary>The whole declaration as YAML, with the reason of each inferred value as a comment.</summary>
    public static ImmutableArray<ResolvedLine> Of(ServiceDeclaration declaration, BuiltService service)
    {
        var resolved = new ResolvedDeclaration(declaration, service);
        resolved.Service();
        return [.. resolved._lines];
    }

    private void Line(int depth, string text, string origin = "") =>
        _lines.Add(new ResolvedLine(new string(' ', depth * 2) + text, origin));

    private void Service()
    {
        Line(0, $"title: {YamlText.Of(_declaration.Title)}", _declaration.Written.Contains("title") ? "declared" : "the service's name");
        Line(0, $"source: {YamlText.Of(_declaration.Source.Value)}", "declared");
        Line(0, $"namespace: {_declaration.Namespace}", _declaration.Written.Contains("namespace") ? "declared" : "the service's name");
        Line(
            0,
            $"names: {Word(_declaration.Names)}",
            _declaration.Written.Contains("names") ? "declared"
                : _declaration.Names != NamingPolicy.AsIs ? "declared in workspace.yaml"
                : "built in"
        );
        About();
        Faces();
        Types();
        if (_model.Sets.Any(s => !s.IsQuery))
            Line(0, "sets:");
        foreach (var set in _model.Sets.Where(s => !s.IsQuery))
            Set(set, DeclarationOf(set));
        Queries(_model.Sets.Where(s => s is { IsQuery: true, Group: null }), 0);
        var groups = _model.Sets.Where(s => s.Group is not null).GroupBy(s => s.Group!).ToList();
        if (groups.Count > 0)
            Line(0, "query-groups:");
        foreach (var group in groups)
        {
            Line(1, $"- title: {YamlText.Of(group.Key.Title)}", "declared");
            if (group.Key.Description is { } description)
                Line(2, $"description: {YamlText.Of(description)}", "declared");
            Queries(group, 2);
        }
    }

    private void About()
    {
        var about = _model.About;
        if (about != ServiceAbout.None)
            Line(0, "about:", "declared");
        foreach (
            var (name, value) in new[]
            {
                ("version", about.Version),
                ("description", about.Description),
                ("owner", about.Owner),
                ("contact", about.Contact),
                ("licence", about.Licence),
                ("terms", about.Terms),
            }
        )
        {
            if (value is not null)
                Line(1, $"{name}: {YamlText.Of(value)}", "declared");
        }
        if (!about.Tags.IsEmpty)
            Line(1, $"tags: [{string.Join(", ", about.Tags.Select(YamlText.Of))}]", "declared");
        if (_model.VersionOf is { } version)
            Line(0, $"version-of: {{ service: {YamlText.Of(version.Service)}, segment: {YamlText.Of(version.Segment)} }}", "declared");
        if (_model.Deprecation is { } deprecation)
            Line(0, DeprecatedWord(deprecation), "declared");
    }

    private static string DeprecatedWord(Deprecation deprecation)
    {
        var parts = new[]
        {
            deprecation.Since is { } since ? $"since: {since:yyyy-MM-dd}" : null,
            deprecation.Until is { } until ? $"until: {until:yyyy-MM-dd}" : null,
            deprecation.Use is { } use ? $"use: {YamlText.Of(use)}" : null,
            deprecation.Why is { } why ? $"why: {YamlText.Of(why)}" : null,
        };
        var said = parts.OfType<string>().ToList();
        return said.Count == 0 ? "deprecated: true" : $"deprecated: {{ {string.Join(", ", said)} }}";
    }

    /// <summary>The faces, and how the service stands on the plain REST face.</summary>
    private void Faces()
    {
        var rest = _model.Faces.Rest;
        var origin =
            _declaration.Written.Contains("faces") ? "declared"
            : _declaration.FacePatterns.IsEmpty ? "built in"
            : "workspace.yaml";
        Line(0, $"faces: {List(FacesOf(f => f.IsOffered))}", origin);
        if (!rest.IsOffered)
            return;
        string Of(string word) =>
            _declaration.Written.Contains("rest") && _declaration.WrittenRest.Contains(word) ? "declared" : "built in";
        Line(0, "rest:");
        Line(1, $"base: {YamlText.Of(rest.BaseOf(_model.Service)[..^1])}", Of("base"));
        if (!rest.FormerBases.IsEmpty)
            Line(1, $"former-bases: {List(rest.FormerBases.Select(b => b[..^1]))}", "declared");
        Line(1, $"names: {FaceReader.Word(rest.Names)}", Of("names"));
        Line(1, $"paths: {FaceReader.Word(rest.Paths)}", Of("paths"));
        Line(1, $"keys: {(rest.HasNamedKeys ? "named" : "path")}", Of("keys"));
        Line(1, $"lists: {(rest.HasBareLists ? "array" : "object")}", Of("lists"));
        Line(1, $"format: {rest.Format ?? "json"}", Of("format"));
        if (_model.Sql is { } sql)
            Line(0, $"sql: {{ who: {Who(sql.Who)}, rows: {sql.Rows} }}", "declared");
        if (_model.RequiresAudit)
            Line(0, "audit: required", "declared");
        if (_model.Handover is { } handover)
            Line(0, $"handover: {{ who: {Who(handover)} }}", "declared");
    }

    private List<string> FacesOf(Func<FaceShape, bool> fits) => [.. FaceReader.Faces.Where(f => fits(_model.Faces.Of(f)))];

    /// <summary>How a set stands on its faces, where that differs from the service.</summary>
    private void Faces(EntitySet set, SetDeclaration declaration)
    {
        var rest = _model.Faces.Rest;
        var offered = FacesOf(f => f.IsOffered);
        var own = FacesOf(f => f.IsOffered && !f.Without.Contains(set.Name));
        if (!own.SequenceEqual(offered))
            Line(2, $"faces: {(own.Count == 0 ? "[]" : List(own))}", declaration.Faces is null ? "workspace.yaml" : "declared");
        if (set.ContainedIn is not null || !rest.IsOffered || rest.Without.Contains(set.Name))
            return;
        var parts = new List<string> { $"path: {YamlText.Of(rest.PathOf(set.Name))}" };
        var shape = rest.Of(set.Name);
        if (!shape.FormerPaths.IsEmpty)
            parts.Add($"former-paths: {List(shape.FormerPaths)}");
        if (shape.Format is { } format)
            parts.Add($"format: {format}");
        if (shape.CacheSeconds is { } seconds)
            parts.Add($"cache-seconds: {seconds}");
        Line(2, $"rest: {{ {string.Join(", ", parts)} }}", declaration.Written.Contains("rest") ? "declared" : "the set's name");
    }

    private static string ObjectName(EntitySet set, SetDeclaration declaration) =>
        set.Source is TableSource table && (table.ToString() == declaration.From.Value || table.Name == declaration.From.Value)
            ? table.Name
            : declaration.From.Value[(declaration.From.Value.LastIndexOf('.') + 1)..];

    private void Types()
    {
        var groups = _model.Sets.SelectMany(s => s.Type.Properties).Where(p => p.IsGroup).Select(p => p.Type.Complex!.Name).ToHashSet();
        var types = _model.DeclaredTypes.Where(t => t.Complex is null || !groups.Contains(t.Complex.Name)).ToList();
        var definitions = _model.Definitions.ToList();
        if (types.Count + definitions.Count == 0)
            return;
        Line(0, "types:");
        foreach (var definition in definitions)
        {
            Line(1, definition.Name + ":", "declared");
            if (definition.Description is { } said)
                Line(2, $"description: {YamlText.Of(said)}", "declared");
            Line(2, $"type: {Word(definition.Underlying)}", "declared");
        }
        foreach (var type in types)
        {
            var name = type.Enum?.Name ?? type.Complex!.Name;
            var origin = _declaration.Types.Any(t => t.Name.Value == name) ? "declared" : "catalog";
            Line(1, name + ":", origin);
            if (type.Enum is { } enumeration)
            {
                if (enumeration.Description is { } text)
                    Line(2, $"description: {YamlText.Of(text)}", origin);
                Line(
                    2,
                    $"members: {{ {string.Join(", ", enumeration.Members.Select(m => $"{m.Name}: {YamlText.Of(m.Stored)}"))} }}",
                    origin
                );
                continue;
            }
            if (type.Complex!.Description is { } description)
                Line(2, $"description: {YamlText.Of(description)}", origin);
            if (type.Complex.IsOpen)
                Line(2, "open: true", origin);
            if (!type.Complex.Properties.IsEmpty)
                Line(2, "properties:");
            foreach (var property in type.Complex.Properties)
                Line(
                    3,
                    $"{property.Name}: {{ type: {Word(property)}, from: "
                        + $"{YamlText.Of(property.Column)}{(property.Nullable ? "" : ", required: true")} }}",
                    origin
                );
        }
    }

    private static string List(IEnumerable<string> words) =>
        words.ToList() is [var single] ? YamlText.Of(single) : $"[{string.Join(", ", words.Select(YamlText.Of))}]";

    private static string Who(AccessRule rule) => rule.Scope == AccessScope.Roles ? $"[{string.Join(", ", rule.Roles)}]" : rule.ToString();

    private void Rules(EntitySet set, SetDeclaration declaration)
    {
        if (
            set.Rules
            is []
                or [
                    {
                        May: SetOperations.Read,
                        Denies: false,
                        Rows: null,
                        Hide.IsEmpty: true,
                        Mask.IsEmpty: true,
                        LargestPage: null,
                        LargestCost: null
                    },
                ]
        )
        {
            Line(2, $"rules: {{ read: {(set.Rules.IsEmpty ? "nobody" : Who(set.Rules[0].Who))} }}", Origin(declaration, "rules"));
            return;
        }
        Line(2, "rules:", Origin(declaration, "rules"));
        foreach (var rule in set.Rules)
        {
            var parts = new List<string> { $"who: {Who(rule.Who)}", $"{(rule.Denies ? "deny" : "may")}: " + List(Words(rule.May)) };
            if (rule.Rows is { } rows)
                parts.Add($"rows: {YamlText.Of(rows)}");
            if (!rule.Hide.IsEmpty)
                parts.Add($"hide: {List(rule.Hide)}");
            if (!rule.Mask.IsEmpty)
                parts.Add($"mask: {List(rule.Mask)}");
            if (rule.WithCheck is { } check)
                parts.Add($"with-check: {YamlText.Of(check)}");
            if (rule.LargestPage is { } page)
                parts.Add($"largest-page: {page}");
            if (rule.LargestCost is { } cost)
                parts.Add($"largest-cost: {cost}");
            Line(3, $"- {{ {string.Join(", ", parts)} }}");
        }
    }

    private void Set(EntitySet set, SetDeclaration declaration)
    {
        if (declaration.Select is { } select)
        {
            Line(1, "- select: |", "declared");
            foreach (var line in ((QuerySource)set.Source).Select.Split('\n'))
                Line(4, line.TrimEnd());
        }
        else
            Line(1, $"- from: {YamlText.Of(declaration.From.Value)}", "declared");
        if (set.Source.Source != _declaration.Source.Value)
            Line(2, $"source: {YamlText.Of(set.Source.Source)}", "declared");
        Line(2, $"name: {set.Name}", declaration.Name is null ? Reason(set.Name, set.Name) : "declared");
        Line(2, $"type: {set.Type.Name}", declaration.TypeName is null ? Reason(set.Name, "type ") : "declared");
        if (set.Type.Description is { } description)
            Line(2, $"description: {YamlText.Of(description)}", declaration.Description is null ? "catalog: comment" : "declared");
        if (set.Deprecation is { } gone)
            Line(2, DeprecatedWord(gone), "declared");
        if (set.IsUnkeyed)
            Line(2, "keyless: true", "declared");
        else
            Line(
                2,
                $"key: [{string.Join(", ", set.Type.Key.Select(k => YamlText.Of(k.Column)))}]",
                declaration.Key.IsEmpty ? Reason(set.Name, "key ") : "declared"
            );
        Faces(set, declaration);
        Line(2, $"page: {set.PageSize}", Origin(declaration, "page"));
        Line(2, $"largest-page: {set.LargestPage}", Origin(declaration, "largest-page"));
        Line(2, $"allow: [{string.Join(", ", Words(set.Operations))}]", Origin(declaration, "allow"));
        Rules(set, declaration);
        var order = set.DefaultOrder.Select(o => YamlText.Of(o.Property.Column + (o.Descending ? " desc" : ""))).ToList();
        if (order.Count > 0)
            Line(2, $"order: [{string.Join(", ", order)}]", "declared");
        if (set.SearchIndex is { } index)
            Line(2, $"search: {{ index: {YamlText.Of(index.Name)} }}", "declared");
        else if (!set.IsUnkeyed || declaration.Search is not null)
            Line(
                2,
                set.SearchProperties.IsEmpty
                    ? "search: no"
                    : $"search: [{string.Join(", ", set.SearchProperties.Select(p => YamlText.Of(p.Column)))}]",
                declaration.Search is null ? "catalog: all text columns" : "declared"
            );
        if (set.HasVersion)
            Line(2, $"version: {YamlText.Of(set.Version?.Column ?? "row")}", "declared");
        if (set.RequiresVersion)
            Line(2, "require-version: true", "declared");
        RowRules(set);
        Writes(declaration);
        if (!set.Type.Derived.IsEmpty)
        {
            if (set.Type.Derived.FirstOrDefault(d => d.Discriminator is not null) is { } first)
                Line(2, $"discriminator: {YamlText.Of(first.Discriminator!.Column)}", "declared");
            Line(2, "derived:");
            foreach (var derived in set.Type.Derived)
                Line(
                    3,
                    derived.Rows is { } rows
                        ? $"{derived.Name}: {{ from: {YamlText.Of(((TableSource)rows.Source).Name)}, hide: "
                            + $"[{string.Join(", ", rows.Type.Hidden.Select(h => YamlText.Of(h.Column)))}] }}"
                        : $"{derived.Name}: {{ when: [{string.Join(", ", derived.Values.Select(v => YamlText.Of($"{v}")))}], "
                            + $"columns: [{string.Join(", ", derived.Properties.Select(p => YamlText.Of(p.Column)))}] }}",
                    "declared"
                );
        }
        if (set.Changes is { } changes)
            Line(
                2,
                changes.Log is { } log
                    ? $"changes: {{ stamp: {YamlText.Of(changes.Stamp.Column)}, deleted: {{ from: "
                        + $"{YamlText.Of(log.Source.Name)}, stamp: {YamlText.Of(log.Stamp.Column)} }} }}"
                    : $"changes: {YamlText.Of(changes.Stamp.Column)}",
                "declared"
            );
        if (set.RequiresFilter)
            Line(2, "require-filter: true", "declared");
        if (declaration.HasCallerKeys)
            Line(2, "caller-keys: true", "declared");
        Columns(set, declaration);
        Relations(set);
    }

    /// <summary>What written rows must be, and where changes are noted.</summary>
    private void RowRules(EntitySet set)
    {
        var columns = set.Type.Properties.SelectMany(p => p.Leaves).Concat(set.Type.Hidden).ToList();
        if (!set.RowRules.IsEmpty)
            Line(2, "valid:", "declared");
        foreach (var rule in set.RowRules)
        {
            var parts = new List<string>
            {
                rule.Condition is { } condition ? $"where: {YamlText.Of(condition)}" : $"unique: {List(rule.Unique)}",
            };
            if (rule.On != (SetOperations.Create | SetOperations.Update))
                parts.Add($"on: {Grant.Words(rule.On)}");
            if (rule.Who is { } who)
                parts.Add($"who: {Who(who)}");
            if (rule.Property is { } property && columns.Find(c => c.Name == property.Split('/')[^1]) is { } told)
                parts.Add($"column: {YamlText.Of(told.Column)}");
            if (rule.Message is { } message)
                parts.Add($"message: {YamlText.Of(message)}");
            Line(3, $"- {{ {string.Join(", ", parts)} }}");
        }
        if (set.Log is { } log)
        {
            var noted = log.Columns.OrderBy(c => ChangeLog.Words.IndexOf(c.Key)).Select(c => $"{c.Key}: {YamlText.Of(c.Value.Column)}");
            Line(2, $"log: {{ to: {YamlText.Of(log.Source.Name)}, columns: {{ {string.Join(", ", noted)} }} }}", "declared");
        }
        if (set.Type.Properties.Where(p => p.Expression is not null).ToList() is { Count: > 0 } computed)
            Line(2, $"compute: {{ {string.Join(", ", computed.Select(p => $"{p.Name}: {YamlText.Of(p.Expression!)}"))} }}", "declared");
    }

    /// <summary>Where a value comes from that a set or its service may declare.</summary>
    private string Origin(SetDeclaration set, string name) =>
        set.Written.Contains(name) ? "declared"
        : _declaration.Written.Contains(name) ? "declared for the service"
        : "built in";

    private string Reason(string subject, string valueStart) =>
        _inferences[subject].FirstOrDefault(i => i.Value.StartsWith(valueStart, StringComparison.Ordinal)) is { } found
            ? (IsDeclared(found.Reason) ? found.Reason : "catalog: " + found.Reason)
            : "catalog";

    // What the catalog itself calls declared is followed by the type.
    private static bool IsDeclared(string reason) =>
        reason == "declared" || reason is ['d', 'e', 'c', 'l', 'a', 'r', 'e', 'd', ':' or ';' or ',', ..];

    private void Columns(EntitySet set, SetDeclaration declaration)
    {
        var leaves = set
            .Type.Properties.Concat(set.Type.Derived.SelectMany(d => d.Properties).Where(p => p.Via is null))
            .Where(p => p.Expression is null)
            .SelectMany(p => p.Leaves)
            .ToList();
        Line(
            2,
            $"show: [{string.Join(", ", leaves.Select(p => YamlText.Of(p.Column)))}]",
            declaration.Show.Length > 0 ? "declared"
                : declaration.Hide.Length > 0 ? $"catalog, without the hidden {string.Join(", ", declaration.Hide.Select(h => h.Value))}"
                : "catalog: all columns"
        );
        Line(2, "columns:");
        foreach (var property in leaves)
            Line(
                3,
                $"{YamlText.Of(property.Column)}: {{ {string.Join(", ", Settings(property))} }}",
                Reason($"{set.Name}/{property.Name}", property.Type.ToString())
            );
        foreach (var hidden in set.Type.Hidden.Where(h => h.Maker is not null || !h.Rules.IsEmpty))
            Line(3, $"{YamlText.Of(hidden.Column)}: {{ {string.Join(", ", Settings(hidden))} }}", "declared; hidden");
        var groups = set.Type.Properties.Where(p => p.IsGroup).ToList();
        if (groups.Count > 0)
            Line(2, "group:");
        foreach (var group in groups)
            Line(
                3,
                $"{group.Name}: {{ type: {group.Type.Complex!.Name}, columns: "
                    + $"[{string.Join(", ", group.Members.Select(m => YamlText.Of(m.Column)))}] }}",
                "declared"
            );
    }

    private static IEnumerable<string> Settings(Property property)
    {
        yield return "name: " + property.Name;
        if (property.Type.Kind == EdmKind.Stream)
        {
            yield return "stream: true";
            if (property.MediaTypeColumn is { } column)
                yield return $"media-type-column: {YamlText.Of(column)}";
        }
        else
            yield return "type: " + Word(property);
        switch (property.Conversion)
        {
            case FormatConversion format:
                yield return $"format: {YamlText.Of(format.Format)}";
                break;
            case UnitConversion unit:
                yield return "unit: " + unit.Unit;
                break;
            case BooleanConversion flag:
                yield return $"\"true\": {YamlText.Of(flag.True)}, \"false\": {YamlText.Of(flag.False)}";
                break;
        }
        if (property.Measure is { } measure)
            yield return $"{(measure.IsCurrency ? "currency" : "measured-in")}: {YamlText.Of(measure.ToString())}";
        if (property.MediaType is { } mediaType)
            yield return $"media-type: {YamlText.Of(mediaType)}";
        if (!property.Nullable)
            yield return "required: true";
        if (property.Description is { } description)
            yield return $"description: {YamlText.Of(description)}";
        if (property.Deprecation is { } deprecation)
            yield return DeprecatedWord(deprecation);
        if (!property.IsFilterable)
            yield return "filter: false";
        if (!property.IsSortable)
            yield return "sort: false";
        if (property.Access != PropertyAccess.Full)
            yield return property.Access == PropertyAccess.CreateOnly ? "write: create" : "write: never";
        if (property.Maker is { } maker)
            yield return $"{(maker.IsDefault ? "default" : maker.AtUpdate ? "regenerate" : "generate")}: {YamlText.Of(maker.ToString())}";
        var rules = property.Rules;
        if (rules.Minimum is { } minimum)
            yield return $"minimum: {YamlText.Of(ValueConversion.Text(minimum))}";
        if (rules.Maximum is { } maximum)
            yield return $"maximum: {YamlText.Of(ValueConversion.Text(maximum))}";
        if (rules.MinLength is { } minLength)
            yield return $"min-length: {minLength}";
        if (rules.MaxLength is { } maxLength)
            yield return $"max-length: {maxLength}";
        if (rules.Pattern is { } pattern)
            yield return $"pattern: {YamlText.Of(pattern.ToString()[4..^2])}";
        if (!rules.Values.IsEmpty)
            yield return $"values: {List(rules.Values.Select(ValueConversion.Text))}";
        if (rules.Exists is { } exists)
            yield return $"exists: {exists.Set}/{exists.Property}";
        if (property.Unrepresentable != UnrepresentableValues.Undeclared)
            yield return $"{UnrepresentableWords.Name}: {property.Unrepresentable.ToString().ToLowerInvariant()}";
        if (property.RefersToAll)
            yield return "references: all";
        if (rules.Message is { } message)
            yield return $"message: {YamlText.Of(message)}";
    }

    private static string Word(Property property) =>
        property.Definition is not { } definition ? Word(property.Type)
        : property.Type.IsCollection ? $"collection({definition.Name})"
        : definition.Name;

    /// <summary>The type in the words of a declaration, in quotes where it holds a comma.</summary>
    private static string Word(EdmType type)
    {
        var facets = type.Kind switch
        {
            EdmKind.String or EdmKind.Binary => type.MaxLength is { } length ? $"({length})" : "",
            EdmKind.Decimal => type.Precision is { } precision
                ? type.Scale is { } scale
                    ? $"({precision},{scale})"
                    : $"({precision})"
                : "",
            EdmKind.DateTimeOffset or EdmKind.TimeOfDay or EdmKind.Duration => type.Precision is { } digits ? $"({digits})" : "",
            _ => "",
        };
        var item = (type.Enum?.Name ?? type.Complex?.Name ?? type.Kind.ToString().ToLowerInvariant()) + facets;
        var word = type.IsCollection ? $"collection({item})" : item;
        return word.Contains(',') ? $"\"{word}\"" : word;
    }

    /// <summary>Each relation once: on the side that declares it, else on that of the foreign key. The other side says so.</summary>
    private void Relations(EntitySet set)
    {
        if (set.Type.Navigations.IsEmpty)
            return;
        Line(2, set.Type.Navigations.Any(n => IsOwner(set, n)) ? "relations:" : "# relations:");
        foreach (var navigation in set.Type.Navigations)
        {
            if (!IsOwner(set, navigation) || _related.Contains((set.Name, navigation.Name)))
            {
                Line(3, $"# {navigation.Name}: the way back of {navigation.TargetSet}/{navigation.Partner}");
                continue;
            }
            if (navigation.Partner is { } partner)
                _related.Add((navigation.TargetSet, partner));
            var pairs = navigation.Joins.Select(j => $"{YamlText.Of(j.Own.Column)}: {YamlText.Of(j.Target.Column)}");
            var on = navigation.Link is { } link
                ? $"through: {YamlText.Of(link.Source.ToString())}"
                : $"on: {{ {string.Join(", ", pairs)} }}";
            Line(
                3,
                $"{navigation.Name}: {{ to: {navigation.TargetSet}, {on}, back: "
                    + $"{navigation.Partner ?? "no"}{(navigation.IsContained ? ", contained: true" : "")} }}",
                Reason($"{set.Name}/{navigation.Name}", navigation.IsCollection ? "many" : "one")
            );
        }
    }

    private bool IsOwner(EntitySet set, NavigationProperty navigation)
    {
        if (navigation.Partner is not { } partner || Declares(set, navigation.Name))
            return true;
        var target = _model.Target(navigation);
        return !Declares(target, partner) && (!navigation.IsCollection || target.Type.FindNavigation(partner)!.IsCollection);
    }

    private bool Declares(EntitySet set, string navigation) => DeclarationOf(set).Relations.Any(r => r.Name.Value == navigation);

    private SetDeclaration DeclarationOf(EntitySet set) =>
        _declaration.Sets.First(s => (s.Name?.Value ?? PublicNames.Set(ObjectName(set, s), _declaration.Names)) == set.Name);

    private static string Word(NamingPolicy names) =>
        names switch
        {
            NamingPolicy.PascalCase => "pascal-case",
            NamingPolicy.CamelCase => "camel-case",
            _ => "as-is",
        };

    private static IEnumerable<string> Words(SetOperations operations) =>
        Enum.GetValues<SetOperations>()
            .Where(o => o != SetOperations.None && operations.HasFlag(o))
            .Select(o => o.ToString().ToLowerInvariant());
}
