using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using Microsoft.Extensions.Logging;
using RapidGable.Access;
using RapidGable.Declarations;
using RapidGable.Expressions;
using RapidGable.Service.Publishing;

namespace RapidGable.Service.Identity;

/// <summary>
/// Finds out whom a client certificate stands for: it comes from a declared authority, is in its time, and made for clients (RFC 5280).
/// </summary>
internal sealed class CertificateSignIn(ServiceRegistry registry, TimeProvider time, ILogger<CertificateSignIn> log)
{
    private const string ClientAuthentication = "1.3.6.1.5.5.7.3.2";

    private readonly ConcurrentDictionary<string, (X509Certificate2Collection Authority, DateTime Written)> _authorities = new();

    public Result<Caller> CallerOf(X509Certificate2 certificate)
    {
        var common = certificate.GetNameInfo(X509NameType.SimpleName, forIssuer: false);
        var declared = registry.Workspace.Declaration.SignIn.Certificates.FirstOrDefault(d =>
            (d.CommonName is null || d.CommonName == common) && ComesFrom(certificate, d)
        );
        if (declared is null || common.Length == 0 || common.Any(char.IsControl))
            return new RequestFault(
                401,
                "sign-in",
                "The certificate does not come from an authority that is believed here, or is not in its time."
            );
        return new Caller(true, [.. declared.Roles]) { Name = common, Attributes = Caller.AttributesOf(declared.Attributes) };
    }

    private bool ComesFrom(X509Certificate2 certificate, CertificateDeclaration declared)
    {
        if (AuthorityOf(declared) is not { } authority)
            return false;
        using var chain = new X509Chain();
        chain.ChainPolicy.TrustMode = X509ChainTrustMode.CustomRootTrust;
        chain.ChainPolicy.CustomTrustStore.AddRange(authority);
        chain.ChainPolicy.RevocationMode = X509RevocationMode.NoCheck;
        chain.ChainPolicy.DisableCertificateDownloads = true;
        chain.ChainPolicy.VerificationTimeIgnored = false;
        chain.ChainPolicy.VerificationTime = time.GetUtcNow().UtcDateTime;
        chain.ChainPolicy.ApplicationPolicy.Add(new Oid(ClientAuthentication));
        return chain.Build(certificate);
    }

    private X509Certificate2Collection? AuthorityOf(CertificateDeclaration declared)
    {
        var path = Path.Combine(registry.Workspace.Declaration.Folder, declared.Authority.Value);
        try
        {
            var written = File.GetLastWriteTimeUtc(path);
            if (_authorities.TryGetValue(path, out var known) && known.Written == written)
                return known.Authority;
            var read = new X509Certificate2Collection();
            read.ImportFromPemFile(path);
            _authorities[path] = (read, written);
            return read;
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException or CryptographicException)
        {
            log.LogError("The certificates of {File} cannot be read: {Message}", declared.Authority.Value, exception.Message);
            return null;
        }
    }
}
