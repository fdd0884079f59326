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

    /// <summary>What of the caller the service takes for it; null = the caller gives it.</summary>
    public Located<string>? TakenFrom { get; init; }
}

/// <summary>What makes a set a query with a name.</summary>
/// <param name="Gives">How much it gives.</param>
public sealed record QueryDeclaration(ImmutableArray<ParameterDeclaration> Parameters, QueryResult Gives)
{
    /// <summary>The group that it stands in; null = none.</summary>
    public QueryGroup? Group { get; init; }
}

/// <summary>Reads the queries of a service file.</summary>
internal sealed partial class SetReader
{
    /// <summary>The words for what a query gives.</summary>
    internal static readonly string[] ResultWords = ["rows", "row", "value"];

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
        var (select, file) = (reader.Text("select"), reader.Text("file"));
        if (select is null == file is null)
            diagnostics.Error(
                "query",
                "A query has either a 'select' or a 'file' that holds it.",
                reader.Location,
                "Write 'select: SELECT …' or 'file: NAME.sql'."
            );
        var text = select ?? (file is null ? null : textOf(file));
        var parameters = reader.Entries("parameters").Select(p => Parameter(p.Name, p.Value, reader)).OfType<ParameterDeclaration>();
        var query = new QueryDeclaration([.. parameters], Gives(reader));
        var key = reader.Texts("key");
        var (page, largest) = Pages(reader);
        if (query.Gives != QueryResult.Rows && (key.Length > 0 || page is not null || largest is not null))
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
            Rules = RuleReader.Read(reader, ofService: false) ?? defaults.Rules,
            Faces = FaceReader.Read(reader),
            Rest = FaceReader.ReadRestSet(reader),
        };
        reader.ReportUnknown("a query");
        return name is null || text is null ? null : set;
    }

    private QueryResult Gives(MappingReader reader)
    {
        if (reader.Text("gives") is not { } word)
            return QueryResult.Rows;
        if (ResultWords.Contains(word.Value))
            return Enum.Parse<QueryResult>(word.Value, ignoreCase: true);
        diagnostics.Error(
            "query",
            $"A query does not give '{word.Value}'.{NearestName.Hint(word.Value, ResultWords)}",
            word.Location,
            "Write rows, row (one at most) or value (one column of it)."
        );
        return QueryResult.Rows;
    }

    private ParameterDeclaration? Parameter(Located<string> name, YamlNode node, MappingReader query)
    {
        Identifier(name);
        if (node is YamlScalar { IsNothing: false } word)
            return new ParameterDeclaration(name, new ColumnDeclaration(name) { Type = new Located<string>(word.Value, word.Location) });
        if (node is not YamlMapping mapping)
            return query.Wrong<ParameterDeclaration>(node, $"'{name.Value}' under 'parameters' is a type, or holds names with values");
        var reader = new MappingReader(mapping, diagnostics);
        var values = new ColumnDeclaration(name)
        {
            Type = reader.RequiredText("type", "the type of the parameter's values"),
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
        };
        reader.ReportUnknown("a parameter");
        return parameter;
    }
}
