using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;
using Microsoft.Extensions.Logging;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Service.Auditing;
using RapidGable.Service.Faces;
using RapidGable.Service.Management.Contracts;
using RapidGable.Service.Publishing;
using RapidGable.Sources;
using RapidGable.UseCases;

namespace RapidGable.Service.Management;

/// <summary>The parts of the management interface about the workspace: its services, its sources, and reading it again.</summary>
internal static class WorkspaceEndpoints
{
    public static void Map(RouteGroupBuilder manage, ServiceRegistry registry, FaceTable faces, TimeProvider time)
    {
        manage.MapGet("/workspace", () =>
            new WorkspaceInfo(
                registry.Workspace.Declaration.Title,
                registry.Workspace.Sources.Values.Select(s => new SourceAddress(s.Name, s.Address))
            )
        );
        manage.MapGet("/services", (HttpContext context) =>
            ManagementInterface.Json(
                new ServiceList(
                    registry.All.Select(s =>
                        ServiceViews.Summary(
                            s,
                            Caller.Anonymous,
                            faces.AddressesOf(s, context),
                            ApiCatalog.Endpoints(s, Caller.Anonymous, faces, context)
                        )
                    )
                )
            )
        );
        manage.MapGet("/services/{name}", (string name, HttpContext context) =>
            registry.Find(name) is { } service
                ? ManagementInterface.Json(
                    ServiceViews.Details(service, registry.Workspace.FindService(name)!.Inferences, faces.AddressesOf(service, context))
                )
                : ManagementInterface.Problem(404, "not-found", $"There is no service '{name}'.")
        );
        manage.MapGet("/sources", () =>
            ManagementInterface.Json(
                new SourceList(
                    registry.Workspace.Sources.Keys.Order(StringComparer.Ordinal).Select(n => SourceViews.Summary(registry.Workspace, n))
                )
            )
        );
        manage.MapGet("/sources/{source}/object", (string source, string? name, int? rows, HttpContext context, AuditLog audit) =>
        {
            // Rows of others are looked at in front of a witness.
            if ((rows ?? 10) > 0)
                audit.Managed(context, AccountEndpoints.AdministratorOf(context), $"looked at rows of {name} in {source}");
            return ObjectAsync(registry.Workspace, source, name ?? "", rows ?? 10, context.RequestAborted);
        });
        manage.MapPost("/refresh", (HttpContext context, AuditLog audit, ILogger<ServiceRegistry> log) =>
            RefreshAsync(context, audit, log, registry, time)
        );
    }

    private static async Task<IResult> RefreshAsync(
        HttpContext context,
        AuditLog audit,
        ILogger log,
        ServiceRegistry registry,
        TimeProvider time
    )
    {
        var outcome = await registry.RefreshAsync(time, log, context.RequestAborted);
        audit.Managed(
            context,
            AccountEndpoints.AdministratorOf(context),
            outcome.IsKept
                ? "refresh, refused"
                : $"refresh: {string.Join(", ", outcome.Changed.Select(c => $"{c.Service} {c.After ?? "gone"}"))}"
        );
        return ManagementInterface.Json(
            new RefreshResult(
                outcome.IsKept,
                outcome.Changed.Select(c => new ChangedService(c.Service, c.Before, c.After)),
                outcome.Differences.Select(o => new ServiceNote(o.Service, o.Text)),
                outcome.Settings,
                outcome.Opened.Select(o => new ServiceNote(o.Service, o.Text)),
                outcome.Faults.Select(f => new FaultInfo(f.Code, f.Message, f.Location.ToString(), f.Advice))
            )
        );
    }

    private static async Task<IResult> ObjectAsync(
        LoadedWorkspace workspace,
        string source,
        string name,
        int rows,
        CancellationToken cancellation
    )
    {
        try
        {
            var looked = await new SourceLook(workspace).ObjectAsync(source, name, Math.Clamp(rows, 0, 100), cancellation);
            return ManagementInterface.Json(SourceViews.Details(workspace.Catalogs[source], looked));
        }
        catch (NotPossibleException exception)
        {
            return ManagementInterface.Problem(404, "not-found", exception.Message);
        }
        catch (SourceException exception)
        {
            return ManagementInterface.Problem(503, "source", $"'{name}' cannot be read: {exception.Message}");
        }
    }
}
