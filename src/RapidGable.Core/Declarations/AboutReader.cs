using System.Globalization;
using RapidGable.Model;

namespace RapidGable.Declarations;

/// <summary>Reads what a service says of itself, and what of it will not stay.</summary>
internal static class AboutReader
{
    public static ServiceAbout Read(MappingReader service)
    {
        if (service.Mapping("about") is not { } reader)
            return ServiceAbout.None;
        var (contact, terms) = (reader.Text("contact"), reader.Text("terms"));
        if (contact is { } given && !given.Value.Contains('@') && !IsUrl(given.Value))
            reader.Diagnostics.Error("about", $"'{given.Value}' is no e-mail address and no URL.", given.Location);
        if (terms is { } address && !IsUrl(address.Value))
            reader.Diagnostics.Error(
                "about",
                $"'{address.Value}' is no URL.",
                address.Location,
                "Write for example https://example.org/terms."
            );
        var read = new ServiceAbout
        {
            Version = reader.Text("version")?.Value,
            Description = reader.Text("description")?.Value,
            Owner = reader.Text("owner")?.Value,
            Contact = contact?.Value,
            Licence = reader.Text("licence")?.Value,
            Terms = terms?.Value,
            Tags = [.. reader.Texts("tags").Select(t => t.Value)],
        };
        reader.ReportUnknown("'about'");
        return read;
    }

    private static bool IsUrl(string text) => Uri.TryCreate(text, UriKind.Absolute, out var url) && url.Scheme is "https" or "http";

    /// <summary>What a service is a version of; null = of nothing.</summary>
    public static Located<ServiceVersion>? VersionOf(MappingReader service)
    {
        if (service.Mapping("version-of") is not { } reader)
            return null;
        var (current, segment) = (
            reader.RequiredText("service", "the service that is current"),
            reader.RequiredText("segment", "what stands behind its name in addresses, such as v1")
        );
        reader.ReportUnknown("'version-of'");
        if (current is null || segment is null)
            return null;
        if (!SimpleIdentifier.IsValid(segment.Value))
            reader.Diagnostics.Error(
                "version-of",
                $"'{segment.Value}' cannot be a segment of an address.",
                segment.Location,
                "Write for example v1."
            );
        return new Located<ServiceVersion>(new ServiceVersion(current.Value, segment.Value), current.Location);
    }

    /// <summary>What is deprecated; null = it is not.</summary>
    public static Deprecation? Deprecated(MappingReader owner)
    {
        if (owner.Node("deprecated") is YamlScalar)
            return owner.Flag("deprecated", false) ? new Deprecation(null, null, null, null) : null;
        if (owner.Mapping("deprecated") is not { } reader)
            return null;
        var (since, until) = (Day(reader, "since"), Day(reader, "until"));
        if (since > until)
            reader.Diagnostics.Error("deprecated", "It goes before it is deprecated.", reader.KeyLocation("until"));
        var read = new Deprecation(since, until, reader.Text("use")?.Value, reader.Text("why")?.Value);
        reader.ReportUnknown("'deprecated'");
        return read;
    }

    private static DateOnly? Day(MappingReader reader, string name)
    {
        if (reader.Text(name) is not { } text)
            return null;
        if (DateOnly.TryParseExact(text.Value, "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out var day))
            return day;
        reader.Diagnostics.Error("deprecated", $"'{text.Value}' is no day.", text.Location, "Write for example 2027-06-30.");
        return null;
    }
}
