using Microsoft.AspNetCore.Http;
using RapidGable.Access;
using RapidGable.Model;
using RapidGable.Service.Publishing;
using RapidGable.Sources;

namespace RapidGable.Service.Traffic;

/// <summary>Gives each request its allowance of memory and sessions, out of what the workspace declares.</summary>
internal sealed class Allowances(ServiceRegistry registry)
{
    private const long Mebibyte = 1024 * 1024;

    /// <summary>What all requests, kept answers and plans hold together.</summary>
    public ByteBudget Process => registry.Memory;

    /// <summary>What answers hold in files together.</summary>
    public ByteBudget Files { get; } = new(Limits.SpooledBytes);

    /// <summary>The allowance of a caller's request, to be disposed of when the request has ended.</summary>
    public RequestAllowance For(HttpContext context, Caller caller)
    {
        var declared = registry.Workspace.Declaration.Traffic;
        return new RequestAllowance(
            Who(context, caller),
            !caller.IsSignedIn,
            Process,
            declared.RequestMemory * Mebibyte,
            new SessionSharing(declared.Waiting, declared.WaitingOfOne, declared.IsFair),
            Files
        );
    }

    /// <summary>
    /// What tells one caller from another: their name, or for those who are not signed in the network that they come from.
    /// </summary>
    public static string Who(HttpContext context, Caller caller) =>
        caller.Name is { } name ? "name " + name : "address " + CallerNetwork.Of(context.Connection.RemoteIpAddress);
}
