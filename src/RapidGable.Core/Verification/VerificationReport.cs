using System.Collections.Immutable;
using System.Globalization;
using System.Xml.Linq;

namespace RapidGable.Verification;

/// <summary>How a check ended.</summary>
public enum CheckOutcome
{
    Passed,
    Failed,
    Skipped,
}

/// <summary>One expectation that was looked at.</summary>
/// <param name="Check">Its name, as in docs/verification.md.</param>
/// <param name="Subject">What it was held against: a set, or the service.</param>
/// <param name="Message">What was found; for a failure, with an example.</param>
/// <param name="Examined">How many things were looked at.</param>
/// <param name="Url">An address at which a failure can be seen; null when there is none.</param>
public sealed record CheckResult(string Check, string Subject, CheckOutcome Outcome, string Message, long Examined, string? Url = null);

/// <summary>Everything that was checked of one service.</summary>
public sealed record ServiceReport(string Service, string Url, ImmutableArray<CheckResult> Results, TimeSpan Time);

/// <summary>Reports on one or more services, and their forms for pipelines.</summary>
public sealed record VerificationReport(ImmutableArray<ServiceReport> Services)
{
    /// <summary>How many checks ended so.</summary>
    public int Count(CheckOutcome outcome) => Services.Sum(s => s.Results.Count(r => r.Outcome == outcome));

    public bool HasFailures => Count(CheckOutcome.Failed) > 0;

    /// <summary>The report in the XML form that build servers read: a suite for each service, a case for each check and subject.</summary>
    public XDocument ToJUnit() =>
        new(
            new XElement(
                "testsuites",
                new XAttribute("tests", Services.Sum(s => s.Results.Length)),
                new XAttribute("failures", Count(CheckOutcome.Failed)),
                new XAttribute("skipped", Count(CheckOutcome.Skipped)),
                Services.Select(s => new XElement(
                    "testsuite",
                    new XAttribute("name", s.Service),
                    new XAttribute("tests", s.Results.Length),
                    new XAttribute("failures", s.Results.Count(r => r.Outcome == CheckOutcome.Failed)),
                    new XAttribute("skipped", s.Results.Count(r => r.Outcome == CheckOutcome.Skipped)),
                    new XAttribute("errors", 0),
                    new XAttribute("time", s.Time.TotalSeconds.ToString("0.000", CultureInfo.InvariantCulture)),
                    s.Results.Select(Case)
                ))
            )
        );

    private static XElement Case(CheckResult result)
    {
        var element = new XElement("testcase", new XAttribute("classname", result.Subject), new XAttribute("name", result.Check));
        if (result.Outcome == CheckOutcome.Failed)
            element.Add(new XElement("failure", new XAttribute("message", Clean(result.Message)), Clean(result.Url ?? "")));
        else if (result.Outcome == CheckOutcome.Skipped)
            element.Add(new XElement("skipped", new XAttribute("message", Clean(result.Message))));
        return element;
    }

    /// <summary>Messages quote what a service sent, which may hold characters that XML cannot.</summary>
    private static string Clean(string text) =>
        string.Concat(
            text.Select(c => c is '\n' or '\t' || (c >= ' ' && c != '\uFFFE' && c != '\uFFFF' && !char.IsSurrogate(c)) ? c : '?')
        );
}
