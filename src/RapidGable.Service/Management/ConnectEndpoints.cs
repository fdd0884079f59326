using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;
using RapidGable.Declarations;
using RapidGable.Service.Auditing;
using RapidGable.Service.Identity;
using RapidGable.Service.Management.Contracts;
using RapidGable.Service.Publishing;

namespace RapidGable.Service.Management;

/// <summary>The parts of the management interface behind the form for a new database.</summary>
internal static class ConnectEndpoints
{
    /// <summary>How deep the workspace's folder is searched for database files, and how many are listed.</summary>
    private const int Deepest = 3;

    private const int MostFiles = 200;
    private static readonly string[] Endings = [".db", ".sqlite", ".sqlite3", ".db3"];

    /// <param name="Text">Of the source's file.</param>
    /// <param name="Secrets">Values of variables that the text names and that are kept nowhere yet.</param>
    private sealed record ConnectBody(string? Name, string? Text, Dictionary<string, string>? Secrets);

    public static void Map(RouteGroupBuilder manage, ServiceRegistry registry)
    {
        manage
            .Needing(ManagementRights.Look)
            .MapGet("/draft/databases", (SecretKeeper secrets) =>
                ManagementInterface.Json(new DatabaseFiles(Files(registry.Workspace.Declaration.Folder), secrets.HasKey))
            );
        manage
            .Needing(ManagementRights.Write)
            .MapPost("/draft/connect", (HttpContext context, Draft draft, AuditLog audit) =>
                StateGuard.GuardAsync(() => ConnectAsync(context, draft, registry, audit))
            );
    }

    private static IEnumerable<string> Files(string folder)
    {
        var options = new EnumerationOptions
        {
            RecurseSubdirectories = true,
            MaxRecursionDepth = Deepest,
            IgnoreInaccessible = true,
            AttributesToSkip = FileAttributes.Hidden | FileAttributes.System | FileAttributes.ReparsePoint,
        };
        return Directory
            .EnumerateFiles(folder, "*", options)
            .Where(f => Endings.Contains(Path.GetExtension(f), StringComparer.OrdinalIgnoreCase))
            .Select(f => Path.GetRelativePath(folder, f).Replace('\\', '/'))
            .Where(f => !f.StartsWith("state/", StringComparison.Ordinal))
            .Order(StringComparer.Ordinal)
            .Take(MostFiles);
    }

    private static async Task<IResult> ConnectAsync(HttpContext context, Draft draft, ServiceRegistry registry, AuditLog audit)
    {
        var body = await StateGuard.BodyAsync<ConnectBody>(context);
        var file = $"sources/{body.Name}.yaml";
        if (DraftFolder.NameFault(file) is { } fault)
            return ManagementInterface.Problem(400, "file", fault);
        if (body.Text is not { Length: <= DraftFolder.MostBytes } text)
            return ManagementInterface.Problem(400, "body", "Send the text of the source's file.");
        var store = new EditedTexts(
            new WorkspaceFolder(registry.Workspace.Declaration.Folder),
            new Dictionary<string, string?> { [file] = text }
        );
        var tried = await draft.ConnectAsync(store, body.Name!, body.Secrets ?? [], context.RequestAborted);
        audit.Managed(context, AccountEndpoints.AdministratorOf(context), $"tried to connect to {tried.Address ?? body.Name}");
        return ManagementInterface.Json(
            new ConnectAnswer(
                tried.Failure is null && tried.Address is not null,
                tried.Address,
                tried.Failure,
                tried.Faults.Select(CheckEndpoints.Finding),
                tried.Counts.Select(c => new SchemaCount(c.Schema, c.Kind, c.Count)),
                tried.Time.TotalMilliseconds
            )
        );
    }
}
