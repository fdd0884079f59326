using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Routing;
using RapidGable.Service.Identity;

namespace RapidGable.Service.Management;

/// <summary>The right that an address of the management interface needs; an address without one answers nobody.</summary>
internal sealed record NeededRight(ManagementRights Right);

internal static class NeededRights
{
    /// <summary>Addresses that need a right.</summary>
    public static RouteGroupBuilder Needing(this RouteGroupBuilder manage, ManagementRights right) =>
        manage.MapGroup("").WithMetadata(new NeededRight(right));

    /// <summary>Whether the administrator of a request has a right, where that depends on what is asked.</summary>
    public static bool Has(HttpContext context, ManagementRights right) =>
        context.Items[ManagementInterface.ManagerItem] is Manager manager && manager.Rights.HasFlag(right);

    /// <summary>403 with the right that is missing.</summary>
    public static IResult Lacks(ManagementRights right) =>
        ManagementInterface.Problem(
            403,
            "right",
            $"Your account lacks the right '{string.Join(", ", ManagementRightWords.Of(right))}' that this needs. An administrator with "
                + "the right 'administer' can give it to you."
        );
}
