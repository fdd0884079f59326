using RapidGable.Building;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Service.Management;

/// <summary>What the management interface says of sources: the catalogs that were read last, and rows on request.</summary>
internal static class SourceViews
{
    public static object Summary(LoadedWorkspace workspace, string name) =>
        new
        {
            name,
            workspace.Sources[name].Address,
            objects = workspace.Catalogs.TryGetValue(name, out var catalog)
                ? catalog.Objects.Select(o =>
                    (object)
                        new
                        {
                            name = catalog.ShortName(o),
                            o.Schema,
                            kind = o.Kind.Word(),
                            columns = o.Columns.Select(c => c.Name),
                            key = o.PrimaryKey,
                            o.Comment,
                            o.Fault,
                            published = Published(workspace, name, o),
                        }
                )
                : [],
            routines = catalog?.Routines.Select(r => new
            {
                r.Schema,
                r.Name,
                r.Kind,
                parameters = r.Parameters.Select(p => $"{(p.Direction == "in" ? "" : p.Direction + " ")}{p.Name} {p.DeclaredType}"),
                r.Returns,
                r.Comment,
            })
                ?? [],
        };

    /// <summary>One object with its first rows.</summary>
    public static async Task<object> ObjectAsync(
        LoadedWorkspace workspace,
        string source,
        SourceObject found,
        int rows,
        CancellationToken cancellation
    )
    {
        var item = await workspace.Sources[source].DescribeAsync(found, cancellation);
        return new
        {
            name = workspace.Catalogs[source].ShortName(item),
            item.Schema,
            kind = item.Kind.Word(),
            item.Comment,
            item.Fault,
            published = Published(workspace, source, item),
            key = item.PrimaryKey,
            item.UniqueKeys,
            textIndexes = item.TextIndexes.Select(i => new { i.Name, i.Columns }),
            columns = item.Columns.Select(c => new
            {
                c.Name,
                c.DeclaredType,
                type = c.Type?.ToString(),
                c.Nullable,
                c.Reason,
                c.Comment,
                c.AllowedValues,
            }),
            foreignKeys = item.ForeignKeys.Select(f => new
            {
                f.Columns,
                target = f.TargetObject,
                f.TargetColumns,
            }),
            rows = item.Fault is null ? await ObjectSample.ReadAsync(workspace.Sources[source], item, rows, cancellation) : [],
        };
    }

    private static IEnumerable<string> Published(LoadedWorkspace workspace, string source, SourceObject item) =>
        workspace.Services.SelectMany(s =>
            s.Model.Sets.Where(e => e.Source.Equals(new TableSource(source, item.Schema, item.Name)))
                .Select(e => $"{s.Model.Service}/{e.Name}")
        );
}
