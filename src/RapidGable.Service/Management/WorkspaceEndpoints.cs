using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;
using Microsoft.Extensions.Logging;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Inspection;
using RapidGable.Service.Auditing;
using RapidGable.Service.Faces;
using RapidGable.Service.Identity;
using RapidGable.Service.Management.Contracts;
using RapidGable.Service.Publishing;
using RapidGable.Sources;
using RapidGable.UseCases;

namespace RapidGable.Service.Management;

/// <summary>The parts of the management interface about the workspace: its services, its sources, and reading it again.</summary>
internal static class WorkspaceEndpoints
{
    /// <summary>Raw rows that are shown at once.</summary>
    private const int MostRows = 100;

    public static void Map(RouteGroupBuilder manage, ServiceRegistry registry, FaceTable faces, TimeProvider time)
    {
        manage
            .Needing(ManagementRights.Look)
            .MapGet("/workspace", () =>
                new WorkspaceInfo(
                    registry.Workspace.Declaration.Title,
                    registry.Workspace.Sources.Values.Select(s => new SourceAddress(s.Name, s.Address))
                )
            );
        manage
            .Needing(ManagementRights.Look)
            .MapGet("/services", (HttpContext context) =>
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
        manage
            .Needing(ManagementRights.Look)
            .MapGet("/services/{name}", (string name, HttpContext context) =>
                registry.Find(name) is { } service
                    ? ManagementInterface.Json(
                        ServiceViews.Details(service, registry.Workspace.FindService(name)!.Inferences, faces.AddressesOf(service, context))
                    )
                    : ManagementInterface.Problem(404, "not-found", $"There is no service '{name}'.")
            );
        manage
            .Needing(ManagementRights.Look)
            .MapGet("/sources", () =>
                ManagementInterface.Json(
                    new SourceList(
                        registry
                            .Workspace.Sources.Keys.Order(StringComparer.Ordinal)
                            .Select(n => SourceViews.Summary(registry.Workspace, n))
                    )
                )
            );
        manage
            .Needing(ManagementRights.Look)
            .MapGet("/sources/{source}/object", (string source, string? name, int? rows, HttpContext context, AuditLog audit) =>
            {
                // Who may only look sees what there is, and no rows of it.
                var shown = NeededRights.Has(context, ManagementRights.Write) ? rows ?? 10 : 0;
                // Rows of others are looked at in front of a witness.
                if (shown > 0)
                    audit.Managed(context, AccountEndpoints.AdministratorOf(context), $"looked at rows of {name} in {source}");
                return ObjectAsync(registry.Workspace, source, name ?? "", shown, context.RequestAborted);
            });
        manage
            .Needing(ManagementRights.Write)
            .MapGet(
                "/sources/{source}/rows",
                (
                    string source,
                    string? name,
                    int? rows,
                    long? skip,
                    string? sort,
                    string? column,
                    string? contains,
                    HttpContext context,
                    AuditLog audit
                ) =>
                {
                    audit.Managed(context, AccountEndpoints.AdministratorOf(context), $"looked at rows of {name} in {source}");
                    var isDescending = sort?.StartsWith('-') == true;
                    var question = new SampleQuestion(
                        Math.Clamp(rows ?? 25, 1, MostRows),
                        Math.Max(0, skip ?? 0),
                        isDescending ? sort![1..] : sort,
                        isDescending,
                        string.IsNullOrEmpty(contains) ? null : column,
                        contains ?? ""
                    );
                    return LookAsync(name ?? "", async () =>
                    {
                        // One more tells whether there are more.
                        var found = await new SourceLook(registry.Workspace).RowsAsync(
                            source,
                            name ?? "",
                            question with
                            {
                                Rows = question.Rows + 1,
                            },
                            context.RequestAborted
                        );
                        var item = new SourceLook(registry.Workspace).Find(source, name ?? "").Item;
                        return new RawRows(item.Columns.Select(c => c.Name), found.Take(question.Rows), found.Count > question.Rows);
                    });
                }
            );
        manage
            .Needing(ManagementRights.Write)
            .MapGet("/sources/{source}/extent", (string source, string? name, HttpContext context) => LookAsync(name ?? "", async () =>
                {
                    var (holder, item) = new SourceLook(registry.Workspace).Find(source, name ?? "");
                    var extent = await ObjectSample.MeasureAsync(holder, item, context.RequestAborted);
                    return new ObjectExtentInfo(extent.Rows, extent.Bytes, extent.Definition);
                }));
        manage
            .Needing(ManagementRights.Look)
            .MapGet("/sources/{source}/related", (string source, string[] name, bool? around) =>
                LookAsync(source, () => Task.FromResult<object>(SourceViews.Related(registry.Workspace, source, name, around ?? true)))
            );
        manage
            .Needing(ManagementRights.Write)
            .MapPost("/refresh", (HttpContext context, AuditLog audit, ILogger<ServiceRegistry> log) =>
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

    private static Task<IResult> ObjectAsync(
        LoadedWorkspace workspace,
        string source,
        string name,
        int rows,
        CancellationToken cancellation
    ) => LookAsync(name, async () =>
        {
            var looked = await new SourceLook(workspace).ObjectAsync(source, name, Math.Clamp(rows, 0, MostRows), cancellation);
            return SourceViews.Details(workspace.Catalogs[source], looked);
        });

    /// <param name="name">What is looked at, for people.</param>
    private static async Task<IResult> LookAsync(string name, Func<Task<object>> look)
    {
        try
        {
            return ManagementInterface.Json(await look());
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
