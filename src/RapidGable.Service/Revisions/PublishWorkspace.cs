using System.Collections.Immutable;
using System.Reflection;
using System.Security.Cryptography;
using System.Text;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Inspection;
using RapidGable.Metadata;
using RapidGable.Metadata.OpenApi;
using RapidGable.Payloads;
using RapidGable.Publishing;
using RapidGable.Service.Publishing;
using RapidGable.Service.Trials;
using RapidGable.UseCases;
using RapidGable.Verification;

namespace RapidGable.Service.Revisions;

/// <summary>What becomes of a service with a publication.</summary>
public enum ServiceChange
{
    New,
    Changed,
    Gone,
}

/// <summary>What a publication changes on one face of a service.</summary>
/// <param name="Face">The short name of the face.</param>
public sealed record FaceReview(string Face, ImmutableArray<CsdlDifference> Differences);

/// <summary>What a publication changes of one service.</summary>
/// <param name="Differences">In words, by set.</param>
/// <param name="Opened">What becomes visible or possible, and to whom.</param>
public sealed record ServiceReview(
    string Name,
    ServiceChange Change,
    ImmutableArray<string> Differences,
    ImmutableArray<FaceReview> Faces,
    ImmutableArray<string> Opened
)
{
    /// <summary>What breaks consumers, in sentences.</summary>
    public IEnumerable<string> Breaking =>
        Change == ServiceChange.Gone
            ? [$"{Name}: the service is gone"]
            : Faces.SelectMany(f =>
                f.Differences.Where(d => d.IsBreaking).Select(d => $"{Name}, {f.Face}: {d.Subject}: {d.What}. {d.Meaning}")
            );
}

/// <summary>What publishing the draft would do.</summary>
/// <param name="BasedOn">The revision that it is compared with; 0 = nothing was published yet.</param>
/// <param name="Settings">What differs in the workspace and its sources, in words.</param>
/// <param name="Findings">What the checks say: faults, and what they only warn of.</param>
public sealed record PublicationReview(
    int BasedOn,
    ImmutableArray<ServiceReview> Services,
    ImmutableArray<string> Settings,
    ImmutableArray<Diagnostic> Findings,
    ImmutableArray<DataFinding> Proofs
)
{
    /// <summary>Nothing is different.</summary>
    public bool IsEmpty => Services.IsEmpty && Settings.IsEmpty;

    public bool HasFaults => Findings.Any(f => f.Severity == Severity.Error) || Proofs.Any(p => p.Fault is not null);

    public ImmutableArray<string> Breaking => [.. Services.SelectMany(s => s.Breaking)];

    public ImmutableArray<string> Opened => [.. Services.SelectMany(s => s.Opened.Select(o => $"{s.Name}: {o}"))];

    /// <summary>All changes in sentences.</summary>
    public ImmutableArray<string> Changes =>
        [
            .. Services.SelectMany(s =>
                s.Change == ServiceChange.New ? [$"{s.Name} is new"]
                : s.Change == ServiceChange.Gone ? [$"{s.Name} is gone"]
                : s.Differences.Select(d => $"{s.Name}: {d}")
            ),
            .. Settings,
        ];
}

/// <summary>What keeps a draft from being published.</summary>
/// <param name="Code">A stable word, see docs/publishing.md.</param>
public sealed record PublishRefusal(string Code, string Message);

/// <summary>Who publishes and why, and what they agree to.</summary>
/// <param name="Breaking">Consumers may break.</param>
/// <param name="Opened">More may become visible or possible.</param>
/// <param name="BasedOn">The revision that the author looked at; null = the newest.</param>
public sealed record PublishConsent(string By, string Message, bool Breaking, bool Opened, int? BasedOn = null);

/// <summary>Compares the draft with what was published last, and publishes it.</summary>
public sealed class PublishWorkspace(LoadedWorkspace draft, RevisionArchive archive, TimeProvider time)
{
    /// <summary>Characters of a message.</summary>
    public const int LongestMessage = 2_000;

    /// <summary>The version of this program.</summary>
    public static string Program { get; } =
        typeof(PublishWorkspace).Assembly.GetCustomAttribute<AssemblyInformationalVersionAttribute>()?.InformationalVersion.Split('+')[0]
        ?? "";

    /// <summary>What publishing would do.</summary>
    /// <param name="withData">Also read rows, to prove keys and types.</param>
    public async Task<PublicationReview> ReviewAsync(bool withData, Action<string> progress, CancellationToken cancellation)
    {
        IndexAdvice.Add(draft, draft.Diagnostics);
        var newest = archive.NewestNumber;
        var before = newest == 0 ? null : archive.Read(newest);
        var proofs = withData && !draft.Diagnostics.HasErrors ? await DataProof.ProveAsync(draft, progress, cancellation) : [];
        var now = draft.Diagnostics.HasErrors ? null : await ContentAsync(cancellation);
        return new PublicationReview(
            newest,
            now is null ? [] : [.. Compare(before, now)],
            now is null || before is null ? [] : [.. Sections(before, now)],
            [.. draft.Diagnostics.Items],
            [.. proofs]
        );
    }

    /// <summary>Publishes what was reviewed.</summary>
    public async Task<(RevisionSummary? Revision, PublishRefusal? Refusal)> PublishAsync(
        PublicationReview review,
        PublishConsent consent,
        CancellationToken cancellation
    )
    {
        if (Refusal(review, consent) is { } refusal)
            return (null, refusal);
        var content = await ContentAsync(cancellation);
        var added = archive.Add(SummaryOf(review, consent), content, review.BasedOn);
        if (added is null)
            return (null, Overtaken(archive));
        archive.RemoveOld(time.GetUtcNow().UtcDateTime);
        return (added, null);
    }

    private const string LookAgain = "Look at what changes now, and publish again.";

    private static PublishRefusal Overtaken(RevisionArchive archive) =>
        new(
            "overtaken",
            archive.FindNewest() is { } newer
                ? $"{newer.By} published revision {newer.Number} in the meantime: {newer.Message}. {LookAgain}"
                : "Somebody else is publishing. " + LookAgain
        );

    private PublishRefusal? Refusal(PublicationReview review, PublishConsent consent)
    {
        if (MessageFault(consent.Message) is { } message)
            return new PublishRefusal("message", message);
        if (consent.BasedOn is { } known && known != archive.NewestNumber)
            return Overtaken(archive);
        if (review.HasFaults)
            return new PublishRefusal("faults", "The draft has faults. Nothing was published.");
        if (review.IsEmpty && review.BasedOn > 0)
            return new PublishRefusal("unchanged", $"The draft says what revision {review.BasedOn} says. Nothing was published.");
        if (review is { BasedOn: > 0, Breaking.IsEmpty: false } && !consent.Breaking)
            return new PublishRefusal("breaking", "It breaks consumers, and nobody agreed to that. Nothing was published.");
        if (review is { BasedOn: > 0, Opened.IsEmpty: false } && !consent.Opened)
            return new PublishRefusal("opened", "It opens data, and nobody agreed to that. Nothing was published.");
        return null;
    }

    /// <summary>What is wrong with a message; null = nothing.</summary>
    public static string? MessageFault(string message) =>
        string.IsNullOrWhiteSpace(message) ? "Say why, in a few words."
        : message.Length > LongestMessage ? $"The message has {message.Length} characters; the most are {LongestMessage}."
        : message.Any(c => char.IsControl(c) && c != '\n') ? "The message holds control characters."
        : null;

    private RevisionSummary SummaryOf(PublicationReview review, PublishConsent consent)
    {
        var now = time.GetUtcNow().UtcDateTime;
        var days = draft.Declaration.Revisions.KeepDays;
        return new RevisionSummary(
            0,
            now,
            consent.By,
            consent.Message.Trim(),
            Program,
            [
                .. draft
                    .Services.Select(s => new RevisionService(
                        s.Model.Service,
                        s.Model.Title,
                        Revision.Of(s, draft.Declaration),
                        s.Model.Sets.Length
                    ))
                    .OrderBy(s => s.Name, StringComparer.Ordinal),
            ],
            [.. review.Findings.Select(f => f.Message)],
            review.BasedOn == 0 ? ["the first revision"] : review.Changes,
            review.BasedOn == 0 ? [] : review.Breaking,
            review.BasedOn == 0 ? [] : review.Opened
        )
        {
            KeptUntil = days is { } count ? now.AddDays(count) : null,
            BackTo = _backTo,
        };
    }

    /// <summary>
    /// Publishes once more what a revision said, built on the databases as they are: what they do not have any more keeps it from that.
    /// </summary>
    /// <returns>The faults say what is missing.</returns>
    public static async Task<(RevisionSummary? Revision, PublishRefusal? Refusal, ImmutableArray<string> Faults)> BackToAsync(
        RevisionArchive archive,
        RevisionReader reader,
        int number,
        PublishConsent consent,
        TimeProvider time,
        CancellationToken cancellation
    )
    {
        await using var former = await reader.LoadAnewAsync(archive.Read(number), cancellation);
        var publishing = new PublishWorkspace(former, archive, time);
        var review = await publishing.ReviewAsync(withData: false, _ => { }, cancellation);
        var faults = review.Findings.Where(f => f.Severity == Severity.Error).Select(f => f.Message).ToImmutableArray();
        if (!faults.IsEmpty)
            return (null, new PublishRefusal("faults", $"Revision {number} does not fit the databases any more."), faults);
        publishing._backTo = number;
        var (revision, refusal) = await publishing.PublishAsync(review, consent, cancellation);
        return (revision, refusal, []);
    }

    private int? _backTo;
    private RevisionContent? _content;

    /// <summary>What would be kept, made once for the review and the publication.</summary>
    private async Task<RevisionContent> ContentAsync(CancellationToken cancellation) =>
        _content ??= await ContentOfAsync(draft, cancellation);

    /// <summary>All that is kept of a workspace that has no faults.</summary>
    public static async Task<RevisionContent> ContentOfAsync(LoadedWorkspace workspace, CancellationToken cancellation)
    {
        var documents = ImmutableSortedDictionary.CreateBuilder<string, ServiceDocuments>(StringComparer.Ordinal);
        var (opened, _, caller) = WriteTrial.Open(workspace);
        foreach (var service in workspace.Services)
        {
            var whole = opened.Service(service.Model.Service);
            var (odata, rest) = (service.Model.Faces.Of("odata").IsOffered, service.Model.Faces.Of("rest").IsOffered);
            var description = DescribeService.Of(whole.On("rest"), caller, "https://service.invalid/", []);
            documents[service.Model.Service] = new ServiceDocuments(
                odata ? Encoding.UTF8.GetString(CsdlXmlWriter.Write(whole.On("odata").ModelFor(caller), ODataVersion.V401)) : null,
                rest
                    ? Encoding.UTF8.GetString(await RestOpenApi.WriteAsync(description, new OpenApiForm(false, false), cancellation))
                    : null,
                AccessVisibility.Of(workspace.Service(service.Model.Service)),
                PublishedText.Of(service.Model).ToImmutableSortedDictionary(f => f.Key, f => HashOf(f.Value), StringComparer.Ordinal)
            );
        }
        return new RevisionContent(
            workspace.Declaration.Texts.Files.ToImmutableSortedDictionary(
                f => f.Key,
                f => f.Value.IsDefault ? [] : f.Value.ToArray(),
                StringComparer.Ordinal
            ),
            workspace.Record,
            documents.ToImmutable()
        )
        {
            Sections = PublishedText
                .SectionsOf(workspace.Declaration)
                // The settings of a source hold its password; a change of that is no change of what is published.
                .Where(s => !s.Key.StartsWith("source ", StringComparison.Ordinal))
                .Select(s => (s.Key, Hash: HashOf(s.Value)))
                .Concat(workspace.Declaration.Sources.Select(s => ("source " + s.Name, HashOfText(workspace, s.Location.File))))
                .ToImmutableSortedDictionary(s => s.Item1, s => s.Item2, StringComparer.Ordinal),
        };
    }

    private static string HashOfText(LoadedWorkspace workspace, string file) => HashOf(workspace.Declaration.Texts.Identity([file]));

    private static string HashOf(string text) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text)))[..16];

    /// <summary>What becomes of each service that is not the same.</summary>
    public static IEnumerable<ServiceReview> Compare(RevisionContent? before, RevisionContent now)
    {
        var names = now.Services.Keys.Union(before?.Services.Keys ?? []).Order(StringComparer.Ordinal);
        foreach (var name in names)
        {
            var (was, is_) = (before?.Services.GetValueOrDefault(name), now.Services.GetValueOrDefault(name));
            if (is_ is null)
                yield return new ServiceReview(name, ServiceChange.Gone, [], [], []);
            else if (was is null)
                yield return new ServiceReview(name, ServiceChange.New, [], [], is_.Access.NewSince(new AccessVisibility([])));
            else if (Compare(name, was, is_) is { } changed)
                yield return changed;
        }
    }

    private static ServiceReview? Compare(string name, ServiceDocuments was, ServiceDocuments now)
    {
        var differences = PublishedText.Differences(was.Facets, now.Facets).ToImmutableArray();
        var faces = new[]
        {
            new FaceReview("odata", Metadata(was.Metadata, now.Metadata)),
            new FaceReview("rest", Described(was.OpenApi, now.OpenApi)),
        }
            .Where(f => !f.Differences.IsEmpty)
            .ToImmutableArray();
        var opened = now.Access.NewSince(was.Access);
        return differences.IsEmpty && faces.IsEmpty && opened.IsEmpty
            ? null
            : new ServiceReview(name, ServiceChange.Changed, differences, faces, opened);
    }

    private static ImmutableArray<CsdlDifference> Metadata(string? was, string? now)
    {
        if (Face(was, now) is { } alone)
            return alone;
        var faults = new List<string>();
        var (before, after) = (
            CsdlReader.Read(Encoding.UTF8.GetBytes(was!), faults),
            CsdlReader.Read(Encoding.UTF8.GetBytes(now!), faults)
        );
        return before is null || after is null ? [] : CsdlComparison.Compare(before, after);
    }

    private static ImmutableArray<CsdlDifference> Described(string? was, string? now) =>
        Face(was, now) ?? OpenApiComparison.Compare(was!, now!);

    /// <summary>A face that came or went; null = it is there before and after.</summary>
    private static ImmutableArray<CsdlDifference>? Face(string? was, string? now) =>
        (was, now) switch
        {
            (null, null) => [],
            (null, _) => [new CsdlDifference("service", "the face is new", "Nothing changes for those who do not use it.", false)],
            (_, null) => [new CsdlDifference("service", "the face is gone", "Requests to it answer 404.", true)],
            _ => null,
        };

    private static IEnumerable<string> Sections(RevisionContent before, RevisionContent now)
    {
        foreach (var name in now.Sections.Keys.Union(before.Sections.Keys).Order(StringComparer.Ordinal))
        {
            var (was, is_) = (before.Sections.GetValueOrDefault(name), now.Sections.GetValueOrDefault(name));
            if (was != is_)
                yield return was is null ? $"{name} is new"
                : is_ is null ? $"{name} is gone"
                : $"{name} has changed";
        }
    }
}
