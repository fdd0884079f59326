using System.Collections.Immutable;
using RapidGable.Access;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Building;

/// <summary>A workspace read, connected and built; holds its sources open until it is disposed.</summary>
public sealed record LoadedWorkspace(
    WorkspaceDeclaration Declaration,
    ImmutableDictionary<string, ISource> Sources,
    ImmutableDictionary<string, SourceCatalog> Catalogs,
    ImmutableArray<BuiltService> Services,
    Diagnostics Diagnostics
) : IAsyncDisposable
{
    /// <summary>The number of the revision that it is; null = it was read from files.</summary>
    public int? Revision { get; init; }

    /// <summary>What the databases said of themselves.</summary>
    public CatalogRecord Record { get; init; } = CatalogRecord.Empty;

    /// <summary>The service of a name; null = there is none.</summary>
    public BuiltService? FindService(string name) => Services.FirstOrDefault(s => s.Model.Service == name);

    public async ValueTask DisposeAsync()
    {
        foreach (var source in Sources.Values)
            await source.DisposeAsync();
    }
}

/// <summary>Texts -> declaration -> open sources -> catalogs -> models.</summary>
public static class WorkspaceLoader
{
    /// <summary>The code of a source that is down, so that waiting may help.</summary>
    public const string SourceDown = "source-down";

    /// <summary>Loads a folder; whatever is wrong stands in the result's diagnostics, all at once.</summary>
    public static Task<LoadedWorkspace> LoadAsync(
        string folder,
        Func<string, string?> environment,
        CancellationToken cancellation,
        ISourcePolicy? policy = null
    ) => LoadAsync(new WorkspaceFolder(folder), environment, cancellation, policy: policy);

    /// <summary>Loads a workspace from wherever it is kept.</summary>
    /// <param name="environment">Gives the value of a variable, or null.</param>
    /// <param name="policy">Where sources may lead; null = anywhere.</param>
    /// <param name="former">What the databases said when the same texts were published; null = they are asked.</param>
    public static async Task<LoadedWorkspace> LoadAsync(
        IWorkspaceStore store,
        Func<string, string?> environment,
        CancellationToken cancellation,
        CatalogRecord? former = null,
        ISourcePolicy? policy = null
    )
    {
        var recorder = new CatalogRecorder(former);
        var (declaration, diagnostics) = WorkspaceReader.Read(store, environment);
        var sources = ImmutableDictionary.CreateBuilder<string, ISource>();
        var catalogs = ImmutableDictionary.CreateBuilder<string, SourceCatalog>();
        foreach (var item in declaration.Sources)
        {
            if (Open(item, declaration.Folder, diagnostics, policy) is not { } source)
                continue;
            sources[item.Name] = source;
            try
            {
                var catalog = recorder.CatalogOf(item.Name)
                    ?? Offer.Of(item.Offer, await source.ReadCatalogAsync(cancellation), diagnostics).With(item.Unrepresentable);
                catalogs[item.Name] = recorder.Watch(item.Name, catalog);
            }
            catch (SourceException exception)
            {
                var message = $"The source '{item.Name}' cannot be read: {exception.Message}";
                if (exception.MayComeBack)
                    diagnostics.Error("source-down", message, item.Location);
                else
                    diagnostics.Error("source", message, item.Location);
            }
        }
        ReportWritable(declaration, diagnostics);
        var repeats = declaration
            .Sources.Where(s => s.Repeats is not null && catalogs.ContainsKey(s.Name))
            .Select(s => RepeatsOf(s, catalogs[s.Name], diagnostics))
            .OfType<RepeatTable>()
            .ToImmutableDictionary(t => t.Source.Source);
        var described = sources.ToImmutableDictionary(s => s.Key, s => recorder.Listen(s.Value));
        var services = ImmutableArray.CreateBuilder<BuiltService>();
        foreach (var service in declaration.Services)
        {
            // What cannot be read has been reported; a service is built when all its sources can.
            if (service.Sets.Any(s => !catalogs.ContainsKey(s.Source.Value)))
                continue;
            try
            {
                var built = await ModelBuilder.BuildAsync(service, catalogs.ToImmutable(), described, diagnostics, cancellation);
                ReportWritable(declaration, built, diagnostics);
                ReportRules(service, built.Model, name => sources[name].Dialect, catalogs.ToImmutable(), diagnostics);
                services.Add(built with { Model = built.Model.Keeping(repeats) });
            }
            catch (SourceException exception)
            {
                diagnostics.Error(
                    "source",
                    $"A source of the service '{service.Name}' cannot be read: {exception.Message}",
                    service.Location
                );
            }
            catch (Exception exception) when (BuildGuard.IsUnexpected(exception))
            {
                diagnostics.Error(
                    "unexpected",
                    $"The service '{service.Name}' cannot be built, which is a fault of Rapid Gable: {exception.Message}",
                    service.Location
                );
            }
        }
        FaceBuilder.CheckBases([.. services.Select(s => (DeclarationOf(declaration, s), s.Model))], diagnostics);
        ReportFaces(declaration, services, diagnostics);
        return new LoadedWorkspace(declaration, sources.ToImmutable(), catalogs.ToImmutable(), services.ToImmutable(), diagnostics)
        {
            Record = recorder.Record,
        };
    }

    private static ServiceDeclaration DeclarationOf(WorkspaceDeclaration workspace, BuiltService service) =>
        workspace.Services.First(s => s.Name == service.Model.Service);

    /// <summary>Patterns of the workspace that put nothing on a face.</summary>
    private static void ReportFaces(WorkspaceDeclaration declaration, IEnumerable<BuiltService> services, Diagnostics diagnostics)
    {
        var names = services.SelectMany(s => s.Model.Sets.Select(e => $"{s.Model.Service}/{e.Name}").Append(s.Model.Service)).ToList();
        foreach (var pattern in declaration.Faces.SelectMany(f => f.Patterns))
        {
            if (!names.Exists(n => System.IO.Enumeration.FileSystemName.MatchesSimpleExpression(pattern.Value, n, ignoreCase: false)))
                diagnostics.Warning("faces", $"No service and no set matches '{pattern.Value}'.", pattern.Location);
        }
    }

    /// <summary>The conditions of rules must mean something to the model.</summary>
    private static void ReportRules(
        ServiceDeclaration service,
        EntityModel model,
        Func<string, SqlDialect> dialectOf,
        ImmutableDictionary<string, SourceCatalog> catalogs,
        Diagnostics diagnostics
    )
    {
        foreach (var rule in service.Sets.SelectMany(s => s.Rules).Where(r => r.Rows is not null || r.WithCheck is not null).Distinct())
        {
            var grant = rule.ToGrant();
            foreach (var set in model.Sets.Where(s => s.Rules.Any(g => g.ToString() == grant.ToString())))
            {
                foreach (var condition in new[] { rule.Rows, rule.WithCheck }.OfType<Located<string>>())
                {
                    if (!BoundRule.Bind(model, set, grant with { Rows = condition.Value }).Is(out var bound, out var fault))
                        diagnostics.Error(
                            "rule",
                            $"The condition of a rule of '{set.Name}' cannot be kept: {fault.Message}",
                            condition.Location,
                            fault.Pointer()
                        );
                    else if (bound.Condition is { } written && RuleIndexAdvice.Of(written, set, model, dialectOf, catalogs) is { } column)
                        diagnostics.Warning(
                            "rule-index",
                            $"A rule of '{set.Name}' compares '{column}' exactly, and its index sorts by a collation that does "
                                + $"not, so the rule reads all rows.",
                            condition.Location,
                            "Compare with eq, which the index serves, or give the column a collation that compares exactly."
                        );
                }
            }
        }
    }

    /// <summary>A set may allow changes only where its source does.</summary>
    private static void ReportWritable(WorkspaceDeclaration declaration, Diagnostics diagnostics)
    {
        var readOnly = declaration.Sources.Where(s => s.IsReadOnly).Select(s => s.Name).ToHashSet();
        foreach (
            var set in declaration
                .Services.SelectMany(s => s.Sets)
                .Where(s => (s.Operations & ~SetOperations.Read) != 0 && readOnly.Contains(s.Source.Value))
        )
            diagnostics.Error(
                "read-only",
                $"The source '{set.Source.Value}' is read-only, so '{set.From.Value}' cannot allow changes.",
                set.From.Location,
                $"Write 'read-only: false' in sources/{set.Source.Value}.yaml if its rows may be changed."
            );
    }

    /// <summary>A routine that may change something needs a source that may be changed, which is known with the catalog.</summary>
    private static void ReportWritable(WorkspaceDeclaration declaration, BuiltService built, Diagnostics diagnostics)
    {
        var readOnly = declaration.Sources.Where(s => s.IsReadOnly).Select(s => s.Name).ToHashSet();
        var routines = declaration
            .Services.First(s => s.Name == built.Model.Service)
            .Sets.Where(s => s.Query?.Routine is not null)
            .ToDictionary(s => s.Name!.Value, s => s.Query!.Routine!);
        foreach (var set in built.Model.Sets.Where(s => s.IsAction && readOnly.Contains(s.Source.Source)))
        {
            if (routines.TryGetValue(set.Name, out var routine))
                diagnostics.Error(
                    "read-only",
                    $"The source '{set.Source.Source}' is read-only, and '{routine.Value}' may change something.",
                    routine.Location,
                    $"Write 'changes: false' if it only reads, or 'read-only: false' in sources/{set.Source.Source}.yaml."
                );
        }
    }

    /// <summary>The table that keeps the answers of repeatable requests; null = it cannot, which is then reported.</summary>
    private static RepeatTable? RepeatsOf(SourceDeclaration source, SourceCatalog catalog, Diagnostics diagnostics)
    {
        var name = source.Repeats!;
        const string Advice =
            "It is made with: CREATE TABLE gable_repeats (id VARCHAR(200) NOT NULL PRIMARY KEY, answer TEXT NOT NULL, at TIMESTAMP).";
        if (catalog.Find(name.Value) is not { Kind: SourceObjectKind.Table } table)
        {
            diagnostics.Error(
                "repeats",
                $"The source '{source.Name}' has no table "
                    + $"'{name.Value}'.{NearestName.Hint(name.Value, catalog.Objects.Select(catalog.ShortName))}",
                name.Location,
                Advice
            );
            return null;
        }
        Property? Column(string column, EdmKind kind) =>
            table.Column(column) is { Type: { } type } found && type.Kind == kind
                ? new Property(found.Name, type, found.Nullable, found.Name, found.StorageForm)
                : null;
        if (table.PrimaryKey is ["id"] && Column("id", EdmKind.String) is { } id && Column("answer", EdmKind.String) is { } answer)
            return new RepeatTable(
                new TableSource(source.Name, table.Schema, table.Name),
                id,
                answer,
                Column("at", EdmKind.DateTimeOffset)
            );
        diagnostics.Error("repeats", $"The table '{name.Value}' needs a text 'id' as its key and a text 'answer'.", name.Location, Advice);
        return null;
    }

    /// <summary>Opens a declared source, without connecting; null when its settings are wrong, which is then reported.</summary>
    /// <param name="policy">Where sources may lead; null = anywhere.</param>
    public static ISource? Open(SourceDeclaration declaration, string folder, Diagnostics diagnostics, ISourcePolicy? policy = null)
    {
        if (EngineRegistry.Find(declaration.Engine.Value) is not { } engine)
        {
            var names = EngineRegistry.All.Select(e => e.Name).ToList();
            diagnostics.Error(
                "no-engine",
                $"There is no engine '{declaration.Engine.Value}'.{NearestName.Hint(declaration.Engine.Value, names)}",
                declaration.Engine.Location,
                $"Engines: {string.Join(", ", names)}."
            );
            return null;
        }
        var faults = new List<SettingFault>();
        ISource? source = null;
        try
        {
            source = engine.Open(declaration.Name, folder, declaration.Settings.ToDictionary(s => s.Key, s => s.Value.Value), faults);
        }
        catch (Exception exception) when (BuildGuard.IsUnexpected(exception))
        {
            // What the library says of it may quote a value.
            faults.Add(new SettingFault(null, $"The settings of '{declaration.Name}' cannot be used ({exception.GetType().Name})."));
        }
        if (source is not null && policy?.Refusal(declaration, folder, source.Host) is { } refusal)
        {
            diagnostics.Error("source-refused", refusal, declaration.Location);
            return null;
        }
        foreach (var fault in faults)
        {
            var place =
                fault.Setting is not null && declaration.Settings.TryGetValue(fault.Setting, out var setting)
                    ? setting.Location
                    : declaration.Location;
            diagnostics.Error("source-setting", fault.Message, place, fault.Advice);
        }
        return source;
    }
}
