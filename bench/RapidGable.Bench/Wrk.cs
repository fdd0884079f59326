using System.Diagnostics;
using System.Globalization;
using System.Text;
using System.Text.RegularExpressions;

/// <summary>What one program did under load.</summary>
/// <param name="PerSecond">Requests a second.</param>
/// <param name="Web">Processor time of the web process for a request, in microseconds.</param>
/// <param name="Database">That of the database server; null = the database works inside of the web process.</param>
internal sealed record Result(double PerSecond, double P99Milliseconds, double Web, double? Database);

/// <summary>Loads a server with requests that follow each other on so many connections.</summary>
internal static partial class Wrk
{
    /// <summary>A script that asks one address after the other, and starts again.</summary>
    public static string Addresses(string folder, IEnumerable<string> targets)
    {
        var lines = new StringBuilder("local targets = {\n");
        foreach (var target in targets)
            lines.Append(CultureInfo.InvariantCulture, $"[==[{target}]==],\n");
        lines.Append(
            """
            }
            local requests, at = {}, 0
            init = function()
              for i, target in ipairs(targets) do requests[i] = wrk.format("GET", target) end
            end
            request = function()
              at = at % #requests + 1
              return requests[at]
            end

            """
        );
        return Written(folder, lines.ToString());
    }

    /// <summary>A script that posts one body again and again.</summary>
    public static string Body(string folder, string body) =>
        Written(folder, $"wrk.method = \"POST\"\nwrk.headers[\"Content-Type\"] = \"application/json\"\nwrk.body = [==[{body}]==]\n");

    /// <exception cref="InvalidOperationException">When an answer is no success.</exception>
    public static async Task<Result> LoadAsync(string url, string script, int connections, int seconds, Processes processes)
    {
        await RunAsync(url, script, connections, "1s");
        var before = processes.Ticks();
        var text = await RunAsync(url, script, connections, $"{seconds}s");
        var after = processes.Ticks();
        if (text.Contains("Non-2xx", StringComparison.Ordinal))
            throw new InvalidOperationException($"{url} {script}\n{text}");
        var requests = Number(RequestsPattern().Match(text).Groups[1]);
        var p99 = P99Pattern().Match(text);
        var unit = p99.Groups[2].Value switch
        {
            "us" => 0.001,
            "ms" => 1,
            _ => 1000,
        };
        return new Result(
            Number(RatePattern().Match(text).Groups[1]),
            Number(p99.Groups[1]) * unit,
            (after.Web - before.Web) * 10_000 / requests,
            (after.Database - before.Database) * 10_000 / requests
        );
    }

    private static async Task<string> RunAsync(string url, string script, int connections, string time)
    {
        string[] arguments = ["-t1", $"-c{connections}", "-d" + time, "--latency", "-s", script, url];
        using var wrk = Process.Start(new ProcessStartInfo("wrk", arguments) { RedirectStandardOutput = true })!;
        var text = await wrk.StandardOutput.ReadToEndAsync();
        await wrk.WaitForExitAsync();
        return text;
    }

    private static string Written(string folder, string text)
    {
        var path = Path.Combine(folder, $"{Guid.NewGuid():N}.lua");
        File.WriteAllText(path, text);
        return path;
    }

    private static double Number(Group group) => double.Parse(group.ValueSpan, CultureInfo.InvariantCulture);

    [GeneratedRegex(@"Requests/sec:\s+([\d.]+)")]
    private static partial Regex RatePattern();

    [GeneratedRegex(@"(\d+) requests in")]
    private static partial Regex RequestsPattern();

    [GeneratedRegex(@"99%\s+([\d.]+)(us|ms|s)")]
    private static partial Regex P99Pattern();
}
