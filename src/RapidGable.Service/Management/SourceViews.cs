using RapidGable.Building;
using RapidGable.Service.Management.Contracts;
using RapidGable.Sources;
using RapidGable.UseCases;

namespace RapidGable.Service.Management;

/// <summary>What the management interface says of sources: the catalogs that were read last, and rows on request.</summary>
internal static class SourceViews
{
    public static SourceSummary Summary(LoadedWorkspace workspace, string name)
    {
        var catalog = workspace.Catalogs.GetValueOrDefault(name);
        return new SourceSummary(
            name,
            workspace.Sources[name].Address,
            workspace.Declaration.Sources.FirstOrDefault(s => s.Name == name)?.Title,
            workspace.Declaration.Sources.FirstOrDefault(s => s.Name == name)?.Description,
            // Tables first, as a draft writes them.
            catalog?.Objects.OrderBy(o => o.Kind == SourceObjectKind.Table ? 0 : 1).Select(o => Summary(workspace, name, catalog, o))
                ?? [],
            catalog?.Routines.Select(Routine) ?? []
        );
    }

    private static ObjectSummary Summary(LoadedWorkspace workspace, string source, SourceCatalog catalog, SourceObject item) =>
        new(
            catalog.ShortName(item),
            item.Schema,
            item.Kind.Word(),
            item.Columns.Select(c => c.Name),
            item.PrimaryKey,
            item.Comment,
            item.Fault,
            new SourceLook(workspace).Published(source, item)
        );

    private static RoutineInfo Routine(SourceRoutine routine) =>
        new(
            routine.Schema,
            routine.Name,
            routine.Kind,
            routine.Parameters.Select(p => $"{(p.Direction == "in" ? "" : p.Direction + " ")}{p.Name} {p.DeclaredType}"),
            routine.Returns,
            routine.Comment
        );

    /// <summary>One object with its first rows.</summary>
    public static ObjectDetails Details(SourceCatalog catalog, LookedAtObject looked)
    {
        var item = looked.Item;
        return new ObjectDetails(
            catalog.ShortName(item),
            item.Schema,
            item.Kind.Word(),
            item.Comment,
            item.Fault,
            looked.Published,
            item.PrimaryKey,
            item.UniqueKeys.Select(k => k.AsEnumerable()),
            item.TextIndexes.Select(i => new TextIndexInfo(i.Name, i.Columns)),
            item.Columns.Select(c => new ColumnInfo(
                c.Name,
                c.DeclaredType,
                c.Type?.ToString(),
                c.Nullable,
                c.Reason,
                c.Comment,
                c.AllowedValues
            )),
            item.ForeignKeys.Select(f => new ForeignKeyInfo(f.Columns, f.TargetObject, f.TargetColumns)),
            looked.Rows
        );
    }
}
