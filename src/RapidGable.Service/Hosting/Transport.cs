using System.Security.Authentication;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.HttpOverrides;
using Microsoft.AspNetCore.Server.Kestrel.Core;
using Microsoft.AspNetCore.Server.Kestrel.Https;
using RapidGable.Declarations;
using RapidGable.Expressions;
using RapidGable.Payloads.Json;
using RapidGable.Service.Faces;
using RapidGable.Service.Identity;

namespace RapidGable.Service.Hosting;

/// <summary>What the declared settings cannot be served with, in words for who started it.</summary>
public sealed class TransportException(string message, Exception? inner = null) : Exception(message, inner);

/// <summary>How requests reach the service: TLS, proxies in front of it, host names, and what browsers are told.</summary>
internal static class Transport
{
    /// <exception cref="TransportException">When the certificate cannot be read.</exception>
    public static void Secure(ListenOptions listen, WorkspaceDeclaration workspace)
    {
        if (workspace.Transport.Certificate is not { } file)
            return;
        var (certificate, others) = Read(workspace, file.Value);
        listen.UseHttps(https =>
        {
            https.ServerCertificate = certificate;
            https.ServerCertificateChain = others;
            https.SslProtocols = SslProtocols.Tls12 | SslProtocols.Tls13;
            if (workspace.SignIn.Certificates.IsEmpty)
                return;
            https.ClientCertificateMode = ClientCertificateMode.AllowCertificate;
            // A certificate that is not believed is refused with words, where callers sign in.
            https.ClientCertificateValidation = (_, _, _) => true;
        });
    }

    private static (X509Certificate2, X509Certificate2Collection) Read(WorkspaceDeclaration workspace, string file)
    {
        try
        {
            var path = Path.Combine(workspace.Folder, file);
            var all = new X509Certificate2Collection();
            all.ImportFromPemFile(path);
            return (
                X509Certificate2.CreateFromPemFile(
                    path,
                    workspace.Transport.Key is { } key ? Path.Combine(workspace.Folder, key.Value) : null
                ),
                [.. all.Skip(1)]
            );
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException or CryptographicException)
        {
            throw new TransportException($"The certificate in '{file}' cannot be used: {exception.Message}", exception);
        }
    }

    public static void Use(WebApplication app, TransportDeclaration transport)
    {
        app.Use(
            (context, next) =>
            {
                context.Features.Set(new Peer(context.Connection.RemoteIpAddress));
                return next(context);
            }
        );
        if (!transport.Proxies.IsEmpty)
            app.UseForwardedHeaders(Forwarded(transport));
        app.Use(
            (context, next) =>
            {
                var response = context.Response;
                response.Headers.XContentTypeOptions = "nosniff";
                if (transport.HstsDays is { } days && context.Request.IsHttps)
                    response.Headers.StrictTransportSecurity = $"max-age={days * 86_400}";
                if (!transport.Hosts.IsEmpty && !transport.Hosts.Any(h => IsHost(context.Request.Host.Host, h)))
                    return FailAsync(context, new RequestFault(400, "host", "This host name is not served here.", "Host"));
                return HoldsSecret(context)
                    ? FailAsync(
                        context,
                        new RequestFault(
                            400,
                            "key-in-url",
                            "A key or a token stands in the address, where logs and histories keep it. Send it in the header "
                                + "Authorization, and make a new one: this one is no longer secret."
                        )
                    )
                    : next(context);
            }
        );
        if (transport.Origins.IsEmpty)
            return;
        // The management interface is for pages of this service only. The path is compared as routing reads it, decoded.
        app.UseWhen(
            context => !context.Request.Path.StartsWithSegments("/manage", StringComparison.OrdinalIgnoreCase),
            open =>
                open.UseCors(policy =>
                    policy
                        .WithOrigins([.. transport.Origins])
                        .WithMethods("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS")
                        .WithHeaders(
                            "Authorization",
                            "Content-Type",
                            "Accept",
                            "Accept-Language",
                            "OData-Version",
                            "OData-MaxVersion",
                            "Prefer",
                            "If-Match",
                            "If-None-Match",
                            "Range",
                            "X-Requested-With",
                            "Idempotency-Key",
                            RepeatHeaders.Id,
                            RepeatHeaders.Sent
                        )
                        .WithExposedHeaders(
                            "OData-Version",
                            "OData-EntityId",
                            "Location",
                            "ETag",
                            "Preference-Applied",
                            "Retry-After",
                            "AsyncResult",
                            "Allow",
                            "Accept-Patch",
                            "Content-Disposition",
                            "Link",
                            "Total-Count",
                            "WWW-Authenticate",
                            RepeatHeaders.Result
                        )
                        .SetPreflightMaxAge(TimeSpan.FromMinutes(10))
                )
        );
    }

    private static ForwardedHeadersOptions Forwarded(TransportDeclaration transport)
    {
        var options = new ForwardedHeadersOptions
        {
            ForwardedHeaders = ForwardedHeaders.XForwardedFor | ForwardedHeaders.XForwardedProto | ForwardedHeaders.XForwardedHost,
            ForwardLimit = null,
            RequireHeaderSymmetry = false,
        };
        options.KnownProxies.Clear();
        options.KnownIPNetworks.Clear();
        foreach (var network in transport.Proxies)
            options.KnownIPNetworks.Add(network);
        foreach (var host in transport.Hosts)
            options.AllowedHosts.Add(host);
        return options;
    }

    private static bool IsHost(string host, string declared) =>
        declared.StartsWith("*.", StringComparison.Ordinal)
            ? host.EndsWith(declared[1..], StringComparison.OrdinalIgnoreCase)
            : host.Equals(declared, StringComparison.OrdinalIgnoreCase);

    /// <summary>Whether a key or a token stands in the address (RFC 6750, 2.3 warns of it).</summary>
    private static bool HoldsSecret(HttpContext context)
    {
        var (path, query) = RawTarget.Of(context);
        return path.Contains(AccountDirectory.KeyPrefix + "_", StringComparison.OrdinalIgnoreCase)
            || (
                query.Length > 0
                && (
                    query.Contains(AccountDirectory.KeyPrefix + "_", StringComparison.OrdinalIgnoreCase)
                    || ("&" + query).Contains("&access_token=", StringComparison.OrdinalIgnoreCase)
                )
            );
    }

    private static Task FailAsync(HttpContext context, RequestFault fault)
    {
        context.Response.StatusCode = fault.Status;
        return Bodies.SendAsync(context, "application/json", ErrorJsonWriter.Write(fault));
    }
}
