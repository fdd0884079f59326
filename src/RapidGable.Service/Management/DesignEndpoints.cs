using System.Text.Json.Nodes;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;
using RapidGable.Drafting;
using RapidGable.Expressions;
using RapidGable.Model;
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
    /// <param name="Values">For a query: of its parameters, as texts.</param>
    private sealed record RowsBody(string? Service, string? Text, string? Set, string? As, Dictionary<string, string>? Values);

    public static void Map(RouteGroupBuilder manage, ServiceRegistry registry, TimeProvider time)
    {
        manage
            .Needing(ManagementRights.Look)
            .MapPost("/draft/design", (HttpContext context, Draft draft, DraftFolder folder, IAccountStore accounts) =>
                StateGuard.GuardAsync(() => DesignAsync(context, draft, folder, registry, accounts))
            );
        manage
            .Needing(ManagementRights.Write)
            .MapPost("/draft/rows", (HttpContext context, Draft draft, DraftFolder folder, IAccountStore accounts, AuditLog audit) =>
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
        if (EditedService.Read(body.Service, body.Text, folder, out var fault) is not { } edited)
            return fault!;
        var text = edited.Text;
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
        edited = edited with { Text = text };
        await using var workspace = await edited.LoadAsync(draft, registry, context.RequestAborted);
        var design = ServiceDesign.Of(workspace, edited.Name);
        return ManagementInterface.Json(
            new DesignAnswer(
                edited.File,
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
        if (EditedService.Read(body.Service, body.Text, folder, out var fault) is not { } edited)
            return fault!;
        if (NamedCaller.Of(accounts.Current, body.As) is not { } caller)
            return ManagementInterface.Problem(400, "caller", $"'{body.As}' is no user, and no list of roles.");
        await using var workspace = await edited.LoadAsync(draft, registry, context.RequestAborted);
        if (workspace.FindService(edited.Name)?.Model.FindSet(body.Set ?? "") is not { } set)
            return ManagementInterface.Problem(409, "no-set", $"The draft publishes no set '{body.Set}'; mend its faults first.");
        if (set.IsAction)
            return ManagementInterface.Problem(409, "action", $"'{body.Set}' changes something, and a draft is not carried out.");
        audit.Managed(
            context,
            AccountEndpoints.AdministratorOf(context),
            $"looked at rows of {body.Service}/{body.Set} in the draft as {body.As ?? NamedCaller.Anonymous}"
        );
        var service = workspace.Service(body.Service!);
        var now = time.GetUtcNow().UtcDateTime;
        var rules = new ExplainRequest(service, SpelledRead.OData(SampleCall.OData(set), ""), caller, now).Rules;
        Result<SampledRows> sampled;
        try
        {
            var sample = new SampleRows(service, caller, now);
            sampled = set.IsQuery
                ? await sample.CallAsync(set, body.Values ?? [], SampledRows, context.RequestAborted)
                : await sample.OfAsync(set.Name, SampledRows, context.RequestAborted);
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
}
