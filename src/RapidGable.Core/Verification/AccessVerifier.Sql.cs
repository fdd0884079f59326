using System.Text.Json;

namespace RapidGable.Verification;

/// <summary>Statements over sets, as each kind of caller.</summary>
public sealed partial class AccessVerifier
{
    private const int ReadRows = 500;

    private async Task SqlAsync(ExpectedSql sql)
    {
        var (failure, asked) = sql.IsOpen ? await OpenSqlAsync(sql) : await ClosedSqlAsync(sql);
        _results.Add(
            new CheckResult(
                "access-sql",
                _case.Name,
                failure is null ? CheckOutcome.Passed : CheckOutcome.Failed,
                failure ?? (sql.IsOpen ? "statements read what the caller sees, and nothing else" : "looks as if it were not there"),
                asked,
                failure is null ? null : sql.Url
            )
        );
    }

    private async Task<ProbeResponse> StatementAsync(string url, string statement)
    {
        var body = JsonSerializer.Serialize(new Dictionary<string, string> { ["statement"] = statement });
        var answer = await _case.Probe.SendAsync("POST", url, body, _cancellation);
        Inspect(answer, url);
        return answer;
    }

    private async Task<(string? Failure, int Asked)> ClosedSqlAsync(ExpectedSql sql)
    {
        var at = sql.Url.LastIndexOf('/') + 1;
        var other = new string('q', sql.Url.Length - at);
        var (closed, nothing) = (await StatementAsync(sql.Url, "SELECT 1"), await StatementAsync(sql.Url[..at] + other, "SELECT 1"));
        var isSame =
            closed.Status is 404 or 401
            && closed.Status == nothing.Status
            && Text(closed).Replace($"'{sql.Url[at..]}'", $"'{other}'", StringComparison.Ordinal) == Text(nothing);
        return (isSame ? null : $"It answers {closed.Status}, and what is not there {nothing.Status}: {Cut(Text(closed))}", 2);
    }

    private static string Text(ProbeResponse answer) => System.Text.Encoding.UTF8.GetString(answer.Body);

    private async Task<(string? Failure, int Asked)> OpenSqlAsync(ExpectedSql sql)
    {
        var asked = 0;
        foreach (var expected in _case.Sets.Where(s => sql.Sets.Contains(s.Set.Name)))
        {
            asked++;
            var name = expected.Set.Name;
            var counted = await StatementAsync(sql.Url, $"SELECT COUNT(*) AS n FROM \"{name}\"");
            if (!expected.MayRead)
            {
                if (counted.Status != 400)
                    return ($"{name} answers {counted.Status}, and is closed.", asked);
                continue;
            }
            if (Answers.Fault(counted) is { } fault)
                return ($"{name}: {fault}", asked);
            using var json = JsonDocument.Parse(counted.Body);
            var rows = json.RootElement.GetProperty("rows")[0].GetProperty("n").GetInt64();
            if (IsCompared(expected.Set) && expected.IsWhole && rows != expected.Rows.Count)
                return ($"{name} has {rows} rows, and {expected.Rows.Count} are the caller's.", asked);
            // Whatever a caller may not see must not stand in it, which is looked for in every answer.
            if (await StatementAsync(sql.Url, $"SELECT * FROM \"{name}\" LIMIT {ReadRows}") is { Status: not 200 } refused)
                return ($"{name} answers {refused.Status}: {Cut(Text(refused))}", asked);
        }
        return (null, asked);
    }
}
