using System.Globalization;
using System.Net;
using System.Text;

namespace RapidGable.Handover;

/// <summary>The page for the consumers of a service, complete in itself.</summary>
public static class HandoverPage
{
    private const string Style = """
        body { font: 15px/1.55 system-ui, sans-serif; max-width: 64rem; margin: 2rem auto; padding: 0 1rem }
        body { color: #1c2430; background: #fff } h1 { font-size: 1.6rem; margin-bottom: .25rem }
        h2 { font-size: 1.15rem; margin: 2rem 0 .5rem } h3 { font-size: 1rem; margin: 1rem 0 .25rem }
        p { margin: .25rem 0 .5rem } .made { color: #5a6675 } a { color: #0b6478 }
        table { border-collapse: collapse; width: 100% } th, td { text-align: left; padding: .3rem .6rem; vertical-align: top }
        th { border-bottom: 2px solid #d5dbe3 } td { border-bottom: 1px solid #e8ecf1 }
        code, pre { font: 13px/1.5 ui-monospace, monospace; overflow-wrap: anywhere }
        pre { background: #f4f6f8; padding: .6rem .8rem; overflow: auto; max-height: 22rem; border-left: 3px solid #0b6478 }
        summary { cursor: pointer } ul { margin: .25rem 0; padding-left: 1.25rem } .late { color: #7a5a00 }
        """;

    /// <param name="at">When it was made (UTC).</param>
    public static string Write(HandoverFacts facts, DateTime at)
    {
        var page = new StringBuilder();
        page.Append("<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width\">")
            .Append(CultureInfo.InvariantCulture, $"<title>{Text(facts.Title)}: how to use it</title><style>{Style}</style><body>")
            .Append(CultureInfo.InvariantCulture, $"<h1>{Text(facts.Title)}</h1>");
        About(page, facts, at);
        Addresses(page, facts);
        SignIn(page, facts);
        Sets(page, facts);
        Examples(page, facts);
        Programs(page, facts);
        return page.Append("</body></html>\n").ToString();
    }

    private static string Text(string text) => WebUtility.HtmlEncode(text);

    private static string Link(string url) => $"<a href=\"{Text(url)}\">{Text(url)}</a>";

    private static void About(StringBuilder page, HandoverFacts facts, DateTime at)
    {
        var about = facts.About;
        if (about.Description is { } description)
            page.Append(CultureInfo.InvariantCulture, $"<p>{Text(description)}</p>");
        if (facts.Deprecation is { } deprecation)
            page.Append(CultureInfo.InvariantCulture, $"<p class=\"late\">{Text(deprecation.Sentence)}</p>");
        var said = new[]
        {
            about.Version is { } version ? $"Version {Text(version)}" : null,
            about.Owner is { } owner ? Text(owner) : null,
            about.Contact is { } contact ? Text(contact) : null,
            about.Licence is { } licence ? $"Licence: {Text(licence)}" : null,
            about.Terms is { } terms ? $"Terms: {Text(terms)}" : null,
        };
        if (said.OfType<string>().Any())
            page.Append(CultureInfo.InvariantCulture, $"<p>{string.Join(" · ", said.OfType<string>())}</p>");
        var caller = facts.IsSignedIn ? Text(facts.Caller) : "anonymous callers";
        page.Append(
            CultureInfo.InvariantCulture,
            $"<p class=\"made\">Made on {at:yyyy-MM-dd} for {caller}: it shows what they may see.</p>"
        );
    }

    private static void Addresses(StringBuilder page, HandoverFacts facts)
    {
        page.Append("<h2>Addresses</h2><ul>");
        foreach (var (name, url) in facts.Addresses)
            page.Append(CultureInfo.InvariantCulture, $"<li>{Text(name)}: {Link(url)}</li>");
        page.Append("</ul>");
        if (facts.Documents.IsEmpty)
            return;
        page.Append("<p>Documents that programs read:</p><ul>");
        foreach (var (name, link) in facts.Documents)
            page.Append(CultureInfo.InvariantCulture, $"<li><a href=\"{Text(link)}\">{Text(name)}</a></li>");
        page.Append("</ul>");
    }

    private static void SignIn(StringBuilder page, HandoverFacts facts)
    {
        page.Append("<h2>Sign in</h2>");
        if (!facts.IsSignedIn)
        {
            page.Append("<p>Nobody needs to sign in for what this page shows.</p>");
            return;
        }
        page.Append("<ul><li>A program sends its key: <code>Authorization: Bearer gablekey_…</code></li>")
            .Append("<li>A person, and most spreadsheets, send user and password (Basic).</li>");
        if (facts.TakesTokens)
            page.Append("<li>Tokens of the identity provider are taken as <code>Authorization: Bearer …</code>.</li>");
        page.Append("</ul><p>Ask the contact above for a key or an account. Keep keys out of files that are shared.</p>");
    }

    private static void Sets(StringBuilder page, HandoverFacts facts)
    {
        page.Append("<h2>What there is</h2><table><tr><th>Name</th><th>What</th><th>You may</th></tr>");
        foreach (var set in facts.Sets)
        {
            page.Append(CultureInfo.InvariantCulture, $"<tr><td><b>{Text(set.Name)}</b></td><td>{Text(set.Kind)}");
            if (set.Description is { } description)
                page.Append(CultureInfo.InvariantCulture, $": {Text(description)}");
            page.Append(CultureInfo.InvariantCulture, $"<details><summary>{set.Properties.Length} properties</summary><ul>");
            foreach (var (name, type) in set.Properties)
                page.Append(CultureInfo.InvariantCulture, $"<li><code>{Text(name)}</code> {Text(type)}</li>");
            page.Append(CultureInfo.InvariantCulture, $"</ul></details></td><td>{Text(set.May)}</td></tr>");
        }
        page.Append("</table>");
    }

    private static void Examples(StringBuilder page, HandoverFacts facts)
    {
        if (facts.Examples.IsEmpty)
            return;
        page.Append("<h2>Requests that were answered</h2>");
        foreach (var example in facts.Examples)
            page.Append(CultureInfo.InvariantCulture, $"<h3>{Text(example.Title)}</h3><p>{Link(example.Url)}</p>")
                .Append(
                    CultureInfo.InvariantCulture,
                    $"<details><summary>{example.Status}, the answer</summary><pre>{Text(example.Answer)}</pre></details>"
                );
    }

    private static void Programs(StringBuilder page, HandoverFacts facts)
    {
        if (facts.Examples is not [var first, ..])
            return;
        var isOData = facts.Addresses.Any(a => a.Name == "OData" && first.Url.StartsWith(a.Url, StringComparison.Ordinal));
        page.Append("<h2>Programs</h2><p>They read all rows, page after page.")
            .Append(facts.IsSignedIn ? " The key stands in the variable <code>GABLE_KEY</code>.</p>" : "</p>");
        foreach (var snippet in RequestSnippets.Of(first.Url.Split('?')[0], isOData, facts.IsSignedIn))
            page.Append(
                CultureInfo.InvariantCulture,
                $"<details><summary>{Text(snippet.Language)}</summary><pre>{Text(snippet.Text)}</pre></details>"
            );
        if (facts.Addresses.FirstOrDefault(a => a.Name == "OData") is { Url: { } feed })
            page.Append("<details><summary>A spreadsheet</summary><p>Take new data from an OData feed, and give it this address: ")
                .Append(
                    CultureInfo.InvariantCulture,
                    $"<code>{Text(feed)}</code>{(facts.IsSignedIn ? ". Sign in with user and password (Basic)." : "")}</p></details>"
                );
    }
}
