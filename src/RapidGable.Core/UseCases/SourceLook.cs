using System.IO.Enumeration;
using RapidGable.Building;
using RapidGable.Inspection;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.UseCases;

/// <summary>A table or view with what is known of it.</summary>
/// <param name="Item">Read anew from the database.</param>
/// <param name="Published">The sets that are made of it, as <c>service/set</c>.</param>
/// <param name="ReferredToBy">The names of those that refer to it.</param>
/// <param name="Rows">Its first rows, each value as short text; null = null.</param>
public sealed record LookedAtObject(
    ISource Source,
    SourceObject Item,
    IReadOnlyList<string> Published,
    IReadOnlyList<string> ReferredToBy,
    IReadOnlyList<string?[]> Rows
);

/// <summary>What the sources of a workspace offer. Faults of services keep nobody from looking at a source.</summary>
public sealed class SourceLook(LoadedWorkspace workspace)
{
    /// <summary>The names of the sources whose catalogs could be read.</summary>
    public IReadOnlyList<string> Sources { get; } = [.. workspace.Catalogs.Keys.Order(StringComparer.Ordinal)];

    /// <summary>Catalogs with the objects and routines that match.</summary>
    /// <param name="source">Null = all sources.</param>
    /// <param name="pattern">A name, with <c>*</c> and <c>?</c>; null = everything.</param>
    /// <exception cref="NotPossibleException">There is no such source.</exception>
    public IEnumerable<(ISource Source, SourceCatalog Catalog)> Catalogs(string? source, string? pattern)
    {
        Require(source);
        foreach (var name in Sources.Where(n => source is null || n == source))
        {
            var catalog = workspace.Catalogs[name];
            yield return (
                workspace.Sources[name],
                pattern is null
                    ? catalog
                    : catalog with
                    {
                        Objects = [.. catalog.Objects.Where(o => Offer.Matches(pattern, o))],
                        Routines = [.. catalog.Routines.Where(r => FileSystemName.MatchesSimpleExpression(pattern, r.Name))],
                    }
            );
        }
    }

    /// <summary>A table or view by its name.</summary>
    /// <param name="source">Null = the first source that has it.</param>
    /// <exception cref="NotPossibleException">There is no such source, or nothing of that name in it.</exception>
    public (ISource Source, SourceObject Item) Find(string? source, string name)
    {
        Require(source);
        foreach (var candidate in Sources.Where(n => source is null || n == source))
        {
            if (workspace.Catalogs[candidate].Find(name) is { } found)
                return (workspace.Sources[candidate], found);
        }
        var all = workspace.Catalogs.Values.SelectMany(c => c.Objects.Select(c.ShortName));
        throw new NotPossibleException(
            $"There is no table or view '{name}'{(source is null ? "" : $" in the source '{source}'")}.{NearestName.Hint(name, all)}"
        )
        {
            IsAbsent = true,
        };
    }

    private void Require(string? source)
    {
        if (source is not null && !Sources.Contains(source))
            throw new NotPossibleException($"There is no source '{source}'.{NearestName.Hint(source, Sources)}");
    }

    /// <summary>A table or view closely, with its first rows.</summary>
    /// <exception cref="NotPossibleException">As <see cref="Find"/>.</exception>
    /// <exception cref="SourceException">When it cannot be read.</exception>
    public async Task<LookedAtObject> ObjectAsync(string? sourceName, string name, int rows, CancellationToken cancellation)
    {
        var (source, found) = Find(sourceName, name);
        var item = await source.DescribeAsync(found, cancellation);
        var catalog = workspace.Catalogs[source.Name];
        return new LookedAtObject(
            source,
            item,
            Published(source.Name, item),
            [.. catalog.Objects.Where(o => o.ForeignKeys.Any(f => f.TargetObject == item.FullName)).Select(catalog.ShortName)],
            item.Fault is null ? await ObjectSample.ReadAsync(source, item, rows, cancellation) : []
        );
    }

    /// <summary>Rows of a table or view, in a chosen order and from a position on.</summary>
    /// <exception cref="NotPossibleException">As <see cref="Find"/>, or there is no such column.</exception>
    /// <exception cref="SourceException">When it cannot be read.</exception>
    public async Task<List<string?[]>> RowsAsync(string source, string name, SampleQuestion question, CancellationToken cancellation)
    {
        var (holder, found) = Find(source, name);
        var item = await holder.DescribeAsync(found, cancellation);
        try
        {
            return item.Fault is null ? await ObjectSample.ReadAsync(holder, item, question, cancellation) : [];
        }
        catch (ArgumentException exception)
        {
            throw new NotPossibleException(exception.Message);
        }
    }

    /// <summary>Tables and views with those that they refer to, and that refer to them.</summary>
    /// <param name="names">Of which; all must be there.</param>
    /// <param name="isWithNeighbours">Else the named ones alone.</param>
    /// <param name="most">How many at most; the named ones first.</param>
    /// <exception cref="NotPossibleException">As <see cref="Find"/>.</exception>
    public IReadOnlyList<SourceObject> Related(string source, IReadOnlyCollection<string> names, bool isWithNeighbours, int most)
    {
        var chosen = names.Select(n => Find(source, n).Item).DistinctBy(i => i.FullName).ToList();
        if (!isWithNeighbours)
            return [.. chosen.Take(most)];
        var catalog = workspace.Catalogs[source];
        var targets = chosen.SelectMany(c => c.ForeignKeys).Select(f => f.TargetObject).ToHashSet();
        var own = chosen.Select(c => c.FullName).ToHashSet();
        var around = catalog.Objects.Where(o => targets.Contains(o.FullName) || o.ForeignKeys.Any(f => own.Contains(f.TargetObject)));
        return [.. chosen.Concat(around).DistinctBy(o => o.FullName).Take(most)];
    }

    /// <summary>The sets that are made of a table or view, as <c>service/set</c>.</summary>
    public IReadOnlyList<string> Published(string source, SourceObject item)
    {
        var table = new TableSource(source, item.Schema, item.Name);
        return
        [
            .. from service in workspace.Services
            from set in service.Model.Sets
            where set.Source.Equals(table)
            select $"{service.Model.Service}/{set.Name}",
        ];
    }
}
