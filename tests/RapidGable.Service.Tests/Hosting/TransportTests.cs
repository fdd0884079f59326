using System.Net.Security;
using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using System.Text;
using RapidGable.Core.Tests;
using RapidGable.Service.Hosting;
using RapidGable.Service.Identity;

namespace RapidGable.Service.Tests;

/// <summary>TLS, client certificates, proxies, host names, and what browsers are told, against the real service.</summary>
[Trait("Category", "Attack")]
public sealed class TransportTests : IDisposable
{
    private readonly TestWorkspace _folder = new TestWorkspace()
        .WithSource()
        .WithDatabase("CREATE TABLE visit (id INTEGER PRIMARY KEY, region TEXT); INSERT INTO visit VALUES (1, 'north'), (2, 'south')")
        .Write(
            "services/s.yaml",
            """
            title: S
            source: main
            namespace: T
            sets:
              - from: visit
                name: Visits
                rules: [{ who: office, may: read }, { who: field, may: read, rows: region eq @region }]
              - { from: visit, name: Open, type: Open, rules: { read: anyone } }
            """
        );

    public void Dispose() => _folder.Dispose();

    private Task<RunningService> StartAsync(string workspace, SocketsHttpHandler? handler = null)
    {
        _folder.Write("workspace.yaml", "title: Test\n" + workspace);
        return RunningService.StartAsync(_folder.Folder, null, handler);
    }

    private static string Ids(Answer answer) =>
        answer.Status != 200
            ? $"{answer.Status}"
            : string.Join(',', answer.Json.GetProperty("value").EnumerateArray().Select(v => v.GetProperty("id").GetInt64()));

    private const string Proxy =
        "sign-in:\n  proxy: { from: 127.0.0.0/8, name: X-Remote-User, roles: X-Remote-Groups, attributes: { region: X-Remote-Region } }\n";

    [Theory]
    [InlineData("X-Remote-User=ines X-Remote-Groups=office", "1,2")]
    [InlineData("X-Remote-User=ines X-Remote-Groups=a,field X-Remote-Region=south", "2")]
    [InlineData("X-Remote-User=ines X-Remote-Groups=field X-Remote-Region=south,north", "1,2")]
    [InlineData("X-Remote-User=ines X-Remote-Groups=field", "404")]
    [InlineData("X-Remote-User=ines", "404")]
    [InlineData("X-Remote-Groups=office", "401")]
    [InlineData("X_Remote_User=ines X_Remote_Groups=office", "401")]
    public async Task A_proxy_says_who_asks(string headers, string expected)
    {
        await using var http = await StartAsync(Proxy);
        Assert.Equal(
            expected,
            Ids(await http.SendAsync("/odata/s/Visits", "GET", [.. headers.Split(' ').Select(h => (h.Split('=')[0], h.Split('=')[1]))]))
        );
    }

    [Theory] // one header may have come through from the caller
    [InlineData("X-Remote-User: ines\r\nX-Remote-User: root\r\nX-Remote-Groups: office")]
    [InlineData("X-Remote-User: ines\r\nX-Remote-Groups: a\r\nX-Remote-Groups: office")]
    [InlineData("X-Remote-User: \r\nX-Remote-Groups: office")]
    public async Task What_a_proxy_would_not_send_is_refused(string headers)
    {
        await using var http = await StartAsync(Proxy);
        Assert.StartsWith(
            "HTTP/1.1 401",
            await http.SendRawAsync(
                Encoding.ASCII.GetBytes($"GET /odata/s/Visits HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n{headers}\r\n\r\n")
            )
        );
    }

    [Fact] // nor when forwarded headers say that they come from there
    public async Task From_elsewhere_the_headers_of_a_proxy_mean_nothing()
    {
        await using var http = await StartAsync(
            Proxy.Replace("127.0.0.0/8", "10.0.0.0/8", StringComparison.Ordinal) + "transport: { proxies: 127.0.0.1 }\n"
        );
        Assert.Equal(
            401,
            (
                await http.SendAsync(
                    "/odata/s/Visits",
                    "GET",
                    ("X-Remote-User", "ines"),
                    ("X-Remote-Groups", "office"),
                    ("X-Forwarded-For", "10.0.0.1")
                )
            ).Status
        );
    }

    [Fact]
    public async Task Forwarded_headers_are_believed_from_declared_proxies_only()
    {
        (string, string)[] forwarded =
        [
            ("X-Forwarded-For", "192.0.2.7"),
            ("X-Forwarded-Proto", "https"),
            ("X-Forwarded-Host", "water.example.org"),
        ];
        await using (var http = await StartAsync("transport: { proxies: [127.0.0.1], hsts-days: 2 }\n"))
        {
            var answer = await http.SendAsync("/odata/s/", "GET", forwarded);
            Assert.Contains("https://water.example.org/odata/s/", answer.Text);
            Assert.Equal("max-age=172800", answer.Header("Strict-Transport-Security"));
            // Whoever is behind the proxy is not on this machine.
            Assert.Equal(401, (await http.SendAsync("/manage/services", "GET", ("X-Forwarded-For", "192.0.2.7"))).Status);
        }
        await using (var http = await StartAsync("transport: { proxies: [10.0.0.1], hsts-days: 2 }\n"))
        {
            var answer = await http.SendAsync("/odata/s/", "GET", forwarded);
            Assert.Contains(http.Address + "/odata/s/", answer.Text);
            Assert.Null(answer.Header("Strict-Transport-Security"));
        }
    }

    [Fact] // over plain HTTP from another machine everybody on the way reads it
    public async Task A_password_is_not_taken_in_the_open()
    {
        new AccountDirectory
        {
            Users = System.Collections.Immutable.ImmutableSortedDictionary<string, UserAccount>.Empty.Add(
                "ines",
                new UserAccount(PasswordHash.Make("open sesame")) { Roles = ["office"] }
            ),
        }.Write(_folder.Folder);
        await using var http = await StartAsync("transport: { proxies: [127.0.0.1] }\n");
        (string, string) basic = ("Authorization", "Basic " + Convert.ToBase64String("ines:open sesame"u8));
        Assert.Equal(200, (await http.SendAsync("/odata/s/Visits", "GET", basic)).Status);
        Assert.Equal(
            200,
            (await http.SendAsync("/odata/s/Visits", "GET", basic, ("X-Forwarded-For", "192.0.2.7"), ("X-Forwarded-Proto", "https"))).Status
        );
        var refused = await http.SendAsync("/odata/s/Visits", "GET", basic, ("X-Forwarded-For", "192.0.2.7"));
        Assert.Equal((401, "tls-needed"), (refused.Status, refused.Json.GetProperty("error").GetProperty("code").GetString()));
        // Nor is a key or a token.
        foreach (var bearer in new[] { "gablekey_0123_4567", "a.b.c" })
            Assert.Contains(
                "tls-needed",
                (
                    await http.SendAsync("/odata/s/Visits", "GET", ("Authorization", "Bearer " + bearer), ("X-Forwarded-For", "192.0.2.7"))
                ).Text
            );
    }

    [Theory]
    [InlineData("water.example.org", 200)]
    [InlineData("WATER.example.org:8460", 200)]
    [InlineData("a.map.example.org", 200)]
    [InlineData("map.example.org", 400)]
    [InlineData("evil.example.org", 400)]
    [InlineData("water.example.org.evil.example.org", 400)]
    [InlineData("127.0.0.1", 400)]
    public async Task Only_declared_hosts_are_answered(string host, int status)
    {
        await using var http = await StartAsync("transport: { hosts: [water.example.org, '*.map.example.org'] }\n");
        Assert.Equal(status, (await http.SendAsync("/odata/s/", "GET", ("Host", host))).Status);
    }

    [Theory]
    [InlineData("https://map.example.org", true)]
    [InlineData("https://evil.example.org", false)]
    [InlineData("https://map.example.org.evil.example.org", false)]
    [InlineData("http://map.example.org", false)]
    [InlineData("null", false)]
    [Proves("R-26, R-27")]
    public async Task Pages_of_declared_origins_may_read(string origin, bool may)
    {
        await using var http = await StartAsync("transport: { origins: [https://map.example.org] }\n");
        var answer = await http.SendAsync("/odata/s/Open", "GET", ("Origin", origin));
        Assert.Equal(may ? origin : null, answer.Header("Access-Control-Allow-Origin"));
        Assert.Null(answer.Header("Access-Control-Allow-Credentials"));
        var preflight = await http.SendAsync(
            "/odata/s/Visits",
            "OPTIONS",
            ("Origin", origin),
            ("Access-Control-Request-Method", "GET"),
            ("Access-Control-Request-Headers", "authorization")
        );
        Assert.Equal(may ? origin : null, preflight.Header("Access-Control-Allow-Origin"));
        Assert.Contains("Origin", answer.Header("Vary"));
        foreach (var header in new[] { "ETag", "Link", "Location", "OData-Version", "Total-Count", "Retry-After", "Preference-Applied" })
            Assert.Equal(may, answer.Header("Access-Control-Expose-Headers")?.Contains(header) == true);
        foreach (var management in new[] { "/manage/services", "/%6danage/services", "/MANAGE/services", "/x/../manage/services" })
            Assert.Null((await http.SendAsync(management, "GET", ("Origin", origin))).Header("Access-Control-Allow-Origin"));
    }

    [Theory] // what the documents recommend to send
    [InlineData("If-Match")]
    [InlineData("Prefer")]
    [InlineData("X-Requested-With")]
    [InlineData("Repeatability-Request-ID")]
    [InlineData("Repeatability-First-Sent")]
    [InlineData("Idempotency-Key")]
    [Proves("R-26")]
    public async Task Pages_of_declared_origins_may_send(string header)
    {
        await using var http = await StartAsync("transport: { origins: [https://map.example.org] }\n");
        var preflight = await http.SendAsync(
            "/odata/s/Visits",
            "OPTIONS",
            ("Origin", "https://map.example.org"),
            ("Access-Control-Request-Method", "PATCH"),
            ("Access-Control-Request-Headers", header.ToLowerInvariant())
        );
        Assert.Contains(header, preflight.Header("Access-Control-Allow-Headers") ?? "", StringComparison.OrdinalIgnoreCase);
    }

    [Theory]
    [InlineData("/odata/s/Open?key=gablekey_0123_4567")]
    [InlineData("/odata/s/Open?access_token=abc")]
    [InlineData("/odata/s/Open?$top=1&ACCESS_TOKEN=abc")]
    [InlineData("/odata/gablekey_0123_4567/Open")]
    [InlineData("/services?access_token=x")]
    [InlineData("/manage/services?access_token=x")]
    public async Task A_key_in_an_address_is_refused(string target)
    {
        await using var http = await StartAsync("");
        var answer = await http.SendAsync(target);
        Assert.Equal((400, "key-in-url"), (answer.Status, answer.Json.GetProperty("error").GetProperty("code").GetString()));
        Assert.DoesNotContain("0123", answer.Text);
    }

    [Fact]
    public async Task More_requests_than_declared_wait()
    {
        await using var http = await StartAsync("limits: { requests-per-minute: 5 }\n");
        for (var i = 0; i < 5; i++)
            Assert.Equal(200, (await http.SendAsync("/odata/s/Open")).Status);
        var refused = await http.SendAsync("/odata/s/Open");
        Assert.Equal((429, "too-many"), (refused.Status, refused.Json.GetProperty("error").GetProperty("code").GetString()));
        Assert.InRange(int.Parse(refused.Header("Retry-After")!), 1, 60);
    }

    [Fact] // the parts of a batch count, or it would be a way around
    public async Task A_batch_counts_its_parts()
    {
        await using var http = await StartAsync("limits: { requests-per-minute: 4 }\n");
        var parts = string.Join(',', Enumerable.Range(1, 5).Select(i => $$"""{"id":"{{i}}","method":"GET","url":"Open"}"""));
        var answer = await http.SendAsync(
            "/odata/s/$batch",
            "POST",
            $$"""{"requests":[{{parts}}]}""",
            ("Accept", "application/json"),
            ("Prefer", "continue-on-error")
        );
        Assert.Equal(
            [200, 200, 200, 429, 429],
            answer.Json.GetProperty("responses").EnumerateArray().Select(r => r.GetProperty("status").GetInt32())
        );
    }

    [Fact]
    public async Task More_requests_at_once_than_declared_wait()
    {
        _folder.WithDatabase(
            "WITH RECURSIVE n(i) AS (SELECT 10 UNION ALL SELECT i + 1 FROM n WHERE i < 200000) INSERT INTO visit SELECT i, 'a "
                + "long text that makes the answer larger than what is buffered on the way' FROM n"
        );
        _folder.Write(
            "services/s.yaml",
            "title: S\nsource: main\nnamespace: T\nsets:\n  - { from: visit, name: Open, type: Open, page: 500000, "
                + "largest-page: 500000, rules: { read: anyone } }\n"
        );
        await using var http = await StartAsync("limits: { requests-at-once: 1 }\n");
        using var client = new HttpClient();
        // Its answer is not taken, so the request goes on.
        using (var first = await client.GetAsync(http.Address + "/odata/s/Open", HttpCompletionOption.ResponseHeadersRead))
            Assert.Equal(
                (429, "1"),
                (await http.SendAsync("/odata/s/Open?$top=1")) is var refused ? (refused.Status, refused.Header("Retry-After")) : default
            );
        for (var tries = 0; tries < 200 && (await http.SendAsync("/odata/s/Open?$top=1")).Status == 429; tries++)
            await Task.Delay(50);
        Assert.Equal(200, (await http.SendAsync("/odata/s/Open?$top=1")).Status);
    }

    [Fact]
    public async Task Certificates_sign_in_over_tls()
    {
        using var authority = Authority("Alder Basin");
        using var other = Authority("Somebody else");
        using var service = Issue(authority, "localhost", "1.3.6.1.5.5.7.3.1");
        _folder
            .Write("tls/ca.pem", authority.ExportCertificatePem())
            .Write("tls/service.pem", service.ExportCertificatePem())
            .Write("tls/service.key", service.GetRSAPrivateKey()!.ExportPkcs8PrivateKeyPem());
        const string Declared = """
            transport: { certificate: tls/service.pem, key: tls/service.key, hsts-days: 1 }
            sign-in:
              certificates:
                - { authority: tls/ca.pem, common-name: loader, roles: [office] }
                - { authority: tls/ca.pem, roles: field, attributes: { region: south } }
            """;
        async Task<string> AskAsync(X509Certificate2? certificate)
        {
            var handler = new SocketsHttpHandler
            {
                SslOptions = new SslClientAuthenticationOptions
                {
                    RemoteCertificateValidationCallback = (_, presented, _, _) =>
                        presented!.GetCertHashString() == service.GetCertHashString(),
                },
            };
            if (certificate is not null)
                handler.SslOptions.LocalCertificateSelectionCallback = (_, _, _, _, _) => certificate;
            await using var http = await StartAsync(Declared, handler);
            Assert.StartsWith("https://", http.Address);
            var answer = await http.SendAsync("/odata/s/Visits");
            Assert.Equal("max-age=86400", answer.Header("Strict-Transport-Security"));
            return Ids(answer);
        }

        using var loader = Issue(authority, "loader");
        using var tom = Issue(authority, "tom");
        using var stranger = Issue(other, "loader");
        using var late = Issue(authority, "loader", ends: DateTimeOffset.UtcNow.AddDays(-1));
        using var server = Issue(authority, "loader", "1.3.6.1.5.5.7.3.1");
        Assert.Equal("401", await AskAsync(null));
        Assert.Equal("1,2", await AskAsync(loader));
        Assert.Equal("2", await AskAsync(tom));
        Assert.Equal("401", await AskAsync(stranger));
        Assert.Equal("401", await AskAsync(late));
        Assert.Equal("401", await AskAsync(server));
    }

    private static X509Certificate2 Authority(string name)
    {
        using var key = RSA.Create(2048);
        var request = new CertificateRequest($"CN={name}", key, HashAlgorithmName.SHA256, RSASignaturePadding.Pkcs1);
        request.CertificateExtensions.Add(new X509BasicConstraintsExtension(true, false, 0, true));
        return request.CreateSelfSigned(DateTimeOffset.UtcNow.AddDays(-9), DateTimeOffset.UtcNow.AddDays(9));
    }

    private static X509Certificate2 Issue(
        X509Certificate2 authority,
        string name,
        string use = "1.3.6.1.5.5.7.3.2",
        DateTimeOffset? ends = null
    )
    {
        using var key = RSA.Create(2048);
        var request = new CertificateRequest($"CN={name}", key, HashAlgorithmName.SHA256, RSASignaturePadding.Pkcs1);
        request.CertificateExtensions.Add(new X509EnhancedKeyUsageExtension([new Oid(use)], false));
        using var issued = request.Create(
            authority,
            DateTimeOffset.UtcNow.AddDays(-8),
            ends ?? DateTimeOffset.UtcNow.AddDays(8),
            RandomNumberGenerator.GetBytes(8)
        );
        using var own = issued.CopyWithPrivateKey(key);
        return X509CertificateLoader.LoadPkcs12(own.Export(X509ContentType.Pkcs12), null);
    }

    [Theory]
    [InlineData("transport: { certificate: tls/none.pem }\n", "cannot be used")]
    public async Task A_certificate_that_cannot_be_read_is_told(string workspace, string message)
    {
        var fault = await Assert.ThrowsAsync<TransportException>(() => StartAsync(workspace));
        Assert.Contains(message, fault.Message);
    }
}
