using System.Collections.Immutable;
using System.Text.Json;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Drafting;
using RapidGable.Service.Auditing;
using RapidGable.Service.Identity;
using RapidGable.Service.Management.Contracts;
using RapidGable.Service.Publishing;
using RapidGable.Sources;
using RapidGable.UseCases;

namespace RapidGable.Service.Management;

/// <summary>The parts of the management interface that edit the draft: the files of the workspace.</summary>
internal static class DraftEndpoints
{
    private const int MostEdits = 1_000;

    /// <param name="Version">The one that was changed; missing = the file is new.</param>
    private sealed record WriteBody(string? File, string? Text, string? Version);

    /// <param name="Texts">By the name of a file, what is not written yet; null = the file is gone.</param>
    private sealed record CheckBody(Dictionary<string, string?>? Texts);

    /// <summary>Changes of single values in a text.</summary>
    private sealed record EditBody(string? Text, IReadOnlyList<DraftEdit>? Edits);

    /// <summary>Tables and views that become sets of a service.</summary>
    /// <param name="WithReferred">Also everything that they refer to.</param>
    private sealed record ChooseBody(string? Service, string? Source, string[]? Objects, bool WithReferred);

    public static void Map(RouteGroupBuilder manage, ServiceRegistry registry, TimeProvider time)
    {
        manage.Needing(ManagementRights.Look).MapGet("/draft", (DraftFolder folder) => ManagementInterface.Json(Files(folder)));
        manage.Needing(ManagementRights.Look).MapGet("/draft/text", (string? file, DraftFolder folder) => Text(folder, file ?? ""));
        manage
            .Needing(ManagementRights.Look)
            .MapGet("/draft/schema/{kind}", (string kind) =>
                FileSchemas.All.TryGetValue(kind, out var schema)
                    ? Results.Text(schema.ToJsonString(), "application/schema+json")
                    : ManagementInterface.Problem(404, "not-found", $"There is no schema '{kind}'.")
            );
        manage
            .Needing(ManagementRights.Write)
            .MapPut("/draft/text", (HttpContext context, DraftFolder folder, AuditLog audit) =>
                StateGuard.GuardAsync(() => WriteAsync(context, folder, audit, registry, time))
            );
        manage
            .Needing(ManagementRights.Write)
            .MapDelete("/draft/text", (string? file, string? version, HttpContext context, DraftFolder folder, AuditLog audit) =>
                StateGuard.GuardAsync(() => RemoveAsync(context, folder, file ?? "", version ?? "", audit, registry, time))
            );
        manage
            .Needing(ManagementRights.Write)
            .MapPost("/draft/edit", Task<IResult> (HttpContext context, CancellationToken _) =>
                StateGuard.GuardAsync(() => EditAsync(context))
            );
        manage
            .Needing(ManagementRights.Write)
            .MapPost("/draft/check", (HttpContext context, Draft draft) =>
                StateGuard.GuardAsync(() => CheckAsync(context, draft, registry))
            );
        manage
            .Needing(ManagementRights.Write)
            .MapPost("/draft/choose", (HttpContext context, Draft draft, DraftFolder folder) =>
                StateGuard.GuardAsync(() => ChooseAsync(context, draft, folder))
            );
    }

    private static DraftFiles Files(DraftFolder folder)
    {
        var fault = folder.WriteFault;
        return new DraftFiles(fault is null, fault, folder.List().Select(f => new DraftFileInfo(f.File, f.Version, f.Bytes)));
    }

    private static IResult Text(DraftFolder folder, string file)
    {
        if (DraftFolder.NameFault(file) is { } fault)
            return ManagementInterface.Problem(400, "file", fault);
        return folder.Read(file) is var (text, version)
            ? ManagementInterface.Json(new DraftText(file, text, version))
            : ManagementInterface.Problem(404, "not-found", $"There is no file '{file}'.");
    }

    private static async Task<IResult> WriteAsync(
        HttpContext context,
        DraftFolder folder,
        AuditLog audit,
        ServiceRegistry registry,
        TimeProvider time
    )
    {
        var body = await StateGuard.BodyAsync<WriteBody>(context);
        if (DraftFolder.NameFault(body.File ?? "") is { } fault)
            return ManagementInterface.Problem(400, "file", fault);
        if (body.Text is not { Length: <= DraftFolder.MostBytes } text)
            return ManagementInterface.Problem(400, "body", "Send the file's text; it has at most 4 MiB.");
        return await ChangeAsync(
            context,
            folder,
            body.File!,
            $"wrote {body.File}",
            () => new DraftText(body.File!, text, folder.Write(body.File!, text, body.Version)),
            audit,
            registry,
            time
        );
    }

    private static Task<IResult> RemoveAsync(
        HttpContext context,
        DraftFolder folder,
        string file,
        string version,
        AuditLog audit,
        ServiceRegistry registry,
        TimeProvider time
    )
    {
        if (DraftFolder.NameFault(file) is { } fault)
            return Task.FromResult(ManagementInterface.Problem(400, "file", fault));
        if (file == WorkspaceTexts.Root)
            return Task.FromResult(ManagementInterface.Problem(400, "file", "A workspace needs its workspace.yaml."));
        return ChangeAsync(
            context,
            folder,
            file,
            $"removed {file}",
            () =>
            {
                folder.Remove(file, version);
                return null;
            },
            audit,
            registry,
            time
        );
    }

    /// <summary>Changes a file, notes who did, and has a service that follows the files look at them.</summary>
    private static async Task<IResult> ChangeAsync(
        HttpContext context,
        DraftFolder folder,
        string file,
        string note,
        Func<DraftText?> change,
        AuditLog audit,
        ServiceRegistry registry,
        TimeProvider time
    )
    {
        DraftText? changed;
        try
        {
            changed = change();
        }
        catch (DraftConflictException exception)
        {
            var current = folder.Read(file) is var (text, version) ? new DraftText(file, text, version) : null;
            return Results.Json(
                new DraftConflict(new ProblemDetail("changed", exception.Message), current),
                ManagementInterface.JsonOptions,
                statusCode: 409
            );
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException)
        {
            return ManagementInterface.Problem(503, "files", $"'{file}' cannot be written: {exception.Message}");
        }
        audit.Managed(context, AccountEndpoints.AdministratorOf(context), note);
        if (registry.Workspace.Revision is null)
            await registry.RefreshAsync(time, null, context.RequestAborted);
        return changed is null ? Results.NoContent() : ManagementInterface.Json(changed);
    }

    private static async Task<IResult> EditAsync(HttpContext context)
    {
        var body = await StateGuard.BodyAsync<EditBody>(context);
        if (body.Text is not { Length: <= DraftFolder.MostBytes } text || body.Edits is not { Count: <= MostEdits } edits)
            return ManagementInterface.Problem(400, "body", $"Send a text and at most {MostEdits} edits.");
        try
        {
            foreach (var edit in edits)
            {
                var path = edit.Path.Select(Step).ToArray();
                text = edit.Value is { ValueKind: not JsonValueKind.Undefined } value
                    ? YamlEdit.Set(text, path, value)
                    : YamlEdit.Remove(text, path);
            }
        }
        catch (InvalidDataException exception)
        {
            return ManagementInterface.Problem(409, "edit", $"The text cannot be changed there: {exception.Message}.");
        }
        return Results.Json(new { text }, ManagementInterface.JsonOptions);
    }

    /// <exception cref="InvalidDataException">When it can be none.</exception>
    internal static YamlEdit.Step Step(JsonElement step) =>
        step.ValueKind == JsonValueKind.Number && step.TryGetInt32(out var index) ? index
        : step.ValueKind == JsonValueKind.String ? step.GetString()!
        : throw new InvalidDataException("a step is neither a text nor a number");

    /// <summary>What is wrong with texts that are not written yet, with the same words and places as 'gable check'.</summary>
    private static async Task<IResult> CheckAsync(HttpContext context, Draft draft, ServiceRegistry registry)
    {
        var body = await StateGuard.BodyAsync<CheckBody>(context);
        var texts = body.Texts ?? [];
        if (texts.Keys.Select(DraftFolder.NameFault).FirstOrDefault(f => f is not null) is { } fault)
            return ManagementInterface.Problem(400, "file", fault);
        var store = new EditedTexts(new WorkspaceFolder(registry.Workspace.Declaration.Folder), texts);
        // No password goes to a server whose name is half typed: a source is only read until it is written.
        if (texts.Keys.Any(f => f.StartsWith("sources/", StringComparison.Ordinal)))
            return ManagementInterface.Json((await draft.ReadAsync(store)).Items.Select(CheckEndpoints.Finding));
        await using var workspace = await draft.LoadAsync(store, KnownOf(registry.Workspace), context.RequestAborted);
        return ManagementInterface.Json(workspace.Diagnostics.Items.Select(CheckEndpoints.Finding));
    }

    /// <summary>
    /// What is known of the databases while somebody types: all that the service saw when it looked last. A revision holds only what it
    /// needs.
    /// </summary>
    internal static CatalogRecord KnownOf(LoadedWorkspace served) =>
        served.Revision is not null
            ? CatalogRecord.Empty
            : served.Record with
            {
                Catalogs = served.Catalogs.ToImmutableSortedDictionary(StringComparer.Ordinal),
            };

    private static async Task<IResult> ChooseAsync(HttpContext context, Draft draft, DraftFolder folder)
    {
        var body = await StateGuard.BodyAsync<ChooseBody>(context);
        await using var workspace = await draft.LoadAsync(context.RequestAborted);
        var drafting = new DraftService(workspace, body.Service ?? "");
        if (drafting.IsUnreadable)
            return ManagementInterface.Problem(409, "yaml", $"{drafting.File} cannot be read; mend it first.");
        try
        {
            var objects = body.WithReferred ? drafting.WithReferred(body.Objects ?? [], body.Source) : body.Objects ?? [];
            var drafted = await drafting.DraftAsync(objects, body.Source, _ => { }, context.RequestAborted);
            var found = drafted.Draft;
            return ManagementInterface.Json(
                new ChosenObjects(
                    drafted.File,
                    found.Text,
                    folder.Read(drafted.File)?.Version,
                    found.Added,
                    found.Known,
                    found.LeftOut.Select(l => l.Object),
                    found.Refused.Select(r => new RefusedObject(r.Object, r.Why)),
                    found.Hidden
                )
            );
        }
        catch (NotPossibleException exception)
        {
            return ManagementInterface.Problem(400, "choice", exception.Message);
        }
        catch (InvalidDataException exception)
        {
            return ManagementInterface.Problem(409, "edit", $"{drafting.File} is left as it is: {exception.Message}");
        }
        catch (SourceException exception)
        {
            return ManagementInterface.Problem(503, "source", exception.Message);
        }
    }
}
