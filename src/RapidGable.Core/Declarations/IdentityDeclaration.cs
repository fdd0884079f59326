using System.Collections.Immutable;
using System.Net;
using RapidGable.Model;

namespace RapidGable.Declarations;

/// <summary>How callers may show who they are, besides the accounts and keys of the workspace.</summary>
/// <param name="Tokens">Issuers whose signed tokens are believed.</param>
/// <param name="Certificates">Client certificates that are believed; the first that fits a certificate decides.</param>
/// <param name="Proxy">A proxy that says who asks; null = none is believed.</param>
public sealed record SignInDeclaration(
    ImmutableArray<TokenDeclaration> Tokens,
    ImmutableArray<CertificateDeclaration> Certificates,
    ProxyDeclaration? Proxy
)
{
    public static readonly SignInDeclaration AccountsOnly = new([], [], null);
}

/// <summary>An issuer of JSON Web Tokens (RFC 7519).</summary>
/// <param name="Issuer">What the claim <c>iss</c> must be.</param>
/// <param name="Audience">What the claim <c>aud</c> must hold.</param>
/// <param name="Keys">Where its key set (RFC 7517) is: a file of the workspace, or an address.</param>
public sealed record TokenDeclaration(Located<string> Issuer, Located<string> Audience, Located<string> Keys)
{
    /// <summary>The claim that holds the caller's name; a dot leads into an object.</summary>
    public string NameClaim { get; init; } = "sub";

    /// <summary>The claim that holds the roles: a list, or a text of words.</summary>
    public string RolesClaim { get; init; } = "roles";

    /// <summary>Attribute -> the claim that holds it.</summary>
    public ImmutableArray<(string Attribute, string Claim)> Attributes { get; init; } = [];
}

/// <summary>Client certificates of one authority.</summary>
/// <param name="Authority">A file of the workspace with the certificates of the authority, in PEM.</param>
/// <param name="CommonName">The common name that the certificate must have; null = any.</param>
public sealed record CertificateDeclaration(Located<string> Authority, string? CommonName)
{
    public ImmutableArray<string> Roles { get; init; } = [];

    public ImmutableArray<(string Attribute, string Value)> Attributes { get; init; } = [];
}

/// <summary>A proxy that signs callers in and says in headers who they are.</summary>
/// <param name="From">The addresses that it sends from.</param>
/// <param name="NameHeader">The header with the caller's name.</param>
/// <param name="RolesHeader">The header with roles, joined by commas; null = none.</param>
public sealed record ProxyDeclaration(ImmutableArray<IPNetwork> From, string NameHeader, string? RolesHeader)
{
    /// <summary>Attribute -> the header that holds it.</summary>
    public ImmutableArray<(string Attribute, string Header)> Attributes { get; init; } = [];
}

/// <summary>How the service is reached; taken when it starts.</summary>
public sealed record TransportDeclaration
{
    public static readonly TransportDeclaration Plain = new();

    /// <summary>A PEM file with the service's certificate and those between it and its authority; null = no TLS.</summary>
    public Located<string>? Certificate { get; init; }

    /// <summary>A PEM file with the private key; null = it stands in <see cref="Certificate"/>.</summary>
    public Located<string>? Key { get; init; }

    /// <summary>Proxies whose forwarded headers are believed.</summary>
    public ImmutableArray<IPNetwork> Proxies { get; init; } = [];

    /// <summary>The names by which the service may be asked; empty = any.</summary>
    public ImmutableArray<string> Hosts { get; init; } = [];

    /// <summary>Days for which browsers come over TLS only; null = they are not told to.</summary>
    public int? HstsDays { get; init; }

    /// <summary>Web pages whose scripts may read answers, as origins; empty = none.</summary>
    public ImmutableArray<string> Origins { get; init; } = [];
}

/// <summary>How much callers may ask. What is null is not limited.</summary>
public sealed record TrafficDeclaration(int? RequestsPerMinute, int? RequestsAtOnce)
{
    public static readonly TrafficDeclaration Free = new(null, null);

    /// <summary>What each request is held to.</summary>
    public RequestLimits Requests { get; init; } = RequestLimits.Standard;

    /// <summary>Mebibytes that all requests may hold together; null = a quarter of the machine's memory, at most 1 GiB.</summary>
    public int? Memory { get; init; }

    /// <summary>Mebibytes that one request may hold.</summary>
    public int RequestMemory { get; init; } = 64;

    /// <summary>Requests that may wait for a session of one source.</summary>
    public int Waiting { get; init; } = 500;

    /// <summary>Requests of one caller that may wait for a session of one source.</summary>
    public int WaitingOfOne { get; init; } = 100;

    /// <summary>While others wait, a caller has a share of a source's sessions.</summary>
    public bool IsFair { get; init; } = true;

    /// <summary>Seconds that a caller may let a large answer wait, beside what <see cref="DownloadRate"/> gives.</summary>
    public int DownloadSeconds { get; init; } = 20;

    /// <summary>Seconds in the database after which a request is noted in the log.</summary>
    public int SlowSeconds { get; init; } = 2;

    /// <summary>Kibibytes of a large answer that a caller takes in a second at least.</summary>
    public int DownloadRate { get; init; } = 32;
}

/// <summary>Whether it is noted who signed in, was refused, and changed something.</summary>
/// <param name="IsKept">False = it is not noted.</param>
/// <param name="Days">After which a day's notes are removed.</param>
public sealed record AuditDeclaration(bool IsKept, int Days)
{
    public static readonly AuditDeclaration None = new(false, 1);

    public static readonly AuditDeclaration Standard = new(true, 90);
}

/// <summary>How long revisions are kept.</summary>
/// <param name="KeepDays">Days after which one may be removed, the newest excepted; null = they are kept for good.</param>
public sealed record RevisionsDeclaration(int? KeepDays)
{
    public static readonly RevisionsDeclaration Standard = new((int?)null);
}

/// <summary>Where the workspace keeps what is not declared: accounts, revisions, switches, sessions, the audit log.</summary>
/// <param name="Folder">A folder, counted from the workspace's.</param>
public sealed record StateDeclaration(string Folder)
{
    public static readonly StateDeclaration Standard = new("state");
}
