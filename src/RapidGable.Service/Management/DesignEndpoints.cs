using System.Collections.Immutable;
using System.Text.Json.Nodes;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Drafting;
using RapidGable.Expressions;
using RapidGable.Service.Auditing;
using RapidGable.Service.Identity;
using RapidGable.Service.Management.Contracts;
using RapidGable.Service.Publishing;
using RapidGable.Sources;
using RapidGable.UseCases;

namespace RapidGable.Service.Management;

/// <summary>The parts of the management interface behind the forms for a service: its design, changes of it, and rows to try.</summary>
internal static class DesignEndpoints
{
    private const int MostChanges = 1_000;
    private const int SampledRows = 5;

    /// <param name="Text">The file as it is being changed; missing = as it is written.</param>
    private sealed record DesignBody(string? Service, string? Text, IReadOnlyList<DesignChangeInfo>? Changes);

    /// <param name="As">A user, or roles joined by commas; missing = anonymous.</param>
    private sealed record RowsBody(string? Service, string? Text, string? Set, string? As);

    public static void Map(RouteGroupBuilder manage, ServiceRegistry registry, TimeProvider time)
    {
        manage.MapPost("/draft/design", (HttpContext context, Draft draft, DraftFolder folder, IAccountStore accounts) =>
            StateGuard.GuardAsync(() => DesignAsync(context, draft, folder, registry, accounts))
        );
        manage.MapPost("/draft/rows", (HttpContext context, Draft draft, DraftFolder folder, IAccountStore accounts, AuditLog audit) =>
            StateGuard.GuardAsync(() => RowsAsync(context, draft, folder, registry, accounts, audit, time))
        );
    }

    private static async Task<IResult> DesignAsync(
        HttpContext context,
        Draft draft,
        DraftFolder folder,
        ServiceRegistry registry,
        IAccountStore accounts
    )
    {
        var body = await StateGuard.BodyAsync<DesignBody>(context);
        if (Fault(body.Service, body.Text) is { } fault)
            return fault;
        var file = FileOf(body.Service!);
        if ((body.Text ?? folder.Read(file)?.Text) is not { } text)
            return ManagementInterface.Problem(404, "not-found", $"There is no file '{file}'.");
        if (body.Changes is { Count: > MostChanges })
            return ManagementInterface.Problem(400, "body", $"Send at most {MostChanges} changes.");
        try
        {
            foreach (var change in body.Changes ?? [])
                text = DesignEdit.Apply(
                    text,
                    new DesignChange(change.Set, [.. (change.Path ?? []).Select(DraftEndpoints.Step)], change.Value)
                );
        }
        catch (InvalidDataException exception)
        {
            return ManagementInterface.Problem(409, "edit", $"The text cannot be changed there: {exception.Message}.");
        }
        await using var workspace = await LoadAsync(draft, registry, file, text, context.RequestAborted);
        var design = ServiceDesign.Of(workspace, body.Service!);
        return ManagementInterface.Json(
            new DesignAnswer(
                file,
                text,
                design is null ? null : DesignViews.Of(design, workspace, accounts.Current),
                workspace.Diagnostics.Items.Select(CheckEndpoints.Finding)
            )
        );
    }

    /// <summary>What a caller would see of a set if the text were published.</summary>
    private static async Task<IResult> RowsAsync(
        HttpContext context,
        Draft draft,
        DraftFolder folder,
        ServiceRegistry registry,
        IAccountStore accounts,
        AuditLog audit,
        TimeProvider time
    )
    {
        var body = await StateGuard.BodyAsync<RowsBody>(context);
        if (Fault(body.Service, body.Text) is { } fault)
            return fault;
        var file = FileOf(body.Service!);
        if ((body.Text ?? folder.Read(file)?.Text) is not { } text)
            return ManagementInterface.Problem(404, "not-found", $"There is no file '{file}'.");
        if (NamedCaller.Of(accounts.Current, body.As) is not { } caller)
            return ManagementInterface.Problem(400, "caller", $"'{body.As}' is no user, and no list of roles.");
        await using var workspace = await LoadAsync(draft, registry, file, text, context.RequestAborted);
        if (workspace.FindService(body.Service!)?.Model.FindSet(body.Set ?? "") is null)
            return ManagementInterface.Problem(409, "no-set", $"The draft publishes no set '{body.Set}'; mend its faults first.");
        audit.Managed(
            context,
            AccountEndpoints.AdministratorOf(context),
            $"looked at rows of {body.Service}/{body.Set} in the draft as {body.As ?? NamedCaller.Anonymous}"
        );
        var service = workspace.Service(body.Service!);
        var now = time.GetUtcNow().UtcDateTime;
        var rules = new ExplainRequest(service, SpelledRead.OData(Uri.EscapeDataString(body.Set!), ""), caller, now).Rules;
        Result<SampledRows> sampled;
        try
        {
            sampled = await new SampleRows(service, caller, now).OfAsync(body.Set!, SampledRows, context.RequestAborted);
        }
        catch (SourceException exception)
        {
            return ManagementInterface.Problem(503, "source", $"'{body.Set}' cannot be read: {exception.Message}");
        }
        return ManagementInterface.Json(
            sampled.Is(out var rows, out var refusal)
                ? new DesignRows(JsonNode.Parse(rows.Json), null, rules)
                : new DesignRows(null, ExplainEndpoint.Error(refusal), rules)
        );
    }

    private static string FileOf(string service) => $"services/{service}.yaml";

    private static IResult? Fault(string? service, string? text) =>
        !WorkspaceReader.IsServiceName(service ?? "")
            ? ManagementInterface.Problem(400, "service", $"'{service}' cannot be a service's name.")
        : text is { Length: > DraftFolder.MostBytes } ? ManagementInterface.Problem(400, "body", "A file has at most 4 MiB.")
        : null;

    private static Task<LoadedWorkspace> LoadAsync(
        Draft draft,
        ServiceRegistry registry,
        string file,
        string text,
        CancellationToken cancellation
    )
    {
        var served = registry.Workspace;
        var store = new EditedTexts(
            new WorkspaceFolder(served.Declaration.Folder),
            ImmutableDictionary<string, string?>.Empty.Add(file, text)
        );
        return draft.LoadAsync(store, DraftEndpoints.KnownOf(served), cancellation);
    }
}
