using System.Collections.Immutable;
using System.Net;
using RapidGable.Model;

namespace RapidGable.Declarations;

/// <summary>
/// Reads what <c>workspace.yaml</c> says of callers: how they sign in, how they reach the service, how much they may ask, what is
/// noted.
/// </summary>
internal sealed class IdentityReader(MappingReader root)
{
    private readonly Diagnostics _diagnostics = root.Diagnostics;

    public SignInDeclaration SignIn()
    {
        if (root.Mapping("sign-in") is not { } reader)
            return SignInDeclaration.AccountsOnly;
        var read = new SignInDeclaration(
            [.. List(reader, "tokens").Select(Token).OfType<TokenDeclaration>()],
            [.. List(reader, "certificates").Select(Certificate).OfType<CertificateDeclaration>()],
            reader.Mapping("proxy") is { } proxy ? Proxy(proxy) : null
        );
        reader.ReportUnknown("'sign-in'");
        foreach (var twice in read.Tokens.GroupBy(t => (t.Issuer.Value, t.Audience.Value)).SelectMany(g => g.Skip(1)))
            _diagnostics.Error("sign-in", $"The issuer '{twice.Issuer.Value}' is declared twice for one audience.", twice.Issuer.Location);
        return read;
    }

    public TransportDeclaration Transport()
    {
        if (root.Mapping("transport") is not { } reader)
            return TransportDeclaration.Plain;
        var read = new TransportDeclaration
        {
            Certificate = reader.Text("certificate"),
            Key = reader.Text("key"),
            Proxies = Networks(reader, "proxies"),
            Hosts = [.. reader.Texts("hosts").Where(IsHost).Select(h => h.Value)],
            HstsDays = reader.Number("hsts-days", 1, 3_650),
            Origins = [.. reader.Texts("origins").Where(IsOrigin).Select(o => o.Value)],
        };
        reader.ReportUnknown("'transport'");
        if (read is { Key: { } key, Certificate: null })
            _diagnostics.Error("transport", "There is a private key without a certificate.", key.Location, "Write 'certificate: FILE'.");
        return read;
    }

    public TrafficDeclaration Traffic()
    {
        if (root.Mapping("limits") is not { } reader)
            return TrafficDeclaration.Free;
        var usual = TrafficDeclaration.Free;
        var read = new TrafficDeclaration(reader.Number("requests-per-minute", 1, 1_000_000), reader.Number("requests-at-once", 1, 10_000))
        {
            Requests = new RequestLimits(s => reader.Number(s.Name, s.Minimum, s.Maximum)),
            Memory = reader.Number("memory", 16, 1_000_000),
            RequestMemory = reader.Number("request-memory", 8, 100_000) ?? usual.RequestMemory,
            Waiting = reader.Number("waiting", 0, 100_000) ?? usual.Waiting,
            WaitingOfOne = reader.Number("waiting-per-caller", 0, 100_000) ?? usual.WaitingOfOne,
            IsFair = reader.Flag("fair-share", usual.IsFair),
            DownloadSeconds = reader.Number("download-seconds", 1, 86_400) ?? usual.DownloadSeconds,
            SlowSeconds = reader.Number("slow-seconds", 1, 86_400) ?? usual.SlowSeconds,
            DownloadRate = reader.Number("download-rate", 1, 1_000_000) ?? usual.DownloadRate,
        };
        reader.ReportUnknown("'limits'");
        if (read.Requests.Set("page") > read.Requests.Set("largest-page"))
            _diagnostics.Error(
                "page",
                $"'page' ({read.Requests.Page}) is more than 'largest-page' ({read.Requests.LargestPage}).",
                reader.KeyLocation("page")
            );
        return read;
    }

    public AuditDeclaration Audit()
    {
        if (root.Node("audit") is YamlScalar word)
        {
            if (word.Value is not ("false" or "no"))
                _diagnostics.Error("audit", $"'audit' holds 'days', or is false, not '{word.Value}'.", word.Location);
            return AuditDeclaration.None;
        }
        if (root.Mapping("audit") is not { } reader)
            return AuditDeclaration.Standard;
        var read = new AuditDeclaration(true, reader.Number("days", 1, 36_500) ?? AuditDeclaration.Standard.Days);
        reader.ReportUnknown("'audit'");
        return read;
    }

    /// <summary>How long revisions are kept.</summary>
    public RevisionsDeclaration Revisions()
    {
        if (root.Mapping("revisions") is not { } reader)
            return RevisionsDeclaration.Standard;
        var read = new RevisionsDeclaration(reader.Number("keep-days", 1, 36_500));
        reader.ReportUnknown("'revisions'");
        return read;
    }

    /// <summary>Where the state is kept.</summary>
    public StateDeclaration State()
    {
        const string Advice = "Write 'state: folder', or 'state: { folder: PATH }' for a folder elsewhere.";
        if (root.Node("state") is YamlScalar word)
        {
            if (word.Value != "folder")
                _diagnostics.Error("state", $"There is no kind of state '{word.Value}'.", word.Location, Advice);
            return StateDeclaration.Standard;
        }
        if (root.Mapping("state") is not { } reader)
            return StateDeclaration.Standard;
        var folder = reader.RequiredText("folder", "where the state is kept");
        if (folder is { Value: "" or "." or "/" })
            _diagnostics.Error("state", $"'{folder.Value}' is no folder for the state alone.", folder.Location, Advice);
        reader.ReportUnknown("'state'");
        return folder is null ? StateDeclaration.Standard : new StateDeclaration(folder.Value);
    }

    private TokenDeclaration? Token(MappingReader reader)
    {
        var (issuer, audience, keys) = (
            reader.RequiredText("issuer", "what the claim iss of its tokens is"),
            reader.RequiredText("audience", "what the claim aud of a token for this service holds"),
            reader.RequiredText("keys", "a file of the workspace, or an https address, with the issuer's key set")
        );
        var read =
            issuer is null || audience is null || keys is null
                ? null
                : new TokenDeclaration(issuer, audience, keys)
                {
                    NameClaim = reader.Text("name")?.Value ?? "sub",
                    RolesClaim = reader.Text("roles")?.Value ?? "roles",
                    Attributes = Attributes(reader),
                };
        reader.ReportUnknown("an issuer of tokens");
        if (
            keys is not null
            && keys.Value.Contains("://", StringComparison.Ordinal)
            && !(
                Uri.TryCreate(keys.Value, UriKind.Absolute, out var address)
                && (address.Scheme == "https" || (address.Scheme == "http" && address.IsLoopback))
            )
        )
            _diagnostics.Error(
                "sign-in",
                "Keys come from a file of the workspace, or over https: over plain http anybody on the way could replace them.",
                keys.Location
            );
        return read;
    }

    private CertificateDeclaration? Certificate(MappingReader reader)
    {
        var authority = reader.RequiredText("authority", "a file with the certificates of the authority, in PEM");
        var common = reader.Text("common-name")?.Value;
        var roles = reader.Texts("roles");
        foreach (var role in roles.Where(r => !AccessRule.IsRole(r.Value)))
            _diagnostics.Error("rule", $"'{role.Value}' cannot be a role: it takes small letters, digits and '-'.", role.Location);
        var read = authority is null
            ? null
            : new CertificateDeclaration(authority, common) { Roles = [.. roles.Select(r => r.Value)], Attributes = Attributes(reader) };
        reader.ReportUnknown("a certificate");
        return read;
    }

    private ProxyDeclaration? Proxy(MappingReader reader)
    {
        var networks = Networks(reader, "from");
        if (reader.Node("from") is null)
            _diagnostics.Error(
                "missing",
                "'from' is missing: the addresses that the proxy sends from.",
                reader.Location,
                "Write 'from: [10.0.0.5]'."
            );
        var name = reader.RequiredText("name", "the header in which it says the caller's name");
        var roles = reader.Text("roles");
        var attributes = Attributes(reader);
        reader.ReportUnknown("'proxy'");
        return name is null ? null : new ProxyDeclaration(networks, name.Value, roles?.Value) { Attributes = attributes };
    }

    private ImmutableArray<(string, string)> Attributes(MappingReader reader)
    {
        var pairs = reader.Pairs("attributes");
        foreach (var (name, _) in pairs.Where(p => !SimpleIdentifier.IsValid(p.Item1.Value) || p.Item1.Value == "user"))
            _diagnostics.Error(
                "sign-in",
                $"'{name.Value}' cannot be the name of an attribute: rules write it as @{name.Value}.",
                name.Location
            );
        return [.. pairs.Select(p => (p.Item1.Value, p.Item2.Value))];
    }

    private IEnumerable<MappingReader> List(MappingReader reader, string name)
    {
        switch (reader.Node(name))
        {
            case null:
                yield break;
            case YamlMapping one:
                yield return new MappingReader(one, _diagnostics);
                break;
            case YamlSequence list:
                foreach (var item in list.Items)
                {
                    if (item is YamlMapping entry)
                        yield return new MappingReader(entry, _diagnostics);
                    else
                        reader.Wrong<string>(item, $"each item of '{name}' holds names with values");
                }
                break;
            case var other:
                reader.Wrong<string>(other, $"'{name}' must be a list");
                break;
        }
    }

    private ImmutableArray<IPNetwork> Networks(MappingReader reader, string name)
    {
        var found = ImmutableArray.CreateBuilder<IPNetwork>();
        foreach (var text in reader.Texts(name))
        {
            if (IPAddress.TryParse(text.Value, out var address))
                found.Add(new IPNetwork(address, address.GetAddressBytes().Length * 8));
            else if (IPNetwork.TryParse(text.Value, out var network))
                found.Add(network);
            else
                _diagnostics.Error(
                    "transport",
                    $"'{text.Value}' is neither an address nor a network.",
                    text.Location,
                    "Write 10.0.0.5, or 10.0.0.0/24."
                );
        }
        return found.ToImmutable();
    }

    private bool IsHost(Located<string> host)
    {
        var isHost =
            Uri.CheckHostName(host.Value.StartsWith("*.", StringComparison.Ordinal) ? host.Value[2..] : host.Value)
            != UriHostNameType.Unknown;
        if (!isHost)
            _diagnostics.Error(
                "transport",
                $"'{host.Value}' is not a host's name.",
                host.Location,
                "Write a name without scheme and port, such as water.example.org."
            );
        return isHost;
    }

    private bool IsOrigin(Located<string> origin)
    {
        // An origin that is given as "null" could be any page in a sandbox, and one with a star any page at all.
        var isOrigin =
            Uri.TryCreate(origin.Value, UriKind.Absolute, out var address)
            && address.Scheme is "https" or "http"
            && address.GetLeftPart(UriPartial.Authority).Equals(origin.Value, StringComparison.OrdinalIgnoreCase);
        if (!isOrigin)
            _diagnostics.Error(
                "transport",
                $"'{origin.Value}' is not the origin of a web page.",
                origin.Location,
                "Write scheme, host and port, such as https://map.example.org; 'null' and '*' are not taken."
            );
        return isOrigin;
    }
}
