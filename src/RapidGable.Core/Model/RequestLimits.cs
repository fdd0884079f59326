using System.Collections.Immutable;

namespace RapidGable.Model;

/// <summary>A limit that a workspace sets.</summary>
/// <param name="Name">The word under <c>limits</c>.</param>
/// <param name="Description">What is counted, in which unit.</param>
/// <param name="Default">Null = it depends on the machine or the source.</param>
public sealed record LimitSetting(string Name, string Description, int? Default, int Minimum, int Maximum);

/// <summary>Limits of requests that a deployment sets under <c>limits</c> of its workspace; each is documented in docs/limits.md.</summary>
public sealed record RequestLimits
{
    private const int Mebibyte = 1024 * 1024;

    /// <summary>Rows of a page when neither the declaration nor the caller says a number.</summary>
    public const int StandardPage = 100;

    /// <summary>The largest page when the declaration says none.</summary>
    public const int StandardLargestPage = 5_000;

    /// <summary>The words, their meaning, defaults and bounds.</summary>
    public static readonly ImmutableArray<LimitSetting> Settings =
    [
        new("body", "MiB of a request's body", 4, 1, 1_024),
        new("held-answer", "MiB of an answer inside of a batch, or fetched later", 32, 1, 2_000),
        new("batch-requests", "requests in a batch", 100, 1, 1_000),
        new("sent-entities", "entities in one body, related ones among them, or changed at once by $each", 1_000, 1, 100_000),
        new("in-list", "members of an in list", 500, 1, Limits.InMembers),
        new("expand-depth", "levels of $expand, of $levels, and of related entities in a body", 8, 1, Limits.ExpandDepth),
        new("page", "rows in a page, where neither service nor set says it", StandardPage, 1, 1_000_000),
        new("largest-page", "the largest page, where neither service nor set says it", StandardLargestPage, 1, 1_000_000),
        new("sessions", "sessions of a source that says none", null, 1, 1_000),
        new("statement-seconds", "seconds for one statement of a source that says none", Limits.StatementSeconds, 1, 86_400),
    ];

    /// <summary>Those of a workspace that sets none.</summary>
    public static readonly RequestLimits Standard = new();

    private readonly ImmutableDictionary<string, int> _set;

    private RequestLimits()
        : this(_ => null) { }

    /// <param name="read">Gives the number that is set for a word, within the bounds; null = none is.</param>
    public RequestLimits(Func<LimitSetting, int?> read)
    {
        _set = Settings
            .Select(s => (s.Name, Value: read(s)))
            .Where(s => s.Value is not null)
            .ToImmutableDictionary(s => s.Name, s => s.Value!.Value);
        BodyBytes = Of("body") * Mebibyte;
        HeldAnswerBytes = Of("held-answer") * Mebibyte;
        BatchRequests = Of("batch-requests");
        SentEntities = Of("sent-entities");
        InMembers = Of("in-list");
        ExpandDepth = Of("expand-depth");
        Page = Of("page");
        LargestPage = Of("largest-page");
    }

    public int BodyBytes { get; }

    public int HeldAnswerBytes { get; }

    public int BatchRequests { get; }

    public int SentEntities { get; }

    public int InMembers { get; }

    public int ExpandDepth { get; }

    public int Page { get; }

    public int LargestPage { get; }

    /// <summary>What the workspace sets; null = nothing.</summary>
    public int? Set(string name) => _set.TryGetValue(name, out var value) ? value : null;

    private int Of(string name) => Set(name) ?? Settings.First(s => s.Name == name).Default!.Value;
}
