using System.Net;
using Microsoft.AspNetCore.Http;
using RapidGable.Access;
using RapidGable.Declarations;
using RapidGable.Expressions;

namespace RapidGable.Service.Identity;

/// <summary>The address that a connection really comes from, whatever headers say.</summary>
internal sealed record Peer(IPAddress? Address)
{
    public static IPAddress? Of(HttpContext context) => context.Features.Get<Peer>()?.Address;

    /// <summary>Whether it is in one of some networks.</summary>
    public static bool IsIn(IPAddress? address, IEnumerable<IPNetwork> networks) =>
        address is not null
        && (address.IsIPv4MappedToIPv6 ? address.MapToIPv4() : address) is var plain
        && networks.Any(n => n.Contains(plain));
}

/// <summary>Believes a proxy that signs callers in and says in headers who they are. From anywhere else the headers mean nothing.</summary>
internal static class ProxySignIn
{
    /// <summary>Null = it says nothing, or is not the proxy.</summary>
    public static Result<Caller>? CallerOf(HttpContext context, ProxyDeclaration proxy)
    {
        if (!Peer.IsIn(Peer.Of(context), proxy.From) || !context.Request.Headers.ContainsKey(proxy.NameHeader))
            return null;
        var told = new Dictionary<string, string>();
        foreach (
            var header in proxy
                .Attributes.Select(a => a.Header)
                .Append(proxy.NameHeader)
                .Append(proxy.RolesHeader)
                .OfType<string>()
                .Distinct()
        )
        {
            var values = context.Request.Headers[header];
            // Two of them: one may have come through from the caller.
            if (values.Count > 1 || values.ToString().Length > 8_000 || values.ToString().Any(char.IsControl))
                return SignIn.Refused($"The header {header} cannot be read.");
            if (values.Count == 1)
                told[header] = values.ToString().Trim();
        }
        if (told[proxy.NameHeader].Length == 0)
            return SignIn.Refused($"The header {proxy.NameHeader} is empty.");
        return new Caller(true, [.. Words(proxy.RolesHeader is { } roles ? told.GetValueOrDefault(roles) : null)])
        {
            Name = told[proxy.NameHeader],
            Attributes = Caller.AttributesOf(
                proxy.Attributes.SelectMany(a => Words(told.GetValueOrDefault(a.Header)).Select(v => (a.Attribute, v)))
            ),
        };
    }

    private static string[] Words(string? text) =>
        text?.Split(',', StringSplitOptions.RemoveEmptyEntries | StringSplitOptions.TrimEntries) ?? [];
}
