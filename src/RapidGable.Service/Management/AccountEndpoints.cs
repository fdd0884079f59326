using System.Collections.Immutable;
using System.Text;
using System.Text.Json;
using System.Text.RegularExpressions;
using Microsoft.AspNetCore.Authentication;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Publishing;
using RapidGable.Service.Auditing;
using RapidGable.Service.Faces;
using RapidGable.Service.Identity;
using RapidGable.Service.Management.Contracts;
using RapidGable.Service.Publishing;
using RapidGable.Service.Traffic;

namespace RapidGable.Service.Management;

/// <summary>
/// The parts of the management interface about people: the console's session, accounts, keys, who may do what, and the audit log.
/// </summary>
internal static class AccountEndpoints
{
    private const int ShortestPassword = 8;

    /// <summary>The largest answer that is shown as somebody else sees it.</summary>
    private const int ShownBytes = 512 * 1024;

    private sealed record Credentials(string? Name, string? Password, string? Key, string? Link);

    public static void MapSession(IEndpointRouteBuilder app)
    {
        app.MapGet("/manage/session", async (HttpContext context, Administration administration) =>
        {
            var manager =
                context.Request.Headers.Authorization.Count > 0 || context.Request.Headers.Cookie.Count > 0
                    ? await administration.FindAsync(context)
                    : null;
            context.Response.Headers.CacheControl = "no-store";
            return Results.Json(
                new Session(administration.IsRequired, manager?.Name, ManagementRightWords.Of(manager?.Rights ?? ManagementRights.None))
            );
        });
        app.MapPost("/manage/session", async (HttpContext context, Administration administration) =>
        {
            if (!Administration.IsOwnClient(context))
                return ManagementInterface.NotOwnClient;
            var fault = await BodyAsync<Credentials>(context) switch
            {
                { Link: { } token } => await administration.SignInByLinkAsync(context, token),
                { Key: { } key } => await administration.SignInAsync(context, key),
                { Name: { } name, Password: { } password } => await administration.SignInAsync(context, name, password),
                _ => new RequestFault(400, "body", "Send name and password, key, or link, as JSON."),
            };
            return fault is null ? Results.NoContent() : ManagementInterface.Problem(fault.Status, fault.Code, fault.Message);
        });
        app.MapDelete("/manage/session", async (HttpContext context) =>
        {
            if (!Administration.IsOwnClient(context))
                return ManagementInterface.NotOwnClient;
            await context.SignOutAsync(Administration.Scheme);
            return Results.NoContent();
        });
    }

    public static void Map(RouteGroupBuilder manage, ServiceRegistry registry)
    {
        manage
            .Needing(ManagementRights.Administer)
            .MapGet("/accounts", (IAccountStore accounts, AuditLog audit) =>
                ManagementInterface.Json(Shown(registry, accounts.Current ?? new AccountDirectory(), audit))
            );
        MapUsers(manage);
        MapKeys(manage, registry);
        MapAccess(manage, registry);
    }

    private static void MapUsers(RouteGroupBuilder manage)
    {
        manage
            .Needing(ManagementRights.Administer)
            .MapPost("/accounts/users", (HttpContext context, IAccountStore accounts, AuditLog audit) =>
                ChangeAsync(context, audit, accounts, (body, file) =>
                {
                    if (
                        body.Password is not { Length: >= ShortestPassword }
                        || body.Password.Any(char.IsControl)
                        || Encoding.UTF8.GetByteCount(body.Name + body.Password) >= PasswordHash.MostBytes
                    )
                        throw new BadAccountException(
                            $"A password has at least {ShortestPassword} characters, no more than about {PasswordHash.MostBytes}, "
                                + $"and no control characters."
                        );
                    return new Changed(
                        file with
                        {
                            Users = file.Users.SetItem(
                                body.Name,
                                new UserAccount(PasswordHash.Make(body.Password)) { Roles = body.Roles, Attributes = body.Attributes }
                            ),
                        },
                        $"user {body.Name} set",
                        new SetUser(body.Name)
                    );
                })
            );
        manage
            .Needing(ManagementRights.Administer)
            .MapDelete("/accounts/users/{name}", (string name, HttpContext context, IAccountStore accounts, AuditLog audit) =>
                Remove(
                    context,
                    audit,
                    accounts,
                    f => f.Users.ContainsKey(name),
                    f => f with { Users = f.Users.Remove(name) },
                    $"user {name} removed"
                )
            );
    }

    private static void MapKeys(RouteGroupBuilder manage, ServiceRegistry registry)
    {
        manage
            .Needing(ManagementRights.Administer)
            .MapPost("/accounts/keys", (HttpContext context, IAccountStore accounts, AuditLog audit, TimeProvider time) =>
                ChangeAsync(context, audit, accounts, (body, file) =>
                {
                    if (body.Services?.FirstOrDefault(s => registry.Find(s) is null) is { } missing)
                        throw new BadAccountException($"There is no service '{missing}'.");
                    var now = time.GetUtcNow().UtcDateTime;
                    var (changed, id, key) = file.WithKey(
                        new ApiKey(body.Name, "", now)
                        {
                            Roles = body.Roles,
                            Attributes = body.Attributes,
                            Services = body.Services,
                            May = body.May,
                            Expires = body.Days is { } days ? now.AddDays(days) : null,
                        }
                    );
                    return new Changed(changed, $"key {id} made for {body.Name}", new MadeKey(id, key));
                })
            );
        manage
            .Needing(ManagementRights.Administer)
            .MapDelete("/accounts/keys/{id}", (string id, HttpContext context, IAccountStore accounts, AuditLog audit) =>
                Remove(context, audit, accounts, f => f.Keys.ContainsKey(id), f => f with { Keys = f.Keys.Remove(id) }, $"key {id} revoked")
            );
    }

    private static void MapAccess(RouteGroupBuilder manage, ServiceRegistry registry)
    {
        manage
            .Needing(ManagementRights.Look)
            .MapGet("/services/{name}/access", (string name, string? user, string? roles, string? attributes, IAccountStore store) =>
                registry.Find(name) is not { } service
                    ? ManagementInterface.Problem(404, "not-found", $"There is no service '{name}'.")
                    : ManagementInterface.Json(
                        new ServiceAccess(
                            name,
                            user is null && roles is null
                                ? AccessMatrix.Of(service)
                                : AccessMatrix.Of(service, user ?? roles!, CallerOf(store, user, roles, attributes), holdsAll: false)
                        )
                    )
            );
        manage.Needing(ManagementRights.Write).MapGet("/view", ViewAsync);
        manage
            .Needing(ManagementRights.Administer)
            .MapGet("/audit", (string? @event, string? caller, int? count, AuditLog audit) =>
                ManagementInterface.Json(
                    new AuditPage(
                        audit.Store is not null,
                        (audit.Store?.Read() ?? [])
                            .Where(e => (@event is null || e.Event == @event) && (caller is null || e.Caller == caller))
                            .Take(Math.Clamp(count ?? 100, 1, 1_000))
                    )
                )
            );
    }

    private static Accounts Shown(ServiceRegistry registry, AccountDirectory file, AuditLog audit)
    {
        var uses = LastUses(audit, [.. file.Users.Keys.Select(u => "user " + u), .. file.Keys.Keys.Select(k => "key " + k)]);
        DateTime? LastUse(string of) => uses.TryGetValue(of, out var time) ? time : null;
        return new Accounts(
            registry
                .All.SelectMany(s => s.Model.Sets)
                .SelectMany(s => s.Rules)
                .SelectMany(r => r.Who.Roles)
                .Concat(file.Users.Values.SelectMany(u => u.Roles))
                .Distinct()
                .Order(StringComparer.Ordinal),
            file.Users.Select(u => new UserInfo(u.Key, u.Value.Roles, u.Value.Attributes, LastUse("user " + u.Key))),
            file.Keys.Select(k => new KeyInfo(
                k.Key,
                k.Value.Name,
                k.Value.Roles,
                k.Value.Attributes,
                k.Value.Services,
                k.Value.May,
                k.Value.IsAdministrator,
                k.Value.IsAdministrator ? ManagementRightWords.Of(ManagementRightWords.Of(k.Value.Rights)) : null,
                k.Value.Made,
                k.Value.Expires,
                LastUse("key " + k.Key)
            )),
            file.Administrators.Select(a => new AdministratorInfo(a.Key, ManagementRightWords.Of(ManagementRightWords.Of(a.Value.Rights))))
        );
    }

    /// <summary>When each of some accounts was used last; the log is read back until all are known.</summary>
    private static Dictionary<string, DateTime> LastUses(AuditLog audit, HashSet<string> wanted)
    {
        var found = new Dictionary<string, DateTime>();
        foreach (var use in audit.Store?.Read() ?? [])
        {
            if (found.Count == wanted.Count)
                break;
            var of =
                use.Event != AuditEvents.SignIn ? null
                : use.Key is { } key ? "key " + key
                : use.By == "password" ? "user " + use.Caller
                : null;
            if (of is not null && wanted.Contains(of))
                found.TryAdd(of, use.Time);
        }
        return found;
    }

    /// <param name="Note">For the audit log.</param>
    private sealed record Changed(AccountDirectory Accounts, string Note, object Answer);

    private sealed class BadAccountException(string message) : Exception(message);

    private static async Task<IResult> ChangeAsync(
        HttpContext context,
        AuditLog audit,
        IAccountStore accounts,
        Func<AccountBody, AccountDirectory, Changed> change
    )
    {
        if (await BodyAsync<AccountBody>(context) is not { } body)
            return ManagementInterface.Problem(400, "body", "The body cannot be read: send the account as JSON.");
        if (body.Fault is { } fault)
            return ManagementInterface.Problem(400, "account", fault);
        try
        {
            Changed? done = null;
            accounts.Change(file => (done = change(body, file)).Accounts);
            audit.Managed(context, AdministratorOf(context), done!.Note);
            return ManagementInterface.Json(done.Answer);
        }
        catch (BadAccountException exception)
        {
            return ManagementInterface.Problem(400, "account", exception.Message);
        }
        catch (State.StateException)
        {
            return ManagementInterface.Problem(503, "accounts", "The accounts cannot be changed now.");
        }
    }

    private static IResult Remove(
        HttpContext context,
        AuditLog audit,
        IAccountStore accounts,
        Func<AccountDirectory, bool> isThere,
        Func<AccountDirectory, AccountDirectory> remove,
        string note
    )
    {
        try
        {
            var found = false;
            accounts.Change(file => (found = isThere(file)) ? remove(file) : file);
            if (!found)
                return ManagementInterface.Problem(404, "not-found", "There is no such account.");
            audit.Managed(context, AdministratorOf(context), note);
            return Results.NoContent();
        }
        catch (State.StateException)
        {
            return ManagementInterface.Problem(503, "accounts", "The accounts cannot be changed now.");
        }
    }

    /// <summary>What a read gives to somebody else.</summary>
    /// <param name="url">Path and query of a face.</param>
    /// <param name="accept">The formats that are wanted, as the header says them.</param>
    private static async Task<IResult> ViewAsync(
        string? url,
        string? user,
        string? roles,
        string? attributes,
        string? accept,
        HttpContext context,
        FaceTable faces,
        FacePipeline pipeline,
        Allowances allowances,
        IAccountStore store,
        AuditLog audit
    )
    {
        if (url is null || faces.Find(url) is not { } face)
            return ManagementInterface.Problem(400, "no-face", "Give an address of a service, from the slash after the host on, as 'url'.");
        var caller = CallerOf(store, user, roles, attributes);
        audit.Managed(context, AdministratorOf(context), $"looked as {user ?? roles ?? "an anonymous caller"}");
        using var allowance = allowances.For(context, caller);
        var answer = await InnerExchange.RunAsync(
            context,
            caller,
            new InnerRequest("GET", url.Replace(" ", "%20", StringComparison.Ordinal), accept is null ? [] : [("Accept", accept)], []),
            face,
            pipeline,
            allowance,
            context.RequestAborted
        );
        var type = answer.ContentType;
        var text = IsText(type)
            ? Encoding.UTF8.GetString(answer.Body.AsSpan(0, Math.Min(answer.Body.Length, ShownBytes)))
            : $"{answer.Body.Length} bytes of {type}";
        return ManagementInterface.Json(new SeenAnswer(answer.Status, type, answer.Body.Length <= ShownBytes, text));
    }

    internal static bool IsText(string? type) =>
        type is null
        || type.StartsWith("text/", StringComparison.OrdinalIgnoreCase)
        || Regex.IsMatch(type, @"^(application/|multipart/)([^;]*\+)?(json|xml|yaml|x-ndjson|mixed)\b", RegexOptions.IgnoreCase);

    /// <summary>
    /// Whom a look is for: a user by name, else roles joined by commas, with attributes as <c>name=value</c> joined by commas; else
    /// anonymous.
    /// </summary>
    internal static Caller CallerOf(IAccountStore store, string? user, string? roles, string? attributes)
    {
        static string[] Words(string? text) =>
            text?.Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries) ?? [];
        if (user is not null)
            return store.Current?.Users.GetValueOrDefault(user) is { } account
                ? new Caller(true, [.. account.Roles]) { Name = user, Attributes = account.Attributes }
                : Caller.WithRoles() with
                {
                    Name = user,
                };
        return roles is null
            ? Caller.Anonymous
            : new Caller(true, [.. Words(roles)])
            {
                Attributes = Caller.AttributesOf(
                    Words(attributes).Select(a => a.Split('=', 2)).Where(a => a.Length == 2).Select(a => (a[0], a[1]))
                ),
            };
    }

    internal static string AdministratorOf(HttpContext context) => (context.Items[ManagementInterface.ManagerItem] as Manager)?.Name ?? "";

    private static async Task<T?> BodyAsync<T>(HttpContext context)
        where T : class
    {
        try
        {
            return context.Request.ContentLength is > 64 * 1024 || !context.Request.HasJsonContentType()
                ? null
                : await ManagementBody.ReadAsync<T>(context, ManagementInterface.JsonOptions, 64 * 1024);
        }
        catch (Exception exception) when (exception is JsonException or BadHttpRequestException or InvalidOperationException)
        {
            return null;
        }
    }
}
