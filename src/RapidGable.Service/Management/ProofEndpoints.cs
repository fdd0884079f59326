using System.Collections.Immutable;
using System.Text.Json;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Drafting;
using RapidGable.Inspection;
using RapidGable.Model;
using RapidGable.Service.Auditing;
using RapidGable.Service.Identity;
using RapidGable.Service.Management.Contracts;
using RapidGable.Service.Publishing;
using RapidGable.UseCases;

namespace RapidGable.Service.Management;

/// <summary>
/// What the rows say of a draft: types that a column could have, and rows that break a rule, refer to nothing or share a key.
/// </summary>
internal static class ProofEndpoints
{
    private sealed record ColumnBody(string? Service, string? Text, int Set, string? Column);

    private sealed record OrphansBody(string? Service, string? Text, int Set, string? Relation);

    /// <param name="Condition">In the filter language.</param>
    private sealed record ConditionBody(string? Service, string? Text, int Set, string? Condition);

    public static void Map(RouteGroupBuilder manage, ServiceRegistry registry, TimeProvider time)
    {
        manage
            .Needing(ManagementRights.Write)
            .MapPost("/draft/column", (HttpContext context, Draft draft, DraftFolder folder, AuditLog audit) => StateGuard.GuardAsync(
                    async () =>
                    {
                        var body = await StateGuard.BodyAsync<ColumnBody>(context);
                        return EditedService.Read(body.Service, body.Text, folder, out var fault) is not { } edited
                            ? fault!
                            : await ProgressAnswer.RunAsync(context, $"'{body.Column}'", time, async (progress, cancellation) =>
                            {
                                Note(context, audit, $"read column {body.Column} of {body.Service} in the draft");
                                await using var workspace = await edited.LoadAsync(draft, registry, cancellation);
                                return await ColumnAsync(workspace, edited.Name, body.Set, body.Column ?? "", progress, cancellation);
                            });
                    }
                ));
        manage
            .Needing(ManagementRights.Write)
            .MapPost("/draft/orphans", (HttpContext context, Draft draft, DraftFolder folder, AuditLog audit) => StateGuard.GuardAsync(
                    async () =>
                    {
                        var body = await StateGuard.BodyAsync<OrphansBody>(context);
                        return EditedService.Read(body.Service, body.Text, folder, out var fault) is not { } edited
                            ? fault!
                            : await ProgressAnswer.RunAsync(context, $"'{body.Relation}'", time, async (_, cancellation) =>
                            {
                                Note(context, audit, $"counted orphans of {body.Relation} of {body.Service} in the draft");
                                await using var workspace = await edited.LoadAsync(draft, registry, cancellation);
                                return await OrphansAsync(workspace, edited.Name, body.Set, body.Relation ?? "", cancellation);
                            });
                    }
                ));
        manage
            .Needing(ManagementRights.Write)
            .MapPost("/draft/condition", (HttpContext context, Draft draft, DraftFolder folder) => StateGuard.GuardAsync(async () =>
                {
                    var body = await StateGuard.BodyAsync<ConditionBody>(context);
                    return EditedService.Read(body.Service, body.Text, folder, out var fault) is not { } edited
                        ? fault!
                        : await ProgressAnswer.RunAsync(context, "The set", time, async (_, cancellation) =>
                        {
                            var all = await CountAsync(edited, draft, registry, body.Set, null, time, cancellation);
                            var fulfilling = await CountAsync(edited, draft, registry, body.Set, body.Condition ?? "", time, cancellation);
                            return new ConditionCount(all, all - fulfilling);
                        });
                }));
        manage
            .Needing(ManagementRights.Write)
            .MapGet("/sources/{source}/duplicates", (string source, string? name, string[] column, HttpContext context, AuditLog audit) =>
                ProgressAnswer.RunAsync(context, $"'{name}'", time, async (_, cancellation) =>
                {
                    Note(context, audit, $"looked for duplicates in {name} of {source}");
                    return await DoubledAsync(registry.Workspace, source, name ?? "", column, cancellation);
                })
            );
    }

    private static void Note(HttpContext context, AuditLog audit, string what) =>
        audit.Managed(context, AccountEndpoints.AdministratorOf(context), what);

    private static SetDesign DesignOf(LoadedWorkspace workspace, string service, int index) =>
        ServiceDesign.Of(workspace, service)?.Sets.FirstOrDefault(s => s.Index == index)
        ?? throw new NotPossibleException("The draft has no such set; mend its faults first.");

    private static EntitySet BuiltOf(SetDesign set) =>
        set.Built ?? throw new NotPossibleException($"'{set.Name}' has faults and is not published; mend them first.");

    private static async Task<object> ColumnAsync(
        LoadedWorkspace workspace,
        string service,
        int index,
        string name,
        Action<string> progress,
        CancellationToken cancellation
    )
    {
        var set = DesignOf(workspace, service, index);
        if (set.Item?.Column(name) is not { } column)
            throw new NotPossibleException($"'{set.From}' is no table or view with a column '{name}'.");
        var property = set
            .Built?.Type.Properties.SelectMany(p => p.Leaves)
            .Concat(set.Built.Type.Hidden)
            .FirstOrDefault(p => p.Column == name);
        var found = await ColumnLook.RunAsync(
            workspace.Sources[set.Source],
            new TableSource(set.Source, set.Item.Schema, set.Item.Name),
            column,
            property,
            rows => progress($"{rows:N0} rows"),
            cancellation
        );
        return new ColumnLookInfo(
            found.Rows,
            found.Nulls,
            found.Values.Select(v => new ValueCountInfo(v.Value, v.Rows)),
            found.Offers.Select(o => new ConversionOfferInfo(o.Words.ToDictionary(w => w.Word, w => w.Value), o.Misfits, o.Example)),
            found.Breaks,
            found.BreakExamples,
            EnumerationDraft.Members(found.Values.Select(v => v.Value))
        );
    }

    private static async Task<object> OrphansAsync(
        LoadedWorkspace workspace,
        string service,
        int index,
        string relation,
        CancellationToken cancellation
    )
    {
        var set = BuiltOf(DesignOf(workspace, service, index));
        var model = workspace.FindService(service)!.Model;
        if (set.Type.Navigations.FirstOrDefault(n => n.Name == relation) is not { } navigation)
            throw new NotPossibleException($"'{set.Name}' has no relation '{relation}'.");
        var target = model.Target(navigation);
        if (OrphanCount.Obstacle(set, navigation, target) is { } obstacle)
            throw new NotPossibleException(obstacle);
        var found = await OrphanCount.RunAsync(set, navigation, target, workspace.Sources, cancellation);
        return new OrphansInfo(found.Holder, found.Referring, found.Orphans, found.Examples);
    }

    /// <summary>Rows of a set that fulfil a condition, counted the way in which rules about rows are kept.</summary>
    /// <param name="condition">Null = all rows.</param>
    private static async Task<long> CountAsync(
        EditedService edited,
        Draft draft,
        ServiceRegistry registry,
        int index,
        string? condition,
        TimeProvider time,
        CancellationToken cancellation
    )
    {
        // The set is opened to everybody in a copy of the text that nobody else sees.
        var rule = condition is null
            ? new Dictionary<string, string> { ["who"] = "anyone", ["may"] = "read" }
            : new Dictionary<string, string>
            {
                ["who"] = "anyone",
                ["may"] = "read",
                ["rows"] = condition,
            };
        ImmutableArray<YamlEdit.Step> PathTo(string word) => [word];
        var text = DesignEdit.Apply(
            edited.Text,
            new DesignChange(index, PathTo("rules"), JsonSerializer.SerializeToElement(new[] { rule }))
        );
        text = DesignEdit.Apply(text, new DesignChange(index, PathTo("allow"), JsonSerializer.SerializeToElement("read")));
        text = DesignEdit.Apply(text, new DesignChange(index, PathTo("require-filter"), null));
        await using var workspace = await (edited with { Text = text }).LoadAsync(draft, registry, cancellation);
        var set = DesignOf(workspace, edited.Name, index);
        if (set.Built is null)
            throw new NotPossibleException(
                workspace.Diagnostics.Items.FirstOrDefault(d => d.Location.File == edited.File)?.Message ?? "The condition has faults."
            );
        var service = workspace.Service(edited.Name);
        var counted = await new SampleRows(service, Caller.Anonymous, time.GetUtcNow().UtcDateTime).OfAsync(set.Name, 1, cancellation);
        return counted.Is(out var rows, out var fault) ? rows.Total : throw new NotPossibleException(fault.Message);
    }

    private static async Task<object> DoubledAsync(
        LoadedWorkspace workspace,
        string source,
        string name,
        string[] columns,
        CancellationToken cancellation
    )
    {
        var (holder, found) = new SourceLook(workspace).Find(source, name);
        var item = await holder.DescribeAsync(found, cancellation);
        var chosen = columns
            .Select(c => item.Column(c) ?? throw new NotPossibleException($"There is no column '{c}' in '{name}'."))
            .ToList();
        if (chosen.Count == 0)
            throw new NotPossibleException("Name a column at least.");
        if (chosen.Find(c => !c.MayBeKey) is { } unfit)
            throw new NotPossibleException($"'{unfit.Name}' is of a type that cannot be part of a key.");
        var doubled = await DoubledKeys.FindAsync(holder, item, chosen, cancellation);
        return new DoubledKeysInfo(
            doubled.Groups,
            doubled.Nulls,
            chosen.Select(c => c.Name),
            doubled.Examples.Select(e => new DoubledKeyInfo(e.Values, e.Rows))
        );
    }
}
