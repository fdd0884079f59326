using System.CommandLine;
using RapidGable.Sources;
using RapidGable.UseCases;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable look</c>: what a source offers.</summary>
internal static class LookCommand
{
    public static Command Create()
    {
        var workspace = CommonOptions.Workspace();
        var name = new Argument<string?>("object")
        {
            Description = "A table or view to look at closely, or a pattern with * and ? to list.",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var source = new Option<string?>("--source") { Description = "Which source, when the workspace has several." };
        var rows = new Option<int>("--rows") { Description = "How many rows of the object to show.", DefaultValueFactory = _ => 3 };
        var tree = new Option<bool>("--tree")
        {
            Description = "Show everything as a tree: schemas, kinds, objects with their columns, routines with their parameters.",
        };
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "look",
            "See what a source offers: tables, views, columns, keys, relations and a few rows.",
            "gable look demo",
            "gable look demo station",
            "gable look demo 'visit*'",
            "gable look demo 'visit*' --tree",
            "gable look demo daily_summary --rows 10"
        )
        {
            workspace,
            name,
            source,
            rows,
            tree,
            json,
        };
        command.SetAction(
            (result, cancellation) =>
                RunAsync(
                    result.GetValue(workspace)!,
                    result.GetValue(name),
                    result.GetValue(source),
                    Math.Clamp(result.GetValue(rows), 0, 1000),
                    result.GetValue(tree),
                    result.GetValue(json),
                    cancellation
                )
        );
        return command;
    }

    private static async Task<int> RunAsync(
        string folder,
        string? name,
        string? sourceName,
        int rows,
        bool tree,
        bool json,
        CancellationToken cancellation
    )
    {
        await using var workspace = await Terminal.LoadAsync(folder, cancellation);
        var look = new SourceLook(workspace);
        if (look.Sources.Count == 0)
        {
            Terminal.WriteDiagnostics(workspace.Diagnostics);
            if (!workspace.Diagnostics.HasErrors)
                Console.Error.WriteLine("gable: the workspace has no sources. Write one in sources/, such as sources/main.yaml.");
            return 1;
        }
        if (name is null || tree || name.AsSpan().IndexOfAny('*', '?') >= 0)
            return WriteCatalogs([.. look.Catalogs(sourceName, name)], name is null, tree, json);
        try
        {
            WriteObject(await look.ObjectAsync(sourceName, name, rows, cancellation), json);
            return 0;
        }
        catch (SourceException exception)
        {
            Console.Error.WriteLine($"gable: '{name}' cannot be read: {exception.Message}");
            return 1;
        }
    }

    private static int WriteCatalogs(List<(ISource Source, SourceCatalog Catalog)> catalogs, bool isAll, bool tree, bool json)
    {
        var shown = catalogs.Where(c => isAll || !c.Catalog.Objects.IsEmpty || !c.Catalog.Routines.IsEmpty).ToList();
        foreach (var (source, catalog) in shown)
        {
            if (tree && !json)
                WriteTree(source, catalog);
            else
                WriteCatalog(source, catalog, json);
        }
        return shown.Count > 0 ? 0 : 1;
    }

    private static void WriteCatalog(ISource source, SourceCatalog catalog, bool json)
    {
        if (json)
        {
            Terminal.WriteJson(
                new
                {
                    source = source.Name,
                    address = source.Address,
                    objects = catalog.Objects.Select(Summary),
                    routines = catalog.Routines.Select(r => new
                    {
                        r.Schema,
                        r.Name,
                        r.Kind,
                        r.Parameters,
                        r.Returns,
                        r.Comment,
                    }),
                }
            );
            return;
        }
        Terminal.Out.MarkupLine(
            $"[bold]{Markup.Escape(source.Name)}[/]: {Markup.Escape(source.Address)}, {Terminal.Plural(catalog.Objects.Length, "object")}"
        );
        var table = new Table().Border(TableBorder.None).AddColumns("name", "kind", "columns", "key", "refers to");
        foreach (var item in catalog.Objects)
        {
            table.AddRow(
                Markup.Escape(catalog.ShortName(item)),
                item.Kind.Word(),
                item.Columns.Length.ToString(),
                item.PrimaryKey.Length > 0 ? Markup.Escape(string.Join(", ", item.PrimaryKey)) : "[olive]none[/]",
                item.Fault is { } fault
                    ? $"[red]{Markup.Escape(fault)}[/]"
                    : Markup.Escape(string.Join(", ", item.ForeignKeys.Select(f => f.TargetObject).Distinct()))
            );
        }
        Terminal.Out.Write(table);
        foreach (var routine in catalog.Routines)
            Terminal.Out.WriteLine($"{routine.Kind} {Signature(routine)}");
    }

    private static string Signature(SourceRoutine routine) =>
        $"{routine.Name}({string.Join(", ", routine.Parameters.Select(Words))})"
        + $"{(routine.Returns.Length == 0 || routine.Kind == "procedure" ? "" : " returns " + routine.Returns)}";

    private static string Words(RoutineParameter parameter) =>
        $"{(parameter.Direction == "in" ? "" : parameter.Direction + " ")}{parameter.Name} {parameter.DeclaredType}";

    private static void WriteTree(ISource source, SourceCatalog catalog)
    {
        var root = new Tree($"[bold]{Markup.Escape(source.Name)}[/]: {Markup.Escape(source.Address)}");
        foreach (var schema in catalog.Objects.Select(o => o.Schema).Concat(catalog.Routines.Select(r => r.Schema)).Distinct().Order())
        {
            IHasTreeNodes branch = schema is null ? root : root.AddNode(Markup.Escape(schema));
            foreach (var kind in catalog.Objects.Where(o => o.Schema == schema).GroupBy(o => o.Kind).OrderBy(g => g.Key))
            {
                var kinds = branch.AddNode($"[grey]{Terminal.Plural(kind.Count(), kind.Key.Word())}[/]");
                foreach (var item in kind)
                    WriteBranch(kinds, item);
            }
            foreach (var kind in catalog.Routines.Where(r => r.Schema == schema).GroupBy(r => r.Kind).OrderBy(g => g.Key))
            {
                var kinds = branch.AddNode($"[grey]{Terminal.Plural(kind.Count(), kind.Key)}[/]");
                foreach (var routine in kind)
                    kinds.AddNode(Markup.Escape(Signature(routine)));
            }
        }
        Terminal.Out.Write(root);
    }

    private static void WriteBranch(TreeNode kinds, SourceObject item)
    {
        var node = kinds.AddNode(
            $"[bold]{Markup.Escape(item.Name)}[/]{(item.Comment is { } comment ? $"  [grey]{Markup.Escape(comment)}[/]" : "")}"
        );
        if (item.Fault is { } fault)
            node.AddNode($"[red]{Markup.Escape(fault)}[/]");
        foreach (var column in item.Columns)
        {
            var marks = new List<string>();
            if (item.PrimaryKey.Contains(column.Name))
                marks.Add("key");
            if (item.UniqueKeys.Any(u => u.Length == 1 && u[0] == column.Name))
                marks.Add("unique");
            if (item.ForeignKeys.FirstOrDefault(f => f.Columns.Contains(column.Name)) is { } reference)
                marks.Add("-> " + reference.TargetObject);
            if (column.Type is null)
                marks.Add("left out");
            node.AddNode(
                $"{Markup.Escape(column.Name)} "
                    + $"[grey]{Markup.Escape(column.DeclaredType)}{(column.Nullable ? "" : " not null")}[/]"
                    + $"{(marks.Count == 0 ? "" : $" [green]{Markup.Escape(string.Join(", ", marks))}[/]")}"
            );
        }
    }

    private static object Summary(SourceObject item) =>
        new
        {
            item.Name,
            kind = item.Kind.Word(),
            columns = item.Columns.Select(c => new
            {
                c.Name,
                declaredType = c.DeclaredType,
                type = c.Type?.ToString(),
                c.Nullable,
                c.Reason,
            }),
            item.PrimaryKey,
            item.UniqueKeys,
            textIndexes = item.TextIndexes.Select(i => new { i.Name, i.Columns }),
            foreignKeys = item.ForeignKeys.Select(f => new
            {
                f.Columns,
                target = f.TargetObject,
                targetColumns = f.TargetColumns,
                f.OnDelete,
            }),
            item.Fault,
        };

    private static void WriteObject(LookedAtObject looked, bool json)
    {
        var (source, item, published, sample) = (looked.Source, looked.Item, looked.Published, looked.Rows);
        if (json)
        {
            Terminal.WriteJson(
                new
                {
                    source = source.Name,
                    @object = Summary(item),
                    published,
                    rows = sample.Select(r => item.Columns.Select((c, i) => (c.Name, r[i])).ToDictionary(p => p.Name, p => p.Item2)),
                }
            );
            return;
        }
        Terminal.Out.MarkupLine(
            $"[bold]{Markup.Escape(item.Name)}[/], {item.Kind.Word()} of {Markup.Escape(source.Name)}"
                + (published.Count > 0 ? $", published as {Markup.Escape(string.Join(", ", published))}" : ", not published")
        );
        var columns = new Table().Border(TableBorder.None).AddColumns("column", "declared", "published as", "null", "why");
        foreach (var column in item.Columns)
            columns.AddRow(
                Markup.Escape((item.PrimaryKey.Contains(column.Name) ? "* " : "  ") + column.Name),
                Markup.Escape(column.DeclaredType),
                Markup.Escape(column.Type?.ToString() ?? "(left out)"),
                column.Nullable ? "may be" : "never",
                $"[grey]{Markup.Escape(column.Reason)}[/]"
            );
        Terminal.Out.Write(columns);
        Terminal.Out.MarkupLine(
            item.PrimaryKey.Length > 0
                ? $"key: {Markup.Escape(string.Join(", ", item.PrimaryKey))}"
                : $"key: [olive]none; a declaration must name one[/]"
        );
        foreach (var unique in item.UniqueKeys)
            Terminal.Out.WriteLine($"unique: {string.Join(", ", unique)}");
        foreach (var index in item.TextIndexes)
            Terminal.Out.WriteLine($"full text: {index.Name}{(index.Columns.IsEmpty ? "" : $" ({string.Join(", ", index.Columns)})")}");
        foreach (var key in item.ForeignKeys)
            Terminal.Out.WriteLine(
                $"refers to: {key.TargetObject} ({string.Join(", ", key.Columns.Zip(key.TargetColumns, (o, t) => $"{o} = {t}"))})"
            );
        foreach (var other in looked.ReferredToBy)
            Terminal.Out.WriteLine($"referred to by: {other}");
        if (sample.Count > 0)
            WriteRows(item, sample);
    }

    private static void WriteRows(SourceObject item, IReadOnlyList<string?[]> sample)
    {
        Terminal.Out.WriteLine();
        if (item.Columns.Length <= 8)
        {
            var table = new Table().Border(TableBorder.Ascii2).AddColumns([.. item.Columns.Select(c => Markup.Escape(c.Name))]);
            foreach (var row in sample)
                table.AddRow([.. row.Select(v => v is null ? "[grey]null[/]" : Markup.Escape(v))]);
            Terminal.Out.Write(table);
            return;
        }
        // Wide rows stand one below the other.
        var width = item.Columns.Max(c => c.Name.Length);
        for (var r = 0; r < sample.Count; r++)
        {
            Terminal.Out.MarkupLine($"[bold]row {r + 1}[/]");
            for (var i = 0; i < item.Columns.Length; i++)
                Terminal.Out.MarkupLine(
                    $"  {Markup.Escape(item.Columns[i].Name.PadRight(width))}  "
                        + $"{(sample[r][i] is { } value ? Markup.Escape(value) : "[grey]null[/]")}"
                );
        }
    }
}
