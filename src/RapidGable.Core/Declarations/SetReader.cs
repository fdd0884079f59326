using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Declarations;

/// <summary>What a service says for all of its sets.</summary>
internal sealed record SetDefaults(
    Located<string> Source,
    int? Page,
    int? LargestPage,
    ImmutableArray<RuleDeclaration> Rules,
    bool HasCallerKeys
);

/// <summary>Reads the sets of a service file, and the rules of both.</summary>
internal sealed partial class SetReader(Diagnostics diagnostics)
{
    private static readonly string[] OperationWords = ["read", "create", "update", "delete"];

    /// <summary>The text of a file beside the service's; null = there is none, which is then reported.</summary>
    public required Func<Located<string>, Located<string>?> TextOf { get; init; }

    public ImmutableArray<SetDeclaration> Read(MappingReader service, SetDefaults defaults)
    {
        if (service.Node("sets") is not YamlSequence list || list.Items.Count == 0)
        {
            diagnostics.Error(
                "no-sets",
                "The service publishes nothing: 'sets' must be a list of tables and views.",
                service.KeyLocation("sets"),
                "Write for example:\nsets:\n  - station"
            );
            return [];
        }
        var sets = ImmutableArray.CreateBuilder<SetDeclaration>();
        foreach (var item in list.Items)
        {
            if (item is YamlScalar { IsNothing: false } name)
                sets.Add(
                    new SetDeclaration(new Located<string>(name.Value, name.Location), name.Location)
                    {
                        Source = defaults.Source,
                        Page = defaults.Page,
                        LargestPage = defaults.LargestPage,
                        HasCallerKeys = defaults.HasCallerKeys,
                        Rules = defaults.Rules,
                    }
                );
            else if (item is YamlMapping mapping)
            {
                if (ReadSet(new MappingReader(mapping, diagnostics), defaults) is { } set)
                    sets.Add(set);
            }
            else
                diagnostics.Error("shape", "A set is the name of a table or view, or a mapping with 'from'.", item.Location);
        }
        return sets.ToImmutable();
    }

    private SetDeclaration? ReadSet(MappingReader reader, SetDefaults defaults)
    {
        var select = reader.Text("select");
        var from = reader.Text("from");
        var name = Identifier(reader.Text("name"));
        if (select is not null && from is not null)
            diagnostics.Error(
                "from-twice",
                "'from' and 'select' exclude each other: a set has one place where its rows come from.",
                from.Location
            );
        if (select is not null && name is null)
            diagnostics.Error(
                "missing",
                "'name' is missing: a set over a SELECT has no table to take its name from.",
                reader.Location,
                "Write 'name: …'."
            );
        if (select is null)
            from = reader.RequiredText("from", "the table or view that the set is read from");
        else
            from = name ?? select;
        var set = from is null
            ? null
            : ReadParts(
                reader,
                new SetDeclaration(from, reader.Location)
                {
                    Source = reader.Text("source") ?? defaults.Source,
                    Select = select,
                    Name = name,
                },
                defaults
            );
        if (set is not null)
            reader.ReportUnknown("a set");
        return set;
    }

    private SetDeclaration ReadParts(MappingReader reader, SetDeclaration set, SetDefaults defaults)
    {
        var hide = reader.Texts("hide");
        var show = reader.Texts("show");
        if (hide.Length > 0 && show.Length > 0)
            diagnostics.Error(
                "show-and-hide",
                "'show' lists all columns that are seen, so 'hide' has no effect.",
                reader.KeyLocation("hide")
            );
        var rename = Renames(reader);
        var (page, largest) = Pages(reader);
        var key = reader.Texts("key");
        var isKeyless = reader.Flag("keyless", false);
        if (isKeyless && key.Length > 0)
            diagnostics.Error("keyless-key", "A set with a 'key' is not 'keyless'.", reader.KeyLocation("keyless"));
        return set with
        {
            Written = reader.Names,
            TypeName = Identifier(reader.Text("type")),
            Description = reader.Text("description"),
            Deprecation = AboutReader.Deprecated(reader),
            Key = key,
            IsKeyless = isKeyless,
            Hide = hide,
            Show = show,
            Rename = rename,
            Columns = [.. reader.Entries("columns").Select(c => Column(c.Name, c.Value, reader))],
            Groups = [.. reader.Entries("group").Select(g => Group(g.Name, g.Value, reader)).OfType<GroupDeclaration>()],
            Relations = [.. reader.Entries("relations").Select(r => Relation(r.Name, r.Value, reader)).OfType<RelationDeclaration>()],
            Order = [.. reader.Texts("order").Select(Order)],
            Search = reader.Node("search") is YamlMapping ? null : Search(reader),
            SearchIndex = SearchIndex(reader),
            Version = reader.Text("version"),
            RequiresVersion = reader.Flag("require-version", false),
            RowRules = RowRules(reader),
            Log = Log(reader),
            Writes = [.. Writes(reader)],
            Computed = reader.Pairs("compute"),
            Discriminator = reader.Text("discriminator"),
            Derived = [.. reader.Entries("derived").Select(d => Derived(d.Name, d.Value, reader)).OfType<DerivedDeclaration>()],
            Changes = Changes(reader),
            RequiresFilter = reader.Flag("require-filter", false),
            HasCallerKeys = reader.Flag("caller-keys", defaults.HasCallerKeys),
            Page = page ?? defaults.Page,
            LargestPage = largest ?? defaults.LargestPage,
            Operations = Operations(reader),
            Rules = RuleReader.Read(reader, ofService: false) ?? defaults.Rules,
            Faces = FaceReader.Read(reader),
            Rest = FaceReader.ReadRestSet(reader),
        };
    }

    private ImmutableArray<(Located<string>, Located<string>)> Renames(MappingReader reader)
    {
        var rename = reader.Pairs("rename");
        foreach (var (_, outside) in rename)
            Identifier(outside);
        return rename;
    }

    private (int? Page, int? Largest) Pages(MappingReader reader)
    {
        var (page, largest) = (reader.Number("page", 1, 1_000_000), reader.Number("largest-page", 1, 1_000_000));
        if (page > (largest ?? page))
            diagnostics.Error("page", $"'page' ({page}) is more than 'largest-page' ({largest}).", reader.KeyLocation("page"));
        return (page, largest);
    }

    /// <summary>What written rows must be, as a list under <c>valid</c>.</summary>
    private ImmutableArray<RowRuleDeclaration> RowRules(MappingReader set)
    {
        switch (set.Node("valid"))
        {
            case null:
                return [];
            case YamlSequence list:
                return
                [
                    .. list
                        .Items.Select(i =>
                            i is YamlMapping item
                                ? RowRule(new MappingReader(item, diagnostics))
                                : set.Wrong<RowRuleDeclaration>(
                                    i,
                                    "each rule under 'valid' holds names with values, such as 'where' and 'message'"
                                )
                        )
                        .OfType<RowRuleDeclaration>(),
                ];
            case var other:
                set.Wrong<RowRuleDeclaration>(other, "'valid' must be a list of rules");
                return [];
        }
    }

    private RowRuleDeclaration? RowRule(MappingReader reader)
    {
        var on = SetOperations.None;
        foreach (var word in reader.Texts("on"))
        {
            if (word.Value is "create" or "update")
                on |= Enum.Parse<SetOperations>(word.Value, ignoreCase: true);
            else
                diagnostics.Error(
                    "value-rule",
                    $"A rule about what is written is about create or update, not "
                        + $"'{word.Value}'.{NearestName.Hint(word.Value, ["create", "update"])}",
                    word.Location
                );
        }
        var rule = new RowRuleDeclaration(on == SetOperations.None ? SetOperations.Create | SetOperations.Update : on, reader.Location)
        {
            Where = reader.Text("where"),
            Unique = reader.Texts("unique"),
            Who = reader.Node("who") is null ? null : RuleReader.Who(reader, "who"),
            Column = reader.Text("column"),
            Message = reader.Text("message"),
        };
        reader.ReportUnknown("a rule under 'valid'");
        if (rule.Where is null == rule.Unique.IsEmpty)
            diagnostics.Error(
                "value-rule",
                "A rule under 'valid' says with 'where' what a row fulfils, or with 'unique' which columns no two rows share.",
                reader.Location
            );
        return rule;
    }

    private LogDeclaration? Log(MappingReader set)
    {
        if (set.Mapping("log") is not { } reader)
            return null;
        var table = reader.RequiredText("to", "the table that takes a row for each change");
        var columns = reader.Pairs("columns");
        reader.ReportUnknown("'log'");
        foreach (var (what, _) in columns.Where(c => !ChangeLog.Words.Contains(c.Item1.Value)))
            diagnostics.Error(
                "log",
                $"'{what.Value}' cannot be logged.{NearestName.Hint(what.Value, ChangeLog.Words)}",
                what.Location,
                $"Noted are {string.Join(", ", ChangeLog.Words)}."
            );
        if (table is not null && columns.IsEmpty)
            diagnostics.Error(
                "log",
                "'columns' is missing: what each column of the table takes.",
                reader.Location,
                "Write for example 'columns: { key: row_key, who: changed_by, when: changed_at, before: old, after: new }'."
            );
        return table is null || columns.IsEmpty ? null : new LogDeclaration(table, columns);
    }

    private DerivedDeclaration? Derived(Located<string> name, YamlNode node, MappingReader set)
    {
        Identifier(name);
        if (node is not YamlMapping mapping)
            return set.Wrong<DerivedDeclaration>(node, $"'{name.Value}' under 'derived' holds names with values");
        var reader = new MappingReader(mapping, diagnostics);
        var derived = new DerivedDeclaration(
            name,
            reader.Texts("when"),
            reader.Texts("columns"),
            reader.Text("from"),
            reader.Texts("hide")
        );
        reader.ReportUnknown("a derived type");
        if (derived.When.IsEmpty == derived.From is null)
            diagnostics.Error(
                "derived",
                $"'{name.Value}' needs either 'when', values of the discriminator, or 'from', a table of its own.",
                name.Location
            );
        return derived;
    }

    private static ChangesDeclaration? Changes(MappingReader set)
    {
        switch (set.Node("changes"))
        {
            case null:
                return null;
            case YamlScalar stamp:
                return new ChangesDeclaration(new Located<string>(stamp.Value, stamp.Location), null, null);
        }
        if (set.Mapping("changes") is not { } reader)
            return null;
        var own = reader.RequiredText("stamp", "the column that grows with every change");
        var log = reader.Mapping("deleted");
        var from = log?.RequiredText("from", "the table that keeps the keys of deleted rows");
        var at = log?.RequiredText("stamp", "its column that grows with every deletion");
        log?.ReportUnknown("'deleted'");
        reader.ReportUnknown("'changes'");
        return own is null || (log is not null && (from is null || at is null)) ? null : new ChangesDeclaration(own, from, at);
    }

    /// <summary>The columns of a search; <c>no</c> = none at all.</summary>
    private static ImmutableArray<Located<string>>? Search(MappingReader reader) =>
        reader.Texts("search") switch
        {
            { IsEmpty: true } => null,
            [{ Value: "no" or "none" or "false" }] => [],
            var columns => columns,
        };

    /// <summary>The full-text index of a search; null = none is named.</summary>
    private static Located<string>? SearchIndex(MappingReader set)
    {
        if (set.Node("search") is not YamlMapping || set.Mapping("search") is not { } reader)
            return null;
        var index = reader.RequiredText("index", "the full-text index of the table");
        reader.ReportUnknown("'search'");
        return index;
    }

    private ColumnDeclaration Column(Located<string> column, YamlNode node, MappingReader set)
    {
        if (node is YamlScalar { IsNothing: false } word)
            return new ColumnDeclaration(column) { Type = new Located<string>(word.Value, word.Location) };
        if (node is not YamlMapping mapping)
        {
            set.Wrong<string>(node, $"'{column.Value}' under 'columns' is a type, or holds names with values");
            return new ColumnDeclaration(column);
        }
        var reader = new MappingReader(mapping, diagnostics);
        foreach (var (old, current) in OlderWords.OfColumns)
            reader.ReportOlder(old, current);
        var declared = new ColumnDeclaration(column)
        {
            Type = reader.Text("type"),
            Format = reader.Text("format"),
            Unit = reader.Text("unit"),
            MeasuredIn = reader.Text("measured-in"),
            Unrepresentable = UnrepresentableWords.Read(reader, diagnostics),
            Currency = reader.Text("currency"),
            True = reader.Text("true"),
            False = reader.Text("false"),
            IsStream = reader.Flag("stream", false),
            MediaType = reader.Text("media-type"),
            MediaTypeColumn = reader.Text("media-type-column"),
            Name = Identifier(reader.Text("name")),
            Description = reader.Text("description"),
            Deprecation = AboutReader.Deprecated(reader),
            IsFilterable = reader.Flag("filter", true),
            IsSortable = reader.Flag("sort", true),
            IsRequired = reader.Flag("required", false),
            Access = Access(reader.Text("write")),
            Generate = reader.Text("generate"),
            Regenerate = reader.Text("regenerate"),
            Default = reader.Text("default"),
            Minimum = reader.Text("minimum"),
            Maximum = reader.Text("maximum"),
            MinLength = reader.Number("min-length", 0, int.MaxValue),
            MaxLength = reader.Number("max-length", 1, int.MaxValue),
            Pattern = reader.Text("pattern"),
            Values = reader.Texts("values"),
            Exists = reader.Text("exists"),
            RefersToAll = RefersToAll(reader.Text("references")),
            IsUnique = reader.Flag("unique", false),
            Message = reader.Text("message"),
        };
        if (new[] { declared.Generate, declared.Regenerate, declared.Default }.OfType<Located<string>>().ToList() is [_, var second, ..])
            diagnostics.Error(
                "generate",
                "'generate', 'regenerate' and 'default' exclude each other: each says where the value comes from.",
                second.Location
            );
        if (declared.MinLength > (declared.MaxLength ?? declared.MinLength))
            diagnostics.Error(
                "value-rule",
                $"'min-length' ({declared.MinLength}) is more than 'max-length' ({declared.MaxLength}).",
                reader.KeyLocation("min-length")
            );
        reader.ReportUnknown("a column");
        return declared;
    }

    private PropertyAccess Access(Located<string>? word)
    {
        switch (word?.Value)
        {
            case null or "always":
                return PropertyAccess.Full;
            case "create":
                return PropertyAccess.CreateOnly;
            case "never":
                return PropertyAccess.ReadOnly;
            default:
                diagnostics.Error(
                    "write",
                    $"'{word.Value}' does not say when a property may be "
                        + $"written.{NearestName.Hint(word.Value, ["always", "create", "never"])}",
                    word.Location,
                    "Write always, create or never."
                );
                return PropertyAccess.Full;
        }
    }

    private bool RefersToAll(Located<string>? word)
    {
        if (word?.Value is not (null or "visible" or "all"))
            diagnostics.Error(
                "value-rule",
                $"'{word.Value}' does not say which entities a value may refer to.{NearestName.Hint(word.Value, ["visible", "all"])}",
                word.Location,
                "Write visible (those that the caller may read) or all."
            );
        return word?.Value == "all";
    }

    private GroupDeclaration? Group(Located<string> name, YamlNode node, MappingReader set)
    {
        Identifier(name);
        if (node is YamlSequence or YamlScalar)
            return new GroupDeclaration(
                name,
                null,
                new MappingReader(
                    new YamlMapping([(new YamlScalar("columns", true, node.Location), node)], node.Location),
                    diagnostics
                ).Texts("columns")
            );
        if (node is not YamlMapping mapping)
            return set.Wrong<GroupDeclaration>(node, $"'{name.Value}' under 'group' is a list of columns");
        var reader = new MappingReader(mapping, diagnostics);
        var group = new GroupDeclaration(name, Identifier(reader.Text("type")), reader.Texts("columns"));
        reader.ReportUnknown("a group");
        if (group.Columns.IsEmpty)
            diagnostics.Error(
                "missing",
                "'columns' is missing: the columns of the group.",
                mapping.Location,
                "Write 'columns: [first, second]'."
            );
        return group;
    }

    private RelationDeclaration? Relation(Located<string> name, YamlNode node, MappingReader set)
    {
        Identifier(name);
        if (node is YamlScalar { IsNothing: false } target)
            return new RelationDeclaration(name, new Located<string>(target.Value, target.Location));
        if (node is not YamlMapping mapping)
            return set.Wrong<RelationDeclaration>(
                node,
                $"'{name.Value}' under 'relations' is the name of a set, or holds names with values"
            );
        var reader = new MappingReader(mapping, diagnostics);
        var to = reader.RequiredText("to", "the set that the relation leads to");
        var back = reader.Text("back");
        var hasBack = back?.Value is not ("no" or "none" or "false");
        var relation = to is null
            ? null
            : new RelationDeclaration(name, to)
            {
                On =
                    reader.Node("on") is YamlMapping
                        ? reader.Pairs("on")
                        : [.. reader.Texts("on").Select(o => (o, new Located<string>("", o.Location)))],
                Back = hasBack ? Identifier(back) : null,
                HasBack = hasBack,
                Through = reader.Text("through"),
                IsContained = reader.Flag("contained", false),
            };
        if (relation is { Through: not null, On.IsEmpty: false })
            diagnostics.Error(
                "relation",
                "'on' and 'through' exclude each other: the foreign keys of the table between the two say how it refers to them.",
                reader.KeyLocation("on")
            );
        if (relation is not null)
            reader.ReportUnknown("a relation");
        return relation;
    }

    private (Located<string>, bool) Order(Located<string> term)
    {
        var text = term.Value.Trim();
        return text.EndsWith(" desc", StringComparison.Ordinal)
            ? (term with { Value = text[..^5].TrimEnd() }, true)
            : (term with { Value = text.EndsWith(" asc", StringComparison.Ordinal) ? text[..^4].TrimEnd() : text }, false);
    }

    private Located<string>? Identifier(Located<string>? name)
    {
        if (name is { } given && !SimpleIdentifier.IsValid(given.Value))
            diagnostics.Error(
                "identifier",
                $"'{given.Value}' cannot be a public name: it takes letters, digits and '_', starts with no digit and has at "
                    + $"most 128 characters.",
                given.Location,
                $"Write for example '{SimpleIdentifier.From(given.Value)}'."
            );
        return name;
    }

    private SetOperations Operations(MappingReader reader)
    {
        if (reader.Node("allow") is null)
            return SetOperations.Read;
        var operations = SetOperations.None;
        foreach (var word in reader.Texts("allow"))
        {
            if (!OperationWords.Contains(word.Value))
            {
                diagnostics.Error(
                    "operation",
                    $"'{word.Value}' is not an operation.{NearestName.Hint(word.Value, OperationWords)}",
                    word.Location,
                    $"Operations: {string.Join(", ", OperationWords)}."
                );
                continue;
            }
            operations |= Enum.Parse<SetOperations>(word.Value, ignoreCase: true);
        }
        return operations;
    }
}
