using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;
using RapidGable.Access;
using RapidGable.Service.Auditing;
using RapidGable.Service.Identity;
using RapidGable.UseCases;

namespace RapidGable.Service.Management;

/// <summary>Makes the page for the consumers of a service, as it is served.</summary>
/// <param name="name">How the caller is called in it.</param>
/// <param name="origin">Where consumers find the service, without a slash at the end.</param>
/// <returns>The page as HTML.</returns>
/// <exception cref="NotPossibleException">There is no such service, or the caller sees nothing of it.</exception>
public delegate Task<string> HandoverWork(string service, string name, Caller caller, string origin, CancellationToken cancellation);

/// <summary>The page that an administrator hands to the consumers of a service.</summary>
internal static class HandoverEndpoint
{
    public static void Map(RouteGroupBuilder manage) =>
        manage
            .Needing(ManagementRights.Write)
            .MapGet(
                "/handover/{service}",
                (string service, string? @as, HttpContext context, HandoverWork work, IAccountStore accounts, AuditLog audit) =>
                    PageAsync(service, @as, context, work, accounts, audit)
            );

    private static async Task<IResult> PageAsync(
        string service,
        string? who,
        HttpContext context,
        HandoverWork work,
        IAccountStore accounts,
        AuditLog audit
    )
    {
        if (NamedCaller.Of(accounts.Current, who) is not { } caller)
            return ManagementInterface.Problem(400, "caller", $"'{who}' is no user, and no list of roles.");
        var name = caller.IsSignedIn ? who! : NamedCaller.Anonymous;
        var origin = $"{context.Request.Scheme}://{context.Request.Host}";
        audit.Managed(context, AccountEndpoints.AdministratorOf(context), $"made a handover of {service} for {name}");
        try
        {
            return ManagementInterface.Page(context, await work(service, name, caller, origin, context.RequestAborted));
        }
        catch (NotPossibleException exception)
        {
            return ManagementInterface.Problem(404, "not-found", exception.Message);
        }
        catch (InvalidDataException exception)
        {
            return ManagementInterface.Problem(409, "draft-faults", exception.Message);
        }
    }
}
