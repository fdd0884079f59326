using System.Collections.Immutable;
using System.Globalization;

namespace RapidGable.Model;

/// <summary>What a service says of itself to those who use it.</summary>
public sealed record ServiceAbout
{
    /// <summary>Nothing is said.</summary>
    public static readonly ServiceAbout None = new();

    /// <summary>As its owner counts, such as <c>2.1</c>; null = it is not said.</summary>
    public string? Version { get; init; }

    public string? Description { get; init; }

    /// <summary>Who answers for it.</summary>
    public string? Owner { get; init; }

    /// <summary>An e-mail address or a URL.</summary>
    public string? Contact { get; init; }

    /// <summary>Under which its data may be used: a name, or an SPDX identifier.</summary>
    public string? Licence { get; init; }

    /// <summary>The URL of the terms of use.</summary>
    public string? Terms { get; init; }

    public ImmutableArray<string> Tags { get; init; } = [];
}

/// <summary>That a service is a version of another, and stands at its addresses with a segment behind the name.</summary>
/// <param name="Service">The name of the service that is current.</param>
/// <param name="Segment">Such as <c>v1</c>.</param>
public sealed record ServiceVersion(string Service, string Segment);

/// <summary>Something that will not stay.</summary>
/// <param name="Since">From when on it should not be used any more; null = it is not said.</param>
/// <param name="Until">When it goes; null = it is not said.</param>
/// <param name="Use">What to use instead, in the words of consumers; null = nothing.</param>
/// <param name="Why">For people; null = nothing is said.</param>
public sealed record Deprecation(DateOnly? Since, DateOnly? Until, string? Use, string? Why)
{
    /// <summary>In a sentence or two.</summary>
    public string Sentence
    {
        get
        {
            static string Day(DateOnly day) => day.ToString("yyyy-MM-dd", CultureInfo.InvariantCulture);
            var text =
                "Deprecated" + (Since is { } since ? $" since {Day(since)}" : "") + (Until is { } until ? $", goes on {Day(until)}" : "");
            return text + (Use is null ? "." : $"; use {Use}.") + (Why is null ? "" : " " + Why);
        }
    }

    /// <summary>The value of the header <c>Deprecation</c> (RFC 9745): the moment from which it holds.</summary>
    public string Header => "@" + Seconds(Since ?? DateOnly.FromDateTime(DateTime.UnixEpoch)).ToString(CultureInfo.InvariantCulture);

    /// <summary>The value of the header <c>Sunset</c> (RFC 8594); null = there is none.</summary>
    public string? Sunset => Until?.ToDateTime(TimeOnly.MinValue, DateTimeKind.Utc).ToString("R", CultureInfo.InvariantCulture);

    private static long Seconds(DateOnly day) => new DateTimeOffset(day.ToDateTime(TimeOnly.MinValue), TimeSpan.Zero).ToUnixTimeSeconds();
}
