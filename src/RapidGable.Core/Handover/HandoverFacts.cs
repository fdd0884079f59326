using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Handover;

/// <summary>What a page for the consumers of a service tells, as one kind of caller may know it.</summary>
/// <param name="Title">Of the service.</param>
/// <param name="Caller">For whom it is made, in words, such as <c>technician</c>.</param>
/// <param name="IsSignedIn">The caller signs in; else everybody may do what the page shows.</param>
public sealed record HandoverFacts(string Service, string Title, string Caller, bool IsSignedIn)
{
    public ServiceAbout About { get; init; } = ServiceAbout.None;

    /// <summary>It will not stay; null = it will.</summary>
    public Deprecation? Deprecation { get; init; }

    /// <summary>Names of faces with their absolute addresses.</summary>
    public ImmutableArray<(string Name, string Url)> Addresses { get; init; } = [];

    /// <summary>Documents with where they are, beside the page or at the service.</summary>
    public ImmutableArray<(string Name, string Link)> Documents { get; init; } = [];

    /// <summary>What can be read and called, with a description where there is one.</summary>
    public ImmutableArray<HandoverSet> Sets { get; init; } = [];

    /// <summary>Requests that were answered when the page was made.</summary>
    public ImmutableArray<HandoverExample> Examples { get; init; } = [];

    /// <summary>Also tokens of another issuer are taken.</summary>
    public bool TakesTokens { get; init; }
}

/// <summary>A set, query or action.</summary>
/// <param name="Kind">Such as <c>set</c>.</param>
/// <param name="May">What the caller may do with it, in words.</param>
/// <param name="Properties">Names with types.</param>
public sealed record HandoverSet(
    string Name,
    string Kind,
    string? Description,
    string May,
    ImmutableArray<(string Name, string Type)> Properties
);

/// <summary>A request with the answer that it got.</summary>
/// <param name="Title">What it is for.</param>
/// <param name="Url">Absolute.</param>
/// <param name="Status">Of the answer.</param>
/// <param name="Answer">Its beginning.</param>
public sealed record HandoverExample(string Title, string Url, int Status, string Answer);
