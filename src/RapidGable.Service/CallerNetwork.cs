using System.Net;
using System.Net.Sockets;

namespace RapidGable.Service;

/// <summary>Where callers come from, as far as it tells one from another.</summary>
internal static class CallerNetwork
{
    /// <summary>An address; of IPv6 the network of 64 bits that its host has all addresses of. Empty = none is known.</summary>
    public static string Of(IPAddress? address)
    {
        if (address is { IsIPv4MappedToIPv6: true })
            address = address.MapToIPv4();
        if (address is not { AddressFamily: AddressFamily.InterNetworkV6 } || IPAddress.IsLoopback(address))
            return address?.ToString() ?? "";
        var bytes = address.GetAddressBytes();
        bytes.AsSpan(8).Clear();
        return new IPAddress(bytes) + "/64";
    }
}
