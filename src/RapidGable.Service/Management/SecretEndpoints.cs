using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;
using RapidGable.Declarations;
using RapidGable.Service.Auditing;
using RapidGable.Service.Identity;
using RapidGable.Service.Management.Contracts;
using RapidGable.Service.Publishing;

namespace RapidGable.Service.Management;

/// <summary>The parts of the management interface about secrets. Their values go in, and never come out.</summary>
internal static class SecretEndpoints
{
    private sealed record SecretBody(string? Value);

    public static void Map(RouteGroupBuilder manage, ServiceRegistry registry)
    {
        manage
            .Needing(ManagementRights.Administer)
            .MapGet("/secrets", (SecretKeeper secrets) => StateGuard.Guard(() => ManagementInterface.Json(All(secrets, registry))));
        manage
            .Needing(ManagementRights.Administer)
            .MapPut("/secrets/{name}", (string name, HttpContext context, SecretKeeper secrets, SourcePolicy policy, AuditLog audit) =>
                StateGuard.GuardAsync(async () =>
                {
                    var body = await StateGuard.BodyAsync<SecretBody>(context);
                    if ((SecretKeeper.NameFault(name) ?? SecretKeeper.ValueFault(body.Value ?? "")) is { } fault)
                        return ManagementInterface.Problem(400, "secret", fault);
                    secrets.Set(name, body.Value!);
                    policy.Forget(name);
                    audit.Managed(context, AccountEndpoints.AdministratorOf(context), $"secret {name} set");
                    return Results.NoContent();
                })
            );
        manage
            .Needing(ManagementRights.Administer)
            .MapDelete("/secrets/{name}", (string name, HttpContext context, SecretKeeper secrets, AuditLog audit) => StateGuard.Guard(() =>
                {
                    if (!secrets.Remove(name))
                        return ManagementInterface.Problem(404, "not-found", $"There is no secret '{name}'.");
                    audit.Managed(context, AccountEndpoints.AdministratorOf(context), $"secret {name} removed");
                    return Results.NoContent();
                }));
    }

    private static IEnumerable<SecretInfo> All(SecretKeeper secrets, ServiceRegistry registry)
    {
        var texts = new WorkspaceFolder(registry.Workspace.Declaration.Folder).Read();
        return secrets.Names().Select(n => new SecretInfo(n, texts.Naming(n)));
    }
}
