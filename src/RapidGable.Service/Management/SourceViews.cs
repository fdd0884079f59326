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

    /// <summary>Objects that a picture of relations shows.</summary>
    private const int MostRelated = 60;

    /// <summary>Columns of an object in such a picture.</summary>
    private const int MostColumns = 12;

    /// <summary>Tables and views with the foreign keys among them.</summary>
    /// <exception cref="NotPossibleException">There is no such source, or nothing of a name in it.</exception>
    public static RelatedObjects Related(LoadedWorkspace workspace, string source, string[] names, bool isWithNeighbours)
    {
        if (!workspace.Catalogs.TryGetValue(source, out var catalog))
            throw new NotPossibleException($"The workspace has no source '{source}' that can be read.");
        var look = new SourceLook(workspace);
        var found = look.Related(source, names, isWithNeighbours, MostRelated + 1);
        var shown = found.Take(MostRelated).ToList();
        var byName = shown.ToDictionary(o => o.FullName, catalog.ShortName);
        return new RelatedObjects(
            shown.Select(o =>
            {
                var keys = o.PrimaryKey.Concat(o.ForeignKeys.SelectMany(f => f.Columns)).Distinct().ToList();
                return new RelatedObject(
                    catalog.ShortName(o),
                    o.Kind.Word(),
                    o.PrimaryKey,
                    keys.Concat(o.Columns.Select(c => c.Name).Except(keys)).Take(MostColumns),
                    look.Published(source, o).Count > 0
                );
            }),
            shown.SelectMany(o =>
                o.ForeignKeys.Where(f => byName.ContainsKey(f.TargetObject))
                    .Select(f => new RelatedTie(catalog.ShortName(o), f.Columns, byName[f.TargetObject], f.TargetColumns))
            ),
            found.Count > MostRelated
        );
    }

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
            looked.ReferredToBy,
            item.Indexes.Select(i => i.AsEnumerable()),
            looked.Rows
        );
    }
}
