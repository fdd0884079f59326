using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Drafting;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.UseCases;

/// <summary>A drafted service file.</summary>
/// <param name="File">Relative to the workspace's folder, with slashes.</param>
/// <param name="Before">Its text so far; null = it was not there.</param>
public sealed record DraftedFile(string File, string? Before, DraftResult Draft)
{
    public bool IsChanged => Draft.Text != Before;
}

/// <summary>Adds tables and views to a service, as a short declaration that people go on with.</summary>
public sealed class DraftService(LoadedWorkspace workspace, string service)
{
    /// <summary>The file of the service.</summary>
    public string File => $"services/{service}.yaml";

    private string FullPath => Path.Combine(workspace.Declaration.Folder, File);

    /// <summary>Whether the file is there and cannot be read as YAML, so that nothing can be added to it.</summary>
    public bool IsUnreadable =>
        workspace.Diagnostics.Items.Any(d =>
            d.Severity == Severity.Error && d.Location.File == File && d.Code.StartsWith("yaml", StringComparison.Ordinal)
        );

    /// <summary>Drafts without writing.</summary>
    /// <param name="patterns">Tables and views, by name or with <c>*</c> and <c>?</c>; empty = all.</param>
    /// <param name="sourceName">Null = that of the service, or the only one.</param>
    /// <param name="progress">Is told what is looked at.</param>
    /// <exception cref="NotPossibleException">The name, the source or a pattern fits nothing.</exception>
    /// <exception cref="InvalidDataException">The file has a form that nothing can be added to.</exception>
    /// <exception cref="SourceException">When a table or view cannot be read.</exception>
    public async Task<DraftedFile> DraftAsync(
        IReadOnlyCollection<string> patterns,
        string? sourceName,
        Action<string> progress,
        CancellationToken cancellation
    )
    {
        if (!WorkspaceReader.IsServiceName(service))
            throw new NotPossibleException(
                $"'{service}' cannot be a service's name: it takes small letters, digits, '-' and '_', and starts with a letter."
            );
        var existing = workspace.Declaration.Services.FirstOrDefault(s => s.Name == service);
        var source = Source(sourceName ?? existing?.Source.Value);
        var catalog = workspace.Catalogs[source.Name];
        foreach (var pattern in patterns.Where(p => !catalog.Objects.Any(o => Offer.Matches(p, o))))
            throw new NotPossibleException(
                $"The source '{source.Name}' has no table or view "
                    + $"'{pattern}'.{NearestName.Hint(pattern, catalog.Objects.Select(catalog.ShortName))}"
            );
        var text = System.IO.File.Exists(FullPath) ? await System.IO.File.ReadAllTextAsync(FullPath, cancellation) : null;
        var draft = await ServiceDraft.WriteAsync(
            text,
            service,
            existing,
            source,
            catalog,
            existing?.Names ?? workspace.Declaration.Names,
            [.. catalog.Objects.Where(o => patterns.Count == 0 || patterns.Any(p => Offer.Matches(p, o)))],
            patterns,
            progress,
            cancellation
        );
        return new DraftedFile(File, text, draft);
    }

    /// <summary>Tables and views with everything that they refer to by foreign keys, directly or over others.</summary>
    /// <exception cref="NotPossibleException">There is no such source.</exception>
    public IReadOnlyList<string> WithReferred(IReadOnlyCollection<string> names, string? sourceName)
    {
        var source = Source(sourceName ?? workspace.Declaration.Services.FirstOrDefault(s => s.Name == service)?.Source.Value);
        var catalog = workspace.Catalogs[source.Name];
        var found = new List<SourceObject>();
        var waiting = new Queue<SourceObject>(catalog.Objects.Where(o => names.Any(n => Offer.Matches(n, o))));
        while (waiting.TryDequeue(out var item))
        {
            if (found.Contains(item))
                continue;
            found.Add(item);
            foreach (var target in item.ForeignKeys.Select(f => catalog.Find(f.TargetObject)).OfType<SourceObject>())
                waiting.Enqueue(target);
        }
        return [.. names.Concat(found.Select(catalog.ShortName)).Distinct()];
    }

    /// <summary>Writes what was drafted; the same text is not written again.</summary>
    public async Task SaveAsync(DraftedFile drafted, CancellationToken cancellation)
    {
        if (!drafted.IsChanged)
            return;
        Directory.CreateDirectory(Path.GetDirectoryName(FullPath)!);
        await System.IO.File.WriteAllTextAsync(FullPath, drafted.Draft.Text, cancellation);
    }

    private ISource Source(string? name)
    {
        var names = workspace.Catalogs.Keys.Order(StringComparer.Ordinal).ToList();
        if (names.Count == 0)
            throw new NotPossibleException("The workspace has no source whose catalog can be read.");
        if (name is null && names.Count > 1)
            throw new NotPossibleException($"The workspace has several sources; say which with --source: {string.Join(", ", names)}.");
        name ??= names[0];
        return workspace.Catalogs.ContainsKey(name)
            ? workspace.Sources[name]
            : throw new NotPossibleException($"There is no source '{name}'.{NearestName.Hint(name, names)}");
    }
}
