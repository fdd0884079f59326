using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Declarations;

/// <summary>A parameter of a query.</summary>
/// <param name="Column">What is said of its values, in the words that columns have.</param>
public sealed record ParameterDeclaration(Located<string> Name, ColumnDeclaration Column)
{
    /// <summary>A value must be given; else it is null, or the default.</summary>
    public bool IsRequired { get; init; } = true;

    public Located<string>? Default { get; init; }

    public Located<string>? Example { get; init; }

    /// <summary>The column of the key that it takes of the entity which the query is asked of; null = none.</summary>
    public Located<string>? Key { get; init; }

    /// <summary>The name that callers see; null = the same.</summary>
    public Located<string>? Public { get; init; }

    /// <summary>What of the caller the service takes for it; null = the caller gives it.</summary>
    public Located<string>? TakenFrom { get; init; }
}

/// <summary>What makes a set a query with a name.</summary>
/// <param name="Gives">How much it gives.</param>
public sealed record QueryDeclaration(ImmutableArray<ParameterDeclaration> Parameters, QueryResult Gives)
{
    /// <summary>The group that it stands in; null = none.</summary>
    public QueryGroup? Group { get; init; }

    /// <summary>It may change something.</summary>
    public bool Changes { get; init; }

    /// <summary>The declaration says whether it does; else the catalog says it of a routine.</summary>
    public bool IsChangesWritten { get; init; }

    /// <summary>It ends transactions by itself.</summary>
    public bool Commits { get; init; }

    /// <summary>It gives several results, which its columns name in their order.</summary>
    public bool HasResults { get; init; }

    /// <summary>The set of whose entities it is asked; null = of none.</summary>
    public Located<string>? BoundTo { get; init; }

    /// <summary>The set whose entities it gives; null = rows of its own.</summary>
    public Located<string>? Of { get; init; }

    /// <summary>The routine of the database that it calls; null = it has statements of its own.</summary>
    public Located<string>? Routine { get; init; }
}

/// <summary>Reads the queries of a service file.</summary>
internal sealed partial class SetReader
{
    /// <summary>The words for what a query gives.</summary>
    internal static readonly string[] ResultWords = ["rows", "row", "value", "nothing", "results"];

    /// <summary>The word for several results, which stand in one row.</summary>
    private const string Results = "results";

    /// <param name="textOf">The text of a file beside the service's; null = there is none, which is then reported.</param>
    public ImmutableArray<SetDeclaration> ReadQueries(
        MappingReader service,
        SetDefaults defaults,
        Func<Located<string>, Located<string>?> textOf
    )
    {
        return
        [
            .. Listed(service, defaults, textOf),
            .. Groups(service)
                .SelectMany(g =>
                {
                    var title = g.RequiredText("title", "what people call the group");
                    var group = new QueryGroup(title?.Value ?? "", g.Text("description")?.Value);
                    var isEnabled = g.Flag("enabled", true);
                    var queries = Listed(g, defaults, textOf);
                    g.ReportUnknown("a group of queries");
                    // What is switched off is read, so that faults are told, and not published.
                    return isEnabled ? queries.Select(q => q with { Query = q.Query! with { Group = group } }) : [];
                }),
        ];
    }

    private IEnumerable<MappingReader> Groups(MappingReader service)
    {
        switch (service.Node("query-groups"))
        {
            case null:
                return [];
            case YamlSequence list:
                return list
                    .Items.Select(i =>
                        i is YamlMapping mapping
                            ? new MappingReader(mapping, diagnostics)
                            : service.Wrong<MappingReader>(i, "a group of queries holds names with values, such as 'title' and 'queries'")
                    )
                    .OfType<MappingReader>()
                    .ToList();
            case var other:
                service.Wrong<MappingReader>(other, "'query-groups' must be a list");
                return [];
        }
    }

    private ImmutableArray<SetDeclaration> Listed(
        MappingReader holder,
        SetDefaults defaults,
        Func<Located<string>, Located<string>?> textOf
    )
    {
        switch (holder.Node("queries"))
        {
            case null:
                return [];
            case YamlSequence list:
                return
                [
                    .. list
                        .Items.Select(i =>
                            i is YamlMapping mapping
                                ? ReadQuery(new MappingReader(mapping, diagnostics), defaults, textOf)
                                : holder.Wrong<SetDeclaration>(i, "a query holds names with values, such as 'name' and 'select'")
                        )
                        .OfType<SetDeclaration>(),
                ];
            case var other:
                holder.Wrong<SetDeclaration>(other, "'queries' must be a list");
                return [];
        }
    }

    private SetDeclaration? ReadQuery(MappingReader reader, SetDefaults defaults, Func<Located<string>, Located<string>?> textOf)
    {
        var name = Identifier(reader.RequiredText("name", "the public name of the query"));
        var (select, file, routine) = (reader.Text("select"), reader.Text("file"), reader.Text("routine"));
        if (new[] { select, file, routine }.Count(w => w is not null) != 1)
            diagnostics.Error(
                "query",
                "A query has either a 'select', a 'file' that holds it, or a 'routine' of the database.",
                reader.Location,
                "Write 'select: SELECT …', 'file: NAME.sql' or 'routine: NAME'."
            );
        var text = select ?? (file is null ? null : textOf(file));
        var parameters = reader
            .Entries("parameters")
            .Select(p => Parameter(p.Name, p.Value, reader, routine is not null))
            .OfType<ParameterDeclaration>();
        var changes = reader.Flag("changes", false);
        var query = new QueryDeclaration([.. parameters], Gives(reader, changes || routine is not null))
        {
            Changes = changes,
            IsChangesWritten = reader.Node("changes") is not null,
            Commits = routine is not null && reader.Flag("commits", false),
            Routine = routine,
            HasResults = routine is not null && reader.Text("gives")?.Value == Results,
            Of = reader.Text("of"),
            BoundTo = reader.Text("bound-to"),
        };
        var key = reader.Texts("key");
        var (page, largest) = Pages(reader);
        if (changes)
            RefuseOfReading(reader);
        else if (query.Gives != QueryResult.Rows && (key.Length > 0 || page is not null || largest is not null))
            diagnostics.Error(
                "query",
                "A query that gives one row has neither a key nor pages.",
                reader.KeyLocation(
                    key.Length > 0 ? "key"
                    : page is not null ? "page"
                    : "largest-page"
                )
            );
        var rename = Renames(reader);
        var set = new SetDeclaration(name ?? new Located<string>("", reader.Location), reader.Location)
        {
            Source = reader.Text("source") ?? defaults.Source,
            Query = query,
            Select = text,
            Name = name,
            Written = reader.Names,
            TypeName = Identifier(reader.Text("type")),
            Description = reader.Text("description"),
            Deprecation = AboutReader.Deprecated(reader),
            Key = key,
            IsKeyless = key.IsEmpty,
            Hide = reader.Texts("hide"),
            Show = reader.Texts("show"),
            Rename = rename,
            Columns = [.. reader.Entries("columns").Select(c => Column(c.Name, c.Value, reader))],
            Groups = [.. reader.Entries("group").Select(g => Group(g.Name, g.Value, reader)).OfType<GroupDeclaration>()],
            Order = [.. reader.Texts("order").Select(Order)],
            Page = page ?? defaults.Page,
            LargestPage = largest ?? defaults.LargestPage,
            Rules = RuleReader.Read(reader, ofService: changes) ?? defaults.Rules,
            Operations = changes ? SetOperations.Call : SetOperations.Read,
            Faces = FaceReader.Read(reader),
            Rest = FaceReader.ReadRestSet(reader),
        };
        reader.ReportUnknown("a query");
        return name is null || (text ?? routine) is null ? null : set;
    }

    /// <summary>What an action has no use for: its rows come once, as its last statement gives them.</summary>
    private void RefuseOfReading(MappingReader reader)
    {
        foreach (var word in new[] { "key", "order", "page" })
        {
            if (reader.Node(word) is not null)
                diagnostics.Error(
                    "query",
                    $"'{word}' is about rows that are read in pages, and what changes something gives its rows once.",
                    reader.KeyLocation(word),
                    word == "order" ? "Write ORDER BY in the statement." : null
                );
        }
    }

    private QueryResult Gives(MappingReader reader, bool changes)
    {
        if (reader.Text("gives") is not { } word)
            return QueryResult.Rows;
        if (word.Value == Results)
        {
            if (reader.Node("routine") is null)
                diagnostics.Error("query", "Only a routine gives several results.", word.Location);
            return QueryResult.Row;
        }
        if (ResultWords.Contains(word.Value))
        {
            var gives = Enum.Parse<QueryResult>(word.Value, ignoreCase: true);
            if (gives == QueryResult.Nothing && !changes)
                diagnostics.Error("query", "What only reads gives something.", word.Location, "Write 'changes: true' if it changes rows.");
            return gives;
        }
        diagnostics.Error(
            "query",
            $"A query does not give '{word.Value}'.{NearestName.Hint(word.Value, ResultWords)}",
            word.Location,
            "Write rows, row (one at most), value (one column of it) or, if it changes something, nothing."
        );
        return QueryResult.Rows;
    }

    /// <param name="isOfRoutine">The catalog knows its type, and its name there may be any.</param>
    private ParameterDeclaration? Parameter(Located<string> name, YamlNode node, MappingReader query, bool isOfRoutine)
    {
        if (!isOfRoutine)
            Identifier(name);
        if (node is YamlScalar { IsNothing: false } word)
            return new ParameterDeclaration(name, new ColumnDeclaration(name) { Type = new Located<string>(word.Value, word.Location) });
        if (node is not YamlMapping mapping)
            return query.Wrong<ParameterDeclaration>(node, $"'{name.Value}' under 'parameters' is a type, or holds names with values");
        var reader = new MappingReader(mapping, diagnostics);
        var values = new ColumnDeclaration(name)
        {
            Type = isOfRoutine ? reader.Text("type") : reader.RequiredText("type", "the type of the parameter's values"),
            Description = reader.Text("description"),
            Format = reader.Text("format"),
            Unit = reader.Text("unit"),
            Minimum = reader.Text("minimum"),
            Maximum = reader.Text("maximum"),
            MinLength = reader.Number("min-length", 0, int.MaxValue),
            MaxLength = reader.Number("max-length", 1, int.MaxValue),
            Pattern = reader.Text("pattern"),
            Values = reader.Texts("values"),
            Message = reader.Text("message"),
        };
        var parameter = new ParameterDeclaration(name, values)
        {
            IsRequired = reader.Flag("required", true),
            Default = reader.Text("default"),
            Example = reader.Text("example"),
            TakenFrom = reader.Text("taken-from"),
            Key = reader.Text("key"),
            Public = isOfRoutine ? Identifier(reader.Text("name")) : null,
        };
        reader.ReportUnknown("a parameter");
        return parameter;
    }
}
