using System.Net;
using Microsoft.AspNetCore.Http;
using RapidGable.Access;
using RapidGable.Service.Hosting;
using RapidGable.Sources;

namespace RapidGable.Service.Traffic;

/// <summary>Gives each request its allowance of memory and sessions, out of what the workspace declares.</summary>
internal sealed class Allowances(ServiceRegistry registry)
{
    private const long Mebibyte = 1024 * 1024;

    /// <summary>What all requests, kept answers and plans hold together.</summary>
    public ByteBudget Process => registry.Memory;

    /// <summary>The allowance of a caller's request, to be disposed of when the request has ended.</summary>
    public RequestAllowance For(HttpContext context, Caller caller)
    {
        var declared = registry.Workspace.Declaration.Traffic;
        return new RequestAllowance(
            Who(context, caller),
            !caller.IsSignedIn,
            Process,
            declared.RequestMemory * Mebibyte,
            new SessionSharing(declared.Waiting, declared.WaitingOfOne, declared.IsFair)
        );
    }

    /// <summary>
    /// What tells one caller from another: their name, or for those who are not signed in the network that they come from.
    /// </summary>
    public static string Who(HttpContext context, Caller caller) =>
        caller.Name is { } name ? "name " + name : "address " + Network(context.Connection.RemoteIpAddress);

    /// <summary>An address; of IPv6 the network of 64 bits that its host has all addresses of.</summary>
    public static string Network(IPAddress? address)
    {
        if (address is { IsIPv4MappedToIPv6: true })
            address = address.MapToIPv4();
        if (address is not { AddressFamily: System.Net.Sockets.AddressFamily.InterNetworkV6 } || IPAddress.IsLoopback(address))
            return address?.ToString() ?? "";
        var bytes = address.GetAddressBytes();
        bytes.AsSpan(8).Clear();
        return new IPAddress(bytes) + "/64";
    }
}
