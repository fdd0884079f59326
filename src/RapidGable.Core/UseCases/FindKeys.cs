using RapidGable.Building;
using RapidGable.Inspection;
using RapidGable.Sources;

namespace RapidGable.UseCases;

/// <summary>The keys of a table or view.</summary>
/// <param name="Item">With the keys that the database declares.</param>
/// <param name="Findings">What the rows say.</param>
public sealed record FoundKeys(SourceObject Item, KeyFindings Findings)
{
    /// <summary>Whether rows can be told apart at all.</summary>
    public bool HasKey => !Item.PrimaryKey.IsEmpty || !Findings.Candidates.IsEmpty;
}

/// <summary>Finds the columns that identify the rows of a table or view.</summary>
public sealed class FindKeys(LoadedWorkspace workspace)
{
    /// <param name="source">Null = the first source that has it.</param>
    /// <param name="progress">Is told what is counted.</param>
    /// <exception cref="NotPossibleException">There is no such source, or nothing of that name in it.</exception>
    /// <exception cref="SourceException">When it cannot be read.</exception>
    public async Task<FoundKeys> OfAsync(string? source, string name, Action<string> progress, CancellationToken cancellation)
    {
        var (holder, found) = new SourceLook(workspace).Find(source, name);
        var item = await holder.DescribeAsync(found, cancellation);
        return new FoundKeys(item, await KeyFinder.FindAsync(holder, item, workspace.Catalogs[holder.Name], progress, cancellation));
    }
}
