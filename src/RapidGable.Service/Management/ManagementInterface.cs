using System.Text.Json;
using System.Text.Json.Serialization;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.DependencyInjection;
using Microsoft.Extensions.Logging;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Service.Auditing;
using RapidGable.Service.Faces;
using RapidGable.Service.Identity;
using RapidGable.Service.Publishing;
using RapidGable.Sources;

namespace RapidGable.Service.Management;

/// <summary>
/// <c>/services</c> for everyone and <c>/manage/…</c> for administrators.
/// </summary>
internal static class ManagementInterface
{
    internal static readonly JsonSerializerOptions JsonOptions = new(JsonSerializerDefaults.Web)
    {
        DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull,
        Encoder = System.Text.Encodings.Web.JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    };

    /// <summary>Where the name of who manages is kept while a request runs.</summary>
    internal const string AdministratorItem = "administrator";

    internal static IResult NotOwnClient =>
        Problem(403, "no-client", $"Send the header {Administration.ClientHeader}, from a page of this service or none.");

    public static void Map(WebApplication app, ServiceRegistry registry, TimeProvider time)
    {
        var faces = app.Services.GetRequiredService<FaceTable>();
        app.MapGet("/services", async (HttpContext context, SignIn signIn) =>
        {
            if ((await signIn.CallerOfAsync(context)).Is(out var caller, out var fault))
                return Results.Json(
                    new
                    {
                        services = registry
                            .All.Where(s => !s.ModelFor(caller).Sets.IsEmpty)
                            .Select(s => Summary(s, caller, faces, context)),
                    },
                    JsonOptions
                );
            context.Response.Headers.WWWAuthenticate = signIn.Challenges(fault);
            return Problem(fault.Status, fault.Code, fault.Message);
        });
        AccountEndpoints.MapSession(app);
        var manage = app.MapGroup("/manage")
            .AddEndpointFilter(
                async (invocation, next) =>
                {
                    var context = invocation.HttpContext;
                    context.Response.Headers.CacheControl = "no-store";
                    var administration = context.RequestServices.GetRequiredService<Administration>();
                    if (await administration.NameOfAsync(context) is not { } name)
                        return Problem(
                            401,
                            "sign-in",
                            administration.IsRequired
                                ? "Administrators sign in first, at the console or with a key of theirs."
                                : "There is no administrator yet. Open the link that 'gable serve' printed; it also stands in "
                                    + "the file 'console-link' of the workspace."
                        );
                    context.Items[AdministratorItem] = name;
                    return HttpMethods.IsGet(context.Request.Method) || Administration.IsOwnClient(context)
                        ? await next(invocation)
                        : NotOwnClient;
                }
            );
        AccountEndpoints.Map(manage, registry);
        manage.MapGet("/workspace", () =>
            new { registry.Workspace.Declaration.Title, sources = registry.Workspace.Sources.Values.Select(s => new { s.Name, s.Address }) }
        );
        manage.MapGet("/services", (HttpContext context) =>
            Results.Json(new { services = registry.All.Select(s => Summary(s, Caller.Anonymous, faces, context)) }, JsonOptions)
        );
        manage.MapGet("/services/{name}", (string name, HttpContext context) =>
            registry.Find(name) is { } service
                ? Results.Json(Details(service, registry.Workspace, faces, context), JsonOptions)
                : Problem(404, "not-found", $"There is no service '{name}'.")
        );
        manage.MapGet("/sources", () =>
            Results.Json(
                new
                {
                    sources = registry
                        .Workspace.Sources.Keys.Order(StringComparer.Ordinal)
                        .Select(n => SourceViews.Summary(registry.Workspace, n)),
                },
                JsonOptions
            )
        );
        manage.MapGet("/sources/{source}/object", (string source, string? name, int? rows, HttpContext context, AuditLog audit) =>
        {
            // Rows of others are looked at in front of a witness.
            if ((rows ?? 10) > 0)
                audit.Managed(context, (string)context.Items[AdministratorItem]!, $"looked at rows of {name} in {source}");
            return ObjectAsync(registry.Workspace, source, name ?? "", rows ?? 10, context.RequestAborted);
        });
        manage.MapPost("/refresh", async (HttpContext context, AuditLog audit, ILogger<ServiceRegistry> log) =>
        {
            var outcome = await registry.RefreshAsync(time, log, context.RequestAborted);
            audit.Managed(
                context,
                (string)context.Items[AdministratorItem]!,
                outcome.IsKept
                    ? "refresh, refused"
                    : $"refresh: {string.Join(", ", outcome.Changed.Select(c => $"{c.Service} {c.After ?? "gone"}"))}"
            );
            return Results.Json(
                new
                {
                    kept = outcome.IsKept,
                    changed = outcome.Changed.Select(c => new
                    {
                        service = c.Service,
                        before = c.Before,
                        after = c.After,
                    }),
                    differences = outcome.Differences.Select(o => new { service = o.Service, text = o.Text }),
                    settings = outcome.Settings,
                    opened = outcome.Opened.Select(o => new { service = o.Service, text = o.Text }),
                    faults = outcome.Faults.Select(f => new
                    {
                        f.Code,
                        f.Message,
                        location = f.Location.ToString(),
                        f.Advice,
                    }),
                },
                JsonOptions
            );
        });
        manage.MapGet(
            "/explain",
            (
                string? url,
                bool? run,
                string? user,
                string? roles,
                string? attributes,
                AccountStore store,
                HttpContext context,
                AuditLog audit
            ) =>
            {
                if (run == true)
                    audit.Managed(
                        context,
                        (string)context.Items[AdministratorItem]!,
                        $"ran a request as {user ?? roles ?? "an anonymous caller"}"
                    );
                return ExplainAsync(
                    url,
                    run,
                    AccountEndpoints.CallerOf(store, user, roles, attributes),
                    faces,
                    registry,
                    time,
                    context.RequestAborted
                );
            }
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
        if (!workspace.Catalogs.TryGetValue(source, out var catalog) || catalog.Find(name) is not { } found)
            return Problem(404, "not-found", $"There is no table or view '{name}' in a source '{source}'.");
        try
        {
            return Results.Json(
                await SourceViews.ObjectAsync(workspace, source, found, Math.Clamp(rows, 0, 100), cancellation),
                JsonOptions
            );
        }
        catch (SourceException exception)
        {
            return Problem(503, "source", $"'{name}' cannot be read: {exception.Message}");
        }
    }

    private static object Summary(PublishedService service, Caller caller, FaceTable faces, HttpContext context) =>
        new
        {
            name = service.Model.Service,
            title = service.Model.Title,
            revision = service.Revision,
            sets = service.ModelFor(caller).Sets.Length,
            faces = faces.AddressesOf(service.Model.Service, context),
        };

    private static object Details(PublishedService service, LoadedWorkspace workspace, FaceTable faces, HttpContext context)
    {
        var inferences = workspace.FindService(service.Model.Service)!.Inferences;
        return new
        {
            name = service.Model.Service,
            title = service.Model.Title,
            revision = service.Revision,
            @namespace = service.Model.Namespace,
            sources = service.Model.Sets.Select(s => s.Source.Source).Distinct(),
            faces = faces.AddressesOf(service.Model.Service, context),
            sets = service.Model.Sets.Select(s => Set(s, service.ModelFor(Caller.Anonymous))),
            inferences = inferences.Select(i => new
            {
                i.Subject,
                i.Value,
                i.Reason,
            }),
        };
    }

    private static object Set(EntitySet set, EntityModel open) =>
        new
        {
            set.Name,
            type = set.Type.Name,
            source = set.Source.Source,
            from = set.Source.ToString(),
            key = set.Type.Key.Select(k => k.Name),
            set.PageSize,
            set.LargestPage,
            kind = set.IsUnkeyed ? "function"
            : set.ContainedIn is null ? "set"
            : "contained",
            containedIn = set.ContainedIn,
            set.Type.Description,
            order = set.DefaultOrder.Select(o => o.Property.Name + (o.Descending ? " desc" : "")),
            allow = Enum.GetValues<SetOperations>()
                .Where(o => o != SetOperations.None && set.Operations.HasFlag(o))
                .Select(o => o.ToString().ToLowerInvariant()),
            rules = new { read = Grant.Describe(set.Rules, SetOperations.Read), all = set.Rules.Select(r => r.ToString()) },
            isReadable = open.FindSet(set.Name) is not null,
            properties = set.Type.Properties.Select(p => Property(set, p)),
            hidden = set.Type.Hidden.Select(p => p.Column),
            searched = (
                set.SearchIndex is { } index
                    ? set.Type.Properties.SelectMany(p => p.Leaves).Where(p => index.Columns.Contains(p.Column))
                    : set.SearchProperties
            ).Select(p => p.Name),
            set.RequiresFilter,
            version = set.Version?.Column ?? (set.IsVersionedByRow ? "row" : null),
            changes = set.Changes?.Stamp.Column,
            valid = set.RowRules.Select(r => new
            {
                r.Condition,
                r.Unique,
                on = r.On switch
                {
                    SetOperations.Create => "create",
                    SetOperations.Update => "update",
                    _ => null,
                },
                who = r.Who?.ToString(),
                r.Message,
            }),
            derived = set.Type.Derived.Select(d => new
            {
                d.Name,
                table = d.Rows?.Source.ToString(),
                discriminator = d.Discriminator?.Column,
                values = d.Values,
                properties = d.Properties.Select(p => Property(set, p)),
            }),
            navigations = set.Type.Navigations.Select(n => new
            {
                n.Name,
                target = n.TargetSet,
                n.IsCollection,
                n.Nullable,
                n.Partner,
                n.IsContained,
                n.IsRemote,
                through = n.Link?.Source.ToString(),
                joins = n.Joins.Select(j => new { own = j.Own.Name, target = j.Target.Name }),
            }),
        };

    private static object Property(EntitySet set, Property property) =>
        new
        {
            property.Name,
            type = property.Type.Name,
            facets = property.Type.ToString(),
            property.Nullable,
            property.Column,
            isKey = set.Type.Key.Contains(property),
            isFilterable = property
                is {
                    IsFilterable: true,
                    IsGroup: false,
                    Type: { IsCollection: false, Kind: not (EdmKind.Complex or EdmKind.Stream or EdmKind.Binary) }
                }
                && property.Conversion is not { Use: ConvertedUse.Read },
            isSortable = property
                is {
                    IsSortable: true,
                    IsGroup: false,
                    Type: { IsCollection: false, Kind: not (EdmKind.Complex or EdmKind.Stream or EdmKind.Binary) }
                }
                && property.Conversion is not { Use: ConvertedUse.Read or ConvertedUse.Equality },
            conversion = property.Conversion?.Description,
            enumMembers = property.Type.Enum?.Members.Select(m => m.Name),
            write = property
                is { IsComputed: true }
                    or { Expression: not null }
                    or { Access: PropertyAccess.ReadOnly }
                    or { Maker.IsDefault: false }
            || property.Column == set.Version?.Column
                ? "never"
            : property.Access == PropertyAccess.CreateOnly || set.Type.Key.Contains(property) ? "create"
            : "always",
            isRequired = !property.Nullable
                && property
                    is {
                        HasComputedDefault: false,
                        DefaultValue: null,
                        Maker: null,
                        Expression: null,
                        IsComputed: false,
                        Type.IsCollection: false,
                        IsGroup: false
                    },
            property.DefaultValue,
            made = property.Maker?.ToString() ?? (property.HasComputedDefault ? "a value of the database" : null),
            property.Expression,
            measure = property.Measure is { } measure
                ? new { text = measure.IsPath ? null : measure.Text, path = measure.IsPath ? measure.Text : null }
                : null,
            maxLength = property.Type.Kind == EdmKind.String ? property.Type.MaxLength : null,
            scale = property.Type.Kind == EdmKind.Decimal ? property.Type.Scale : null,
            values = property.Rules.Values.IsEmpty
                ? property.AllowedValues.IsEmpty
                    ? null
                    : property.AllowedValues.AsEnumerable()
                : property.Rules.Values.Select(ValueConversion.Text),
            rules = property.Rules.IsEmpty
                ? null
                : new
                {
                    minimum = property.Rules.Minimum is { } minimum ? ValueConversion.Text(minimum) : null,
                    maximum = property.Rules.Maximum is { } maximum ? ValueConversion.Text(maximum) : null,
                    property.Rules.MinLength,
                    property.Rules.MaxLength,
                    pattern = property.Rules.Pattern?.ToString(),
                    property.Rules.Message,
                },
            members = property.IsGroup ? property.Members.Select(m => Property(set, m)) : null,
            property.Description,
        };

    /// <summary>The statements behind a request to the OData face, without running them.</summary>
    /// <param name="run">Also runs it, for the engine's plan and the times.</param>
    private static async Task<IResult> ExplainAsync(
        string? url,
        bool? run,
        Caller caller,
        FaceTable faces,
        ServiceRegistry registry,
        TimeProvider time,
        CancellationToken cancellation
    )
    {
        if (string.IsNullOrEmpty(url))
            return Problem(400, "no-url", "Give the address to explain as 'url'.");
        var target =
            Uri.TryCreate(url, UriKind.Absolute, out var absolute) && absolute.Scheme.StartsWith("http", StringComparison.Ordinal)
                ? url[url.IndexOf(absolute.Authority, StringComparison.OrdinalIgnoreCase)..][absolute.Authority.Length..]
                : url;
        if (faces.Find(target) is not { } face)
            return Problem(400, "no-face", $"Only addresses below {faces.Prefixes} can be explained.");
        var mark = target.IndexOf('?');
        var (path, query) = mark < 0 ? (target, "") : (target[..mark], target[(mark + 1)..]);
        var parts = path[face.Prefix.Length..].Split('/', 2);
        if (registry.Find(parts[0]) is not { } service)
            return Problem(404, "not-found", $"There is no service '{parts[0]}'.");
        var inner = parts.Length > 1 ? parts[1] : "";
        var rules = service.ExplainAccess(inner, query, caller);
        if (run == true)
            return await ExplainRunAsync(service, inner, query, caller, rules, time, cancellation);
        var explained = service.Explain(inner, query, caller, time.GetUtcNow().UtcDateTime);
        return explained.Is(out var statements, out var fault)
            ? Json(
                new
                {
                    service = parts[0],
                    statements,
                    rules,
                }
            )
            : Refused(fault, rules);
    }

    private static async Task<IResult> ExplainRunAsync(
        PublishedService service,
        string path,
        string query,
        Caller caller,
        IReadOnlyList<RuleEffect> rules,
        TimeProvider time,
        CancellationToken cancellation
    )
    {
        try
        {
            var explained = await ExplainedRun.OfAsync(service, path, query, caller, time.GetUtcNow().UtcDateTime, cancellation);
            return explained.Is(out var request, out var fault)
                ? Json(
                    new
                    {
                        service = service.Model.Service,
                        request.Statements,
                        request.Times,
                        rules,
                    }
                )
                : Refused(fault, rules);
        }
        catch (Sources.SourceException exception)
        {
            return Refused(Faults.From(exception), rules);
        }
    }

    private static IResult Refused(Requests.RequestFault fault, IReadOnlyList<RuleEffect> rules) =>
        Results.Json(
            new
            {
                error = new
                {
                    fault.Code,
                    fault.Message,
                    fault.Target,
                    position = fault.Position,
                    pointer = fault.Pointer(),
                    fault.Status,
                },
                rules,
            },
            JsonOptions,
            statusCode: fault.Status
        );

    internal static IResult Json(object value) => Results.Json(value, JsonOptions);

    internal static IResult Problem(int status, string code, string message) =>
        Results.Json(new { error = new { code, message } }, JsonOptions, statusCode: status);
}
