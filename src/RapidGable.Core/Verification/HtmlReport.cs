using System.Globalization;
using System.Net;
using System.Text;

namespace RapidGable.Verification;

/// <summary>A verification as one page to hand around: what was looked at, what was found, and how long it took.</summary>
public static class HtmlReport
{
    private const string Style = """
        body { font: 15px/1.5 system-ui, sans-serif; max-width: 72rem; margin: 2rem auto; padding: 0 1rem }
        body { color: #1c2430; background: #fff }
        h1 { font-size: 1.5rem; margin-bottom: .25rem } h2 { font-size: 1.1rem; margin: 2rem 0 .5rem } p.meta { color: #5a6675; margin: 0 }
        .sums { display: flex; gap: 2rem; margin: 1.25rem 0 }
        .sums b { display: block; font-size: 1.6rem; font-variant-numeric: tabular-nums }
        table { border-collapse: collapse; width: 100% } th, td { text-align: left; padding: .3rem .6rem; vertical-align: top }
        th { font-weight: 600; border-bottom: 2px solid #d5dbe3 } td { border-bottom: 1px solid #e8ecf1 }
        td.n, th.n { text-align: right; font-variant-numeric: tabular-nums }
        .passed { color: #1a6b3c } .failed { color: #a4161a; font-weight: 600 }
        .skipped { color: #7a5a00 } code { font: 13px ui-monospace, monospace; overflow-wrap: anywhere } summary { cursor: pointer }
        """;

    /// <summary>The page, complete in itself.</summary>
    /// <param name="title">What was verified.</param>
    /// <param name="at">When (UTC).</param>
    public static string Write(VerificationReport report, string title, DateTime at)
    {
        var page = new StringBuilder();
        page.Append("<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width\">")
            .Append(CultureInfo.InvariantCulture, $"<title>{Text(title)}: verification</title><style>{Style}</style><body>")
            .Append(CultureInfo.InvariantCulture, $"<h1>{Text(title)}</h1>")
            .Append(
                CultureInfo.InvariantCulture,
                $"<p class=\"meta\">Verified {at:yyyy-MM-dd HH:mm} UTC in {report.Services.Sum(s => s.Time.TotalSeconds):0.0} s</p>"
            );
        Sums(page, report);
        Failures(page, report);
        Coverage(page, report);
        foreach (var service in report.Services)
            Service(page, service);
        return page.Append("</body></html>\n").ToString();
    }

    private static string Text(string text) => WebUtility.HtmlEncode(text);

    private static void Sums(StringBuilder page, VerificationReport report)
    {
        page.Append("<div class=\"sums\">");
        foreach (var outcome in new[] { CheckOutcome.Passed, CheckOutcome.Failed, CheckOutcome.Skipped })
        {
            var word = Word(outcome);
            var colour = report.Count(outcome) == 0 ? "" : word;
            page.Append(CultureInfo.InvariantCulture, $"<div class=\"{colour}\"><b>{report.Count(outcome):N0}</b>{word}</div>");
        }
        page.Append("</div>");
    }

    private static string Word(CheckOutcome outcome) => outcome.ToString().ToLowerInvariant();

    private static void Failures(StringBuilder page, VerificationReport report)
    {
        var failed = report
            .Services.SelectMany(s => s.Results.Where(r => r.Outcome == CheckOutcome.Failed).Select(r => (s.Service, Result: r)))
            .ToList();
        if (failed.Count == 0)
            return;
        page.Append("<h2>What failed</h2><table><tr><th>Service</th><th>Subject</th><th>Check</th><th>Found</th></tr>");
        foreach (var (service, result) in failed)
            page.Append(
                CultureInfo.InvariantCulture,
                $"<tr><td>{Text(service)}</td><td>{Text(result.Subject)}</td><td>{Text(result.Check)}</td><td class=\"failed\">{Text(
                    result.Message
                )}{Address(result)}</td></tr>"
            );
        page.Append("</table>");
    }

    private static string Address(CheckResult result) => result.Url is { } url ? $"<br><code>{Text(url)}</code>" : "";

    /// <summary>What was looked at, so that a reader sees what was not.</summary>
    private static void Coverage(StringBuilder page, VerificationReport report)
    {
        page.Append("<h2>What was covered</h2><table><tr><th>Part</th><th class=\"n\">Subjects</th><th class=\"n\">Kinds of checks</th>")
            .Append("<th>Callers</th><th class=\"n\">Checks</th><th class=\"n\">Seconds</th></tr>");
        foreach (var service in report.Services)
        {
            var callers = service.Results.Select(r => Caller(r.Subject)).OfType<string>().Distinct().Order(StringComparer.Ordinal).ToList();
            page.Append(
                CultureInfo.InvariantCulture,
                $"<tr><td>{Text(service.Service)}</td><td class=\"n\">{service.Results.Select(r => r.Subject).Distinct().Count()}</td>"
            );
            page.Append(
                CultureInfo.InvariantCulture,
                $"<td class=\"n\">{service.Results.Select(r => r.Check).Distinct().Count()}</td><td>{Text(string.Join(", ", callers))}</td>"
            );
            page.Append(
                CultureInfo.InvariantCulture,
                $"<td class=\"n\">{service.Results.Length}</td><td class=\"n\">{service.Time.TotalSeconds:0.0}</td></tr>"
            );
        }
        page.Append("</table>");
    }

    /// <summary>The caller that a subject names; null = it names none.</summary>
    private static string? Caller(string subject) =>
        subject.Split(" for ") is [_, var named] ? named
        : subject.Split(" as ") is [_, var other] ? other
        : null;

    private static void Service(StringBuilder page, ServiceReport service)
    {
        page.Append(CultureInfo.InvariantCulture, $"<h2>{Text(service.Service)}</h2><p class=\"meta\"><code>{Text(service.Url)}</code></p>")
            .Append("<table><tr><th>Subject</th><th class=\"n\">Passed</th><th class=\"n\">Failed</th><th class=\"n\">Skipped</th>")
            .Append("<th>Checks</th></tr>");
        foreach (var subject in service.Results.GroupBy(r => r.Subject))
        {
            int Count(CheckOutcome outcome) => subject.Count(r => r.Outcome == outcome);
            page.Append(
                CultureInfo.InvariantCulture,
                $"<tr><td>{Text(subject.Key)}</td><td class=\"n\">{Count(CheckOutcome.Passed)}</td><td class=\"n\">{Count(
                    CheckOutcome.Failed
                )}</td><td class=\"n\">{Count(CheckOutcome.Skipped)}</td><td><details><summary>{Text(
                    string.Join(", ", subject.Select(r => r.Check).Distinct().Take(6))
                )}</summary>"
            );
            foreach (var result in subject)
                page.Append(
                    CultureInfo.InvariantCulture,
                    $"<div class=\"{Word(result.Outcome)}\">{Word(result.Outcome)}: {Text(result.Check)}: {Text(result.Message)}</div>"
                );
            page.Append("</details></td></tr>");
        }
        page.Append("</table>");
    }
}
