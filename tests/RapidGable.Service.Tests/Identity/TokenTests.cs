using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>Callers who sign in with a token of an issuer, over HTTP; the tokens are made here, byte by byte.</summary>
public sealed class TokenTests : IAsyncLifetime
{
    private sealed class Clock : TimeProvider
    {
        public override DateTimeOffset GetUtcNow() => new(2026, 6, 1, 12, 0, 0, TimeSpan.Zero);
    }

    private const long Now = 1780315200;

    private static readonly RSA Key = RSA.Create(2048);
    private static readonly RSA Stranger = RSA.Create(2048);
    private static readonly ECDsa Curve = ECDsa.Create(ECCurve.NamedCurves.nistP256);

    private readonly TestWorkspace _folder = new TestWorkspace()
        .WithSource()
        .WithDatabase(
            "CREATE TABLE visit (id INTEGER PRIMARY KEY, region TEXT); INSERT INTO visit VALUES (1, 'north'), (2, 'south'), (3, 'east')"
        )
        .Write(
            "workspace.yaml",
            """
            title: Test
            sign-in:
              tokens:
                - issuer: https://sign-in.example.org
                  audience: alder
                  keys: keys.json
                  name: preferred_username
                  roles: realm.roles
                  attributes: { region: https://example.org/region, level: clearance.level }
            """
        )
        .Write("keys.json", KeySet())
        .Write(
            "services/s.yaml",
            """
            title: S
            source: main
            namespace: T
            sets:
              - from: visit
                name: Visits
                rules:
                  - { who: office, may: read }
                  - { who: field, may: read, rows: region eq @region }
                  - { who: signed-in, may: read, rows: id lt @level }
              - { from: visit, name: Open, type: Open, rules: { read: anyone } }
            """
        );

    private RunningService _http = null!;

    private static string KeySet()
    {
        var (rsa, curve) = (Key.ExportParameters(false), Curve.ExportParameters(false));
        return JsonSerializer.Serialize(
            new
            {
                keys = new object[]
                {
                    new
                    {
                        kty = "RSA",
                        use = "sig",
                        kid = "one",
                        alg = "RS256",
                        n = Base64(rsa.Modulus!),
                        e = Base64(rsa.Exponent!),
                    },
                    new
                    {
                        kty = "EC",
                        use = "sig",
                        kid = "two",
                        crv = "P-256",
                        x = Base64(curve.Q.X!),
                        y = Base64(curve.Q.Y!),
                    },
                    new
                    {
                        kty = "oct",
                        kid = "shared",
                        k = Base64(new byte[32]),
                    },
                },
            }
        );
    }

    public async Task InitializeAsync() => _http = await RunningService.StartAsync(_folder.Folder, new Clock());

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    private static string Base64(byte[] bytes) => Convert.ToBase64String(bytes).TrimEnd('=').Replace('+', '-').Replace('/', '_');

    private static string Base64(string text) => Base64(Encoding.UTF8.GetBytes(text));

    private static string Claims(
        string more = "",
        string issuer = "https://sign-in.example.org",
        string audience = "\"alder\"",
        long expires = Now + 600
    ) =>
        $$"""{"iss":"{{issuer}}","aud":{{audience}},"exp":{{expires}},"preferred_username":"ines"{{(more.Length == 0 ? "" : "," + more)}}}""";

    private static string Token(string claims, string header = """{"alg":"RS256","kid":"one"}""", Func<byte[], byte[]>? sign = null)
    {
        var text = $"{Base64(header)}.{Base64(claims)}";
        sign ??= bytes => Key.SignData(bytes, HashAlgorithmName.SHA256, RSASignaturePadding.Pkcs1);
        return $"{text}.{Base64(sign(Encoding.ASCII.GetBytes(text)))}";
    }

    private Task<Answer> GetAsync(string token, string path = "/odata/s/Visits") =>
        _http.SendAsync(path, "GET", ("Authorization", "Bearer " + token));

    private static string Ids(Answer answer) =>
        string.Join(',', answer.Json.GetProperty("value").EnumerateArray().Select(v => v.GetProperty("id").GetInt64()));

    // Claims -> the rows that the rules give; roles as a list and as a text, attributes in objects, with several values, of other kinds.
    [Theory]
    [InlineData("""{"realm":{"roles":["office"]}}""", "1,2,3")]
    [InlineData("""{"realm":{"roles":"other office"}}""", "1,2,3")]
    [InlineData("""{"realm":{"roles":["field"]},"https://example.org/region":"south"}""", "2")]
    [InlineData("""{"realm":{"roles":["field"]},"https://example.org/region":["south","east"]}""", "2,3")]
    [InlineData("""{"clearance":{"level":2}}""", "1")]
    [InlineData("""{"clearance":{"level":[2,3]}}""", "1,2")]
    [InlineData("""{"clearance":{"level":"x"}}""", null)]
    [InlineData("""{"realm":{"roles":["field"]}}""", null)]
    [InlineData("""{"roles":["office"]}""", null)]
    [InlineData("""{"realm":{"roles":{"office":true}}}""", null)]
    public async Task Claims_become_roles_and_attributes(string more, string? ids)
    {
        var answer = await GetAsync(Token(Claims(more[1..^1])));
        Assert.Equal(ids ?? "404", answer.Status == 200 ? Ids(answer) : $"{answer.Status}");
    }

    [Fact]
    public async Task A_key_of_another_kind_signs_too() =>
        Assert.Equal(
            "1,2,3",
            Ids(
                await GetAsync(
                    Token(Claims(""" "realm":{"roles":["office"]} """), """{"alg":"ES256","kid":"two"}""", b =>
                        Curve.SignData(b, HashAlgorithmName.SHA256)
                    )
                )
            )
        );

    public static TheoryData<string, string> Wrong =>
        new()
        {
            { "no signature", $"{Base64("""{"alg":"none"}""")}.{Base64(Claims())}." },
            { "no signature, in other letters", $"{Base64("""{"alg":"nOnE","kid":"one"}""")}.{Base64(Claims())}." },
            { "signature cut off", Token(Claims())[..^20] },
            {
                "signature of other claims",
                string.Join(
                    '.',
                    Token(Claims()).Split('.') is var parts
                        ? [parts[0], Base64(Claims(""" "realm":{"roles":["office"]} """)), parts[2]]
                        : Array.Empty<string>()
                )
            },
            {
                "signed by a stranger",
                Token(Claims(), sign: b => Stranger.SignData(b, HashAlgorithmName.SHA256, RSASignaturePadding.Pkcs1))
            },
            {
                "signed by a stranger, with the stranger's key in the header",
                Token(
                    Claims(),
                    $$"""{"alg":"RS256","kid":"one","jwk":{"kty":"RSA","e":"AQAB","n":"{{Base64(Stranger.ExportParameters(false).Modulus!)}}"} }""",
                    b => Stranger.SignData(b, HashAlgorithmName.SHA256, RSASignaturePadding.Pkcs1)
                )
            },
            {
                "public key as a shared secret",
                Token(Claims(), """{"alg":"HS256","kid":"one"}""", b =>
                    HMACSHA256.HashData(Encoding.ASCII.GetBytes(Key.ExportSubjectPublicKeyInfoPem()), b)
                )
            },
            {
                "a shared secret of the set",
                Token(Claims(), """{"alg":"HS256","kid":"shared"}""", b => HMACSHA256.HashData(new byte[32], b))
            },
            { "unknown key", Token(Claims(), """{"alg":"RS256","kid":"three"}""") },
            { "another issuer", Token(Claims(issuer: "https://elsewhere.example.org")) },
            { "another audience", Token(Claims(audience: "\"birch\"")) },
            { "no audience", Token($$"""{"iss":"https://sign-in.example.org","exp":{{Now + 600}},"preferred_username":"ines"}""") },
            { "expired", Token(Claims(expires: Now - 61)) },
            { "no end", Token("""{"iss":"https://sign-in.example.org","aud":"alder","preferred_username":"ines"}""") },
            { "not yet", Token(Claims($"\"nbf\":{Now + 120}")) },
            { "no name", Token($$"""{"iss":"https://sign-in.example.org","aud":"alder","exp":{{Now + 600}}}""") },
            {
                "a name that is none",
                Token($$"""{"iss":"https://sign-in.example.org","aud":"alder","exp":{{Now + 600}},"preferred_username":["a","b"]}""")
            },
            { "NUL in an attribute", Token(Claims("\"https://example.org/region\":\"nor\\u0000th\"")) },
            { "too long", Token(Claims($"\"x\":\"{new string('x', 20_000)}\"")) },
            { "no JSON", $"{Base64("{")}.{Base64("[")}.{Base64("x")}" },
            { "empty parts", ".." },
            { "encrypted", "a.b.c.d.e" },
        };

    [Theory]
    [MemberData(nameof(Wrong))]
    [Proves("R-29, R-30")]
    public async Task A_token_that_is_not_right_is_refused(string what, string token)
    {
        var answer = await GetAsync(token, "/odata/s/Open");
        Assert.True(answer.Status == 401, $"{what}: {answer.Status} {answer.Text}");
        Assert.Contains("Bearer realm=\"Test\"", answer.Header("WWW-Authenticate"));
        Assert.DoesNotContain(token.Length > 60 ? token[..60] : token + "\n", answer.Text);
        Assert.Equal(401, (await GetAsync(token, "/services")).Status);
        Assert.Equal(token.Count(c => c == '.') == 2, answer.Header("WWW-Authenticate")!.Contains("error=\"invalid_token\""));
        Assert.Equal((401, "application/problem+json"), await ProblemAsync(token));
    }

    private async Task<(int, string?)> ProblemAsync(string token)
    {
        var answer = await GetAsync(token, "/rest/s/Open");
        return (answer.Status, answer.Header("Content-Type"));
    }

    [Fact] // in time to the minute that clocks may differ
    public async Task A_token_holds_until_its_end() =>
        Assert.Equal(200, (await GetAsync(Token(Claims(expires: Now - 59)), "/odata/s/Open")).Status);

    [Fact]
    public async Task Keys_are_read_again_when_their_file_changes()
    {
        Assert.Equal(200, (await GetAsync(Token(Claims()), "/odata/s/Open")).Status);
        _folder.Write("keys.json", """{"keys":[]}""");
        File.SetLastWriteTimeUtc(Path.Combine(_folder.Folder, "keys.json"), DateTime.UtcNow.AddMinutes(1));
        Assert.Equal(401, (await GetAsync(Token(Claims()), "/odata/s/Open")).Status);
        _folder.Write("keys.json", "no keys at all");
        File.SetLastWriteTimeUtc(Path.Combine(_folder.Folder, "keys.json"), DateTime.UtcNow.AddMinutes(2));
        Assert.Equal(401, (await GetAsync(Token(Claims()), "/odata/s/Open")).Status);
    }

    [Fact]
    public async Task Two_thousand_roles_are_no_trouble()
    {
        var roles = string.Join(',', Enumerable.Range(0, 1_200).Select(i => $"\"r{i}\""));
        Assert.Equal(404, (await GetAsync(Token(Claims($"\"realm\":{{\"roles\":[{roles}]}}")))).Status);
        Assert.Equal("1,2,3", Ids(await GetAsync(Token(Claims($"\"realm\":{{\"roles\":[{roles},\"office\"]}}")))));
    }
}
