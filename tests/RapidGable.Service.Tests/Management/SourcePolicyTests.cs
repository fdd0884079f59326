using System.Text.Json;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>What the files of a workspace may reach of the machine when they are edited through the console.</summary>
[Trait("Category", "Attack")]
public sealed class SourcePolicyTests : IAsyncLifetime
{
    private static readonly (string, string)[] Own = [("Gable-Client", "test")];

    private const string Secret = "vB3-never-printed";

    private readonly TestWorkspace _folder = new TestWorkspace()
        .WithSource()
        .WithDatabase("CREATE TABLE river (id INTEGER PRIMARY KEY, name TEXT)")
        .Write("sources/away.yaml", "engine: postgresql\nhost: db.example.org\ndatabase: network\nuser: gable\npassword: ${LAB_PASSWORD}\n")
        .WithService("  - { from: river, name: Rivers }\n");

    private readonly Dictionary<string, string> _environment = new()
    {
        ["LAB_PASSWORD"] = Secret,
        ["UNNAMED"] = Secret,
        ["GABLE_SECRETS_KEY"] = Secret + "-0123456789abcdef0123456789",
        ["PATH"] = Secret,
    };

    private RunningService _http = null!;

    public async Task InitializeAsync() => await StartAsync();

    private async Task StartAsync() =>
        _http = await RunningService.StartAsync(_folder.Folder, environment: _environment.GetValueOrDefault, mayHaveFaults: true);

    public async Task DisposeAsync()
    {
        await _http.DisposeAsync();
        _folder.Dispose();
    }

    private async Task<Answer> CheckAsync(string source, string name = "main") =>
        await _http.SendAsync(
            "/manage/draft/check",
            "POST",
            JsonSerializer.Serialize(new { texts = new Dictionary<string, string> { [$"sources/{name}.yaml"] = source } }),
            Own
        );

    private async Task<Answer> ConnectAsync(string source, string name = "other", object? secrets = null) =>
        await _http.SendAsync(
            "/manage/draft/connect",
            "POST",
            JsonSerializer.Serialize(
                new
                {
                    name,
                    text = source,
                    secrets,
                }
            ),
            Own
        );

    public static TheoryData<string> Leaks =>
        [
            "engine: postgresql\nhost: h\ndatabase: d\nuser: u\npassword: p\ntls: ${LAB_PASSWORD}\n",
            "engine: postgresql\nhost: h\ndatabase: d\nuser: u\npassword: p\nport: ${LAB_PASSWORD}\n",
            "engine: postgresql\nhost: h\ndatabase: d\nuser: u\npassword: p\nsessions: ${LAB_PASSWORD}\n",
            "engine: postgresql\nhost: h\ndatabase: ${LAB_PASSWORD}\nuser: u\n",
            "engine: postgresql\nhost: ${LAB_PASSWORD}\ndatabase: d\nuser: u\n",
            "engine: postgresql\nhost: 127.0.0.1\nport: 1\ndatabase: d\nuser: ${LAB_PASSWORD}\n",
            "engine: postgresql\nconnection: ${LAB_PASSWORD}\n",
            "engine: postgresql\nconnection: '${LAB_PASSWORD}://h/d'\n",
            "engine: postgresql\nconnection: 'postgresql://h/d?${LAB_PASSWORD}=1'\n",
            "engine: postgresql\nconnection: 'postgresql://${LAB_PASSWORD}@127.0.0.1:1/d'\n",
            "engine: postgresql\nconnection: 'Host=127.0.0.1;Port=1;Nonsense=${LAB_PASSWORD}'\n",
            "engine: postgresql\nconnection: 'Host=127.0.0.1;Port=1;Database=${LAB_PASSWORD};Username=u'\n",
            "engine: mariadb\nhost: ${LAB_PASSWORD}\ndatabase: d\nuser: u\n",
            "engine: mariadb\nhost: 127.0.0.1\nport: 1\ndatabase: ${LAB_PASSWORD}\nuser: u\n",
            "engine: mariadb\nconnection: 'Server=${LAB_PASSWORD};Database=d;User ID=u'\n",
            "engine: sqlite\nfile: ${LAB_PASSWORD}\n",
            "engine: sqlite\nfile: 'x/${LAB_PASSWORD}.db'\n",
            "engine: sqlite\nfile: data.db\nstatement-seconds: ${LAB_PASSWORD}\n",
            "engine: ${LAB_PASSWORD}\nfile: data.db\n",
            "engine: sqlite\nfile: data.db\n${LAB_PASSWORD}: 1\n",
            "engine: sqlite\nfile: data.db\nnothing: [${LAB_PASSWORD}]\n",
            "engine: sqlite\nfile: data.db\nnothing: ${LAB_PASSWORD}\n",
            "engine: sqlite\nfile: '${LAB${LAB_PASSWORD}}'\n",
        ];

    [Theory, MemberData(nameof(Leaks))]
    public async Task No_answer_and_no_line_of_the_log_says_what_a_variable_holds(string source)
    {
        // Each place is one for which nothing is kept, so that the refusal of another place hides nothing.
        var (checkedIt, connected) = (await CheckAsync(source), await ConnectAsync(source));
        foreach (var answer in new[] { checkedIt, connected, await _http.SendAsync("/manage/audit") })
        {
            Assert.True(answer.Status < 500, answer.Text);
            Assert.DoesNotContain(Secret, answer.Text);
            Assert.DoesNotContain("never-printed", answer.Text);
        }
    }

    [Theory]
    [InlineData("UNNAMED")] // no file named it when the service started
    [InlineData("PATH")]
    [InlineData("GABLE_SECRETS_KEY")]
    [InlineData("gable_secrets_key")]
    public async Task Variables_are_those_that_the_operator_has_chosen(string name)
    {
        var answer = await CheckAsync($"engine: sqlite\nfile: data.db\nnothing: ${{{name}}}\n");
        Assert.Contains("no-variable", answer.Text);
        await _http.DisposeAsync();
        _environment["GABLE_VARIABLES"] = "LAB_*,UNNAMED,GABLE_SECRETS_KEY";
        await StartAsync();
        answer = await CheckAsync($"engine: sqlite\nfile: data.db\nnothing: ${{{name}}}\n");
        Assert.Equal(name != "UNNAMED", answer.Text.Contains("no-variable", StringComparison.Ordinal));
    }

    [Theory]
    [InlineData("host: evil.example.org\nuser: gable", true)]
    [InlineData("host: db.example.org\nuser: other", false)]
    [InlineData("host: db.example.org\nport: 5433\nuser: gable", true)]
    [InlineData("connection: 'Host=evil.example.org;Username=gable'", true)]
    public async Task A_variable_goes_to_the_place_alone_that_it_was_declared_for(string place, bool isRefused)
    {
        var text = $"engine: postgresql\ndatabase: network\n{place}\npassword: ${{LAB_PASSWORD}}\n";
        Assert.Equal(isRefused, (await CheckAsync(text, "away")).Text.Contains("source-refused", StringComparison.Ordinal));
        Assert.Equal(isRefused, (await ConnectAsync(text, "away")).Text.Contains("is for another place", StringComparison.Ordinal));
    }

    [Theory]
    [InlineData("../data.db")]
    [InlineData("/etc/passwd")]
    [InlineData("/proc/self/environ")]
    [InlineData("/proc/self/fd/3")]
    [InlineData("a/../../x.db")]
    [InlineData("link/x.db")]
    [InlineData("linked.db")]
    public async Task A_file_stays_within_the_folder(string file)
    {
        File.CreateSymbolicLink(Path.Combine(_folder.Folder, "link"), "/tmp");
        File.CreateSymbolicLink(Path.Combine(_folder.Folder, "linked.db"), "/etc/passwd");
        var text = $"engine: sqlite\nfile: '{file}'\n";
        Assert.Contains("outside of the workspace's folder", (await CheckAsync(text)).Text);
        Assert.Contains("outside of the workspace's folder", (await ConnectAsync(text)).Text);
    }

    [Theory]
    [InlineData("file:data.db?mode=rwc")]
    [InlineData("file:///etc/passwd")]
    public async Task A_uri_is_no_way_to_a_file(string file)
    {
        var answer = await ConnectAsync($"engine: sqlite\nfile: '{file}'\n");
        Assert.Contains("does not exist", answer.Text);
    }

    [Theory]
    [InlineData("169.254.169.254")]
    [InlineData("2852039166")]
    [InlineData("0xa9fea9fe")]
    [InlineData("[fe80::1%lo]")]
    [InlineData("fe80::1")]
    [InlineData("::ffff:169.254.169.254")]
    [InlineData("metadata.google.internal")]
    [InlineData("/var/run/postgresql")]
    [InlineData("@socket")]
    [InlineData("127.0.0.1,169.254.169.254")]
    public async Task Some_hosts_are_reached_only_where_they_are_allowed(string host)
    {
        var text = $"engine: postgresql\nhost: '{host}'\ndatabase: d\nuser: u\n";
        Assert.Contains("source-refused", (await CheckAsync(text)).Text);
        Assert.Contains("Whoever starts the service may allow it", (await ConnectAsync(text)).Text);
    }

    public static TheoryData<string, string, string> Settings
    {
        get
        {
            var table = new TheoryData<string, string, string>();
            var known = new Dictionary<string, string[]>
            {
                ["sqlite"] = ["file", "statement-seconds", "sessions", "read-only", "title", "repeats", "offer", "caller-settings"],
                ["postgresql"] =
                [
                    "connection",
                    "host",
                    "port",
                    "database",
                    "user",
                    "password",
                    "tls",
                    "tls-certificate",
                    "statement-seconds",
                    "connect-seconds",
                    "sessions",
                    "caller-settings",
                ],
                ["mariadb"] = ["connection", "host", "port", "database", "user", "password", "tls", "tls-certificate", "sessions"],
            };
            string[] odd =
            [
                "",
                "''",
                "abc",
                "-1",
                "0",
                "99999999999999999999",
                "1e9",
                "'\\0'",
                "[]",
                "{}",
                "{ a: b }",
                "true",
                "~",
                "\"\\u0000\"",
                "'a;b=c'",
                "'%00'",
                $"'{new string('x', 3_000)}'",
            ];
            foreach (var (engine, settings) in known)
            {
                foreach (var setting in settings)
                    table.Add(engine, setting, string.Join('\n', odd));
            }
            return table;
        }
    }

    [Theory, MemberData(nameof(Settings))]
    public async Task Every_setting_with_an_odd_value_is_told_and_breaks_nothing(string engine, string setting, string values)
    {
        foreach (var value in values.Split('\n'))
        {
            var usual =
                engine == "sqlite"
                    ? new() { ["file"] = "data.db" }
                    : new Dictionary<string, string>
                    {
                        ["host"] = "127.0.0.1",
                        ["port"] = "1",
                        ["database"] = "d",
                        ["user"] = "u",
                        ["connect-seconds"] = "1",
                    };
            usual[setting] = value;
            var text = $"engine: {engine}\n" + string.Concat(usual.Select(s => $"{s.Key}: {s.Value}\n"));
            foreach (
                var answer in new[]
                {
                    await CheckAsync(text),
                    setting is "host" or "connection" ? await CheckAsync(text) : await ConnectAsync(text),
                }
            )
            {
                Assert.True(answer.Status is 200 or 400, $"{text}{answer.Status} {answer.Text}");
                Assert.DoesNotContain("\"unexpected\"", answer.Text);
            }
        }
    }
}
