using System.Collections.Immutable;
using System.Diagnostics;
using System.Globalization;
using System.Text;
using System.Text.Json;
using RapidGable.Model;

namespace RapidGable.Verification;

/// <summary>An answer to a change.</summary>
/// <param name="Location">Where a created entity is; null = not said.</param>
/// <param name="ETag">Null = not said.</param>
public sealed record ChangeResponse(int Status, string? Location, string? ETag, string? Allow, byte[] Body);

/// <summary>Sends changes, as any client would.</summary>
public interface IChangeProbe
{
    /// <param name="body">JSON; null = none.</param>
    /// <param name="ifMatch">The header; null = none.</param>
    Task<ChangeResponse> SendAsync(string method, string url, string? body, string? ifMatch, CancellationToken cancellation);
}

/// <summary>What differs between faces when rows are written.</summary>
/// <param name="Title">Of the report; the service's name stands before it.</param>
/// <param name="PathOf">The path of a set below the root, encoded.</param>
/// <param name="KeyOf">The path of a row of a set that need not be there, encoded.</param>
/// <param name="RowsOf">The path of some rows of a set, encoded.</param>
/// <param name="CallOf">How an action is called with sample values.</param>
/// <param name="Unknown">The status for a body with an unknown property.</param>
public sealed record WrittenFace(
    string Title,
    Func<EntitySet, string> PathOf,
    Func<EntitySet, string> KeyOf,
    Func<EntitySet, string> RowsOf,
    Func<EntitySet, SpelledCall> CallOf,
    int Unknown
)
{
    /// <summary>The OData face.</summary>
    public static WrittenFace OData { get; } =
        new(
            "writing",
            s => s.Name,
            s => WriteVerifier.ODataKey(s),
            s => $"{s.Name}?$top=20{(s.RequiresFilter ? $"&$filter={s.Type.Key[0].Name}%20ne%20null" : "")}",
            a => new SpelledCall(SampleCall.OData(a), [.. a.Parameters.Where(p => a.Binding?.Key.Contains(p.Placeholder) != true)]),
            400
        );
}

/// <summary>
/// Creates, reads back, changes, conflicts and deletes over HTTP in every set that allows it, proves that what is not allowed is refused,
/// and takes away what it made.
/// </summary>
/// <param name="model">The whole model.</param>
/// <param name="root">Absolute service root, with a slash at its end.</param>
/// <param name="face">How the face spells what is asked.</param>
/// <param name="remove">Takes away an entity that the service does not delete, by the set and the JSON of its key.</param>
public sealed class WriteVerifier(
    EntityModel model,
    string root,
    IChangeProbe probe,
    WrittenFace face,
    Func<EntitySet, ImmutableDictionary<string, JsonElement>, Task> remove,
    int seed,
    CancellationToken cancellation
)
{
    private const int MostTries = 30;

    private readonly List<CheckResult> _results = [];

    /// <summary>Creates, changes and deletes an entity of each set that allows it, as its callers.</summary>
    public async Task<ServiceReport> RunAsync(Action<string>? progress)
    {
        var clock = Stopwatch.StartNew();
        foreach (var set in model.Sets.Where(s => !s.IsFunction))
        {
            progress?.Invoke(set.Name);
            await RefusedAsync(set);
            if (set.ContainedIn is null && set.Operations.HasFlag(SetOperations.Create))
                await TryAsync(set);
            else if (set.Operations.HasFlag(SetOperations.Create))
                Add("write-create", set, CheckOutcome.Skipped, "made with what contains it", null);
        }
        foreach (var action in model.Sets.Where(s => s.IsAction))
        {
            progress?.Invoke(action.Name);
            await new ActionVerifier(
                action,
                face.CallOf(action),
                root,
                probe,
                face.Unknown,
                (check, outcome, message, url) => Add(check, action, outcome, message, url),
                cancellation
            ).RunAsync();
        }
        return new ServiceReport($"{model.Service}: {face.Title}", root, [.. _results], clock.Elapsed);
    }

    private void Add(string check, EntitySet set, CheckOutcome outcome, string message, string? url) =>
        _results.Add(new CheckResult(check, set.Name, outcome, message, 1, url));

    private bool Expect(string check, EntitySet set, ChangeResponse answer, int status, string success, string url)
    {
        var isGood = answer.Status == status;
        Add(
            check,
            set,
            isGood ? CheckOutcome.Passed : CheckOutcome.Failed,
            isGood ? success : $"It answers {answer.Status} where {status} is right: {Short(answer.Body)}",
            isGood ? null : url
        );
        return isGood;
    }

    private static string Short(byte[] body) =>
        Encoding.UTF8.GetString(body) is { Length: > 200 } text ? text[..200] + "…" : Encoding.UTF8.GetString(body);

    /// <summary>What a set does not allow is refused with 405, and is not among what it takes.</summary>
    private async Task RefusedAsync(EntitySet set)
    {
        if (set.ContainedIn is not null)
            return;
        foreach (
            var (method, operation, path) in new[]
            {
                ("POST", SetOperations.Create, face.PathOf(set)),
                ("PATCH", SetOperations.Update, face.KeyOf(set)),
                ("DELETE", SetOperations.Delete, face.KeyOf(set)),
            }
        )
        {
            if (set.Operations.HasFlag(operation))
                continue;
            var answer = await probe.SendAsync(method, root + path, method == "DELETE" ? null : "{}", null, cancellation);
            var isGood = answer.Status == 405 && answer.Allow?.Split(", ").Contains(method) == false;
            Add(
                "write-refused",
                set,
                isGood ? CheckOutcome.Passed : CheckOutcome.Failed,
                isGood
                    ? $"{Grant.Words(operation)} is refused"
                    : $"{method} is not allowed, and answers {answer.Status} with Allow: {answer.Allow}.",
                isGood ? null : root + path
            );
        }
    }

    /// <summary>An address that has the form of one; whether it is there makes no difference to what is refused.</summary>
    internal static string ODataKey(EntitySet set)
    {
        static string Literal(EdmType type) =>
            type.Kind switch
            {
                EdmKind.String => "'x'",
                EdmKind.Guid => Guid.Empty.ToString(),
                EdmKind.Date => "2024-01-01",
                EdmKind.DateTimeOffset => "2024-01-01T00:00:00Z",
                EdmKind.TimeOfDay => "00:00:00",
                EdmKind.Duration => "duration'PT0S'",
                EdmKind.Boolean => "true",
                EdmKind.Enum => $"{type.Enum!.QualifiedName}'{type.Enum.Members[0].Name}'",
                _ => "0",
            };
        return set.Type.Key.Length == 1
            ? $"{set.Name}({Literal(set.Type.Key[0].Type)})"
            : $"{set.Name}({string.Join(',', set.Type.Key.Select(k => $"{k.Name}={Literal(k.Type)}"))})";
    }

    private async Task TryAsync(EntitySet set)
    {
        // Entities that had to be made for this one to refer to; they go when it has gone.
        var parents = new Stack<(EntitySet Set, ChangeResponse Created)>();
        try
        {
            var (created, body, why) = await CreateAsync(set, parents, [set.Name], needsNew: false);
            if (created is { Status: 409 })
                (created, body, why) = await CreateAsync(set, parents, [set.Name], needsNew: true);
            if (created is { Status: 409 } && !set.Type.Hidden.IsEmpty)
                (created, why) = (null, "another entity has the same values in columns that are not published");
            if (created is null)
            {
                Add("write-create", set, CheckOutcome.Skipped, why, null);
                return;
            }
            if (!Expect("write-create", set, created, 201, "an entity is created", root + face.PathOf(set)))
                return;
            var entity = Values(created.Body);
            try
            {
                await AfterCreateAsync(set, created, entity, body);
            }
            finally
            {
                await CleanAsync(set, created, entity);
            }
        }
        finally
        {
            while (parents.TryPop(out var parent))
                await RemoveAsync(parent.Set, parent.Created);
        }
    }

    /// <summary>Makes an entity up and sends it, as often as it takes to meet rules that lead from one value to another.</summary>
    /// <param name="parents">Takes what had to be made first.</param>
    /// <param name="path">Sets that are being made already.</param>
    /// <param name="needsNew">Whether the entities that it refers to must be new, since each can be referred to once.</param>
    /// <returns>The last answer and what was sent; null and the reason where there is nothing to refer to.</returns>
    private async Task<(ChangeResponse? Answer, string Body, string Why)> CreateAsync(
        EntitySet set,
        Stack<(EntitySet, ChangeResponse)> parents,
        ImmutableHashSet<string> path,
        bool needsNew
    )
    {
        var related = new Dictionary<NavigationProperty, IReadOnlyList<SampleTarget>>();
        foreach (var navigation in set.Type.Navigations.Where(n => n is { IsCollection: false, IsHeldByTarget: false }))
        {
            var isRequired = navigation.Joins.All(j => !j.Own.Nullable);
            var targets = needsNew && isRequired ? [] : await TargetsAsync(navigation);
            if (targets.Count == 0 && isRequired && await ParentAsync(model.Target(navigation), parents, path) is { } made)
                targets = [new SampleTarget(made)];
            if (targets.Count == 0 && isRequired)
                return (null, "", $"it needs an entity of '{navigation.TargetSet}' to refer to, and there is none");
            related[navigation] = targets;
        }
        var tied = related.Keys.SelectMany(n => n.Joins).Select(j => j.Own.Column).ToHashSet();
        if (
            set.Type.Properties.FirstOrDefault(p =>
                p is { IsForeignKey: true, Nullable: false, DefaultValue: null } && !tied.Contains(p.Column)
            ) is
            { } lost
        )
            return (null, "", $"'{lost.Name}' refers to a table that is not published");
        var maker = new SampleMaker(set, new Random(seed), 700_000_000 + ((seed + path.Count) % 1_000_000));
        var (body, answer) = ("", default(ChangeResponse));
        for (var tries = 0; tries < MostTries && answer is null or { Status: 409 or 422 }; tries++)
        {
            body = maker.Make(tries, n => related.GetValueOrDefault(n, []));
            answer = await probe.SendAsync("POST", root + face.PathOf(set), body, null, cancellation);
        }
        return (answer, body, "");
    }

    /// <summary>Makes an entity for others to refer to; null when that is not allowed, or does not work.</summary>
    private async Task<ImmutableDictionary<string, JsonElement>?> ParentAsync(
        EntitySet set,
        Stack<(EntitySet, ChangeResponse)> parents,
        ImmutableHashSet<string> path
    )
    {
        if (path.Contains(set.Name) || set.ContainedIn is not null || !set.Operations.HasFlag(SetOperations.Create))
            return null;
        var (created, _, _) = await CreateAsync(set, parents, path.Add(set.Name), needsNew: false);
        if (created is not { Status: 201 })
            return null;
        parents.Push((set, created));
        return Values(created.Body);
    }

    private async Task RemoveAsync(EntitySet set, ChangeResponse created)
    {
        var isGone =
            set.Operations.HasFlag(SetOperations.Delete)
            && await probe.SendAsync("DELETE", created.Location ?? "", null, set.HasVersion ? "*" : null, cancellation) is { Status: 204 };
        if (!isGone)
            await remove(set, Values(created.Body));
    }

    private async Task AfterCreateAsync(EntitySet set, ChangeResponse created, ImmutableDictionary<string, JsonElement> entity, string body)
    {
        var address = created.Location ?? "";
        var read = await probe.SendAsync("GET", address, null, null, cancellation);
        var isSame = read.Status == 200 && Plain(read.Body) == Plain(created.Body) && read.ETag == created.ETag;
        Add(
            "write-read-back",
            set,
            isSame ? CheckOutcome.Passed : CheckOutcome.Failed,
            isSame ? "it is read as it was answered" : $"It is read as {Short(read.Body)}, and was answered as {Short(created.Body)}.",
            isSame ? null : address
        );
        if (set.Type.Key.All(k => k is { Maker: null, HasComputedDefault: false, IsComputed: false }))
            Expect(
                "write-twice",
                set,
                await probe.SendAsync("POST", root + face.PathOf(set), body, null, cancellation),
                409,
                "the same key a second time is refused",
                root + face.PathOf(set)
            );
        Expect(
            "write-unknown",
            set,
            await probe.SendAsync("POST", root + face.PathOf(set), "{\"no_property_is_called_so\":1}", null, cancellation),
            face.Unknown,
            "an unknown property is refused",
            root + face.PathOf(set)
        );
        if (!set.Operations.HasFlag(SetOperations.Update))
            return;
        var changed = await ChangeAsync(set, address, entity, read.ETag);
        if (changed is null || read.ETag is null)
            return;
        Expect(
            "write-conflict",
            set,
            await probe.SendAsync("PATCH", address, "{}", read.ETag, cancellation),
            412,
            "a change of a former state is refused",
            address
        );
        if (set.RequiresVersion)
            Expect(
                "write-precondition",
                set,
                await probe.SendAsync("PATCH", address, "{}", null, cancellation),
                428,
                "a change without a state is refused",
                address
            );
    }

    private async Task<ChangeResponse?> ChangeAsync(
        EntitySet set,
        string address,
        ImmutableDictionary<string, JsonElement> entity,
        string? tag
    )
    {
        // Another sample has another value for it.
        using var other = JsonDocument.Parse(
            new SampleMaker(set, new Random(seed + 1), 800_000_000 + (seed % 1_000_000)).Make(1, _ => [], null, withDefaults: true)
        );
        var property = other
            .RootElement.EnumerateObject()
            .FirstOrDefault(p =>
                set.Type.FindProperty(p.Name) is { IsGroup: false, Access: PropertyAccess.Full } known
                && !set.Type.Key.Contains(known)
                && !known.IsForeignKey
                && !set.Type.Navigations.Any(n => n.Joins.Any(j => j.Own.Column == known.Column))
                && !set.RowRules.Any(r =>
                    r.Unique.Contains(known.Column) || r.Condition?.Contains(p.Name, StringComparison.Ordinal) == true
                )
                && !IsSame(entity.GetValueOrDefault(p.Name), p.Value, known.Type)
            );
        if (property.Value.ValueKind == JsonValueKind.Undefined)
        {
            Add("write-change", set, CheckOutcome.Skipped, "no property can be changed by itself", null);
            return null;
        }
        var answer = await probe.SendAsync("PATCH", address, $"{{\"{property.Name}\":{property.Value.GetRawText()}}}", tag, cancellation);
        if (answer.Status is not (200 or 204))
        {
            Add(
                "write-change",
                set,
                CheckOutcome.Failed,
                $"A change of '{property.Name}' answers {answer.Status}: {Short(answer.Body)}",
                address
            );
            return null;
        }
        var read = await probe.SendAsync("GET", address, null, null, cancellation);
        var now = Values(read.Body);
        var others = entity
            .Where(e =>
                e.Key != property.Name
                && set.Type.FindProperty(e.Key) is { Expression: null } known
                && known.Column != set.Version?.Column
                && known.Maker is not { AtUpdate: true }
                && !IsSame(now.GetValueOrDefault(e.Key), e.Value, known.Type)
            )
            .Select(e => e.Key)
            .ToList();
        var isGood =
            IsSame(now.GetValueOrDefault(property.Name), property.Value, set.Type.FindProperty(property.Name)?.Type) && others.Count == 0;
        Add(
            "write-change",
            set,
            isGood ? CheckOutcome.Passed : CheckOutcome.Failed,
            isGood ? $"'{property.Name}' changes and nothing else does"
                : others.Count > 0 ? $"'{others[0]}' changes with '{property.Name}'."
                : $"'{property.Name}' does not change.",
            isGood ? null : address
        );
        return answer;
    }

    /// <summary>Whether two values of a property are the same, however they are written: 1.5 and 1.50, 12:30 and 12:30:00.000.</summary>
    private static bool IsSame(JsonElement one, JsonElement other, EdmType? type)
    {
        if (one.ValueKind == JsonValueKind.Number && other.ValueKind == JsonValueKind.Number)
        {
            return (LongDecimal.Parse(one.GetRawText()), LongDecimal.Parse(other.GetRawText())) is ({ } left, { } right)
                && left.IsSameAs(right);
        }
        if (one.ValueKind != JsonValueKind.String || other.ValueKind != JsonValueKind.String)
            return one.ToString() == other.ToString();
        var (a, b) = (one.GetString()!, other.GetString()!);
        return a == b || (Moment(a, type) is { } moment && moment.Equals(Moment(b, type)));
    }

    /// <summary>A text as the time that it means; null = it means none.</summary>
    private static object? Moment(string text, EdmType? type)
    {
        var invariant = CultureInfo.InvariantCulture;
        return type?.Kind switch
        {
            EdmKind.DateTimeOffset => DateTimeOffset.TryParse(text, invariant, DateTimeStyles.AssumeUniversal, out var instant)
                ? instant
                : null,
            EdmKind.TimeOfDay => TimeOnly.TryParse(text, invariant, out var time) ? time : null,
            _ => null,
        };
    }

    private async Task CleanAsync(EntitySet set, ChangeResponse created, ImmutableDictionary<string, JsonElement> entity)
    {
        var address = created.Location ?? "";
        if (!set.Operations.HasFlag(SetOperations.Delete))
        {
            await remove(set, entity);
            return;
        }
        var isGone =
            Expect(
                "write-delete",
                set,
                await probe.SendAsync("DELETE", address, null, set.HasVersion ? "*" : null, cancellation),
                204,
                "it is deleted",
                address
            )
            && Expect(
                "write-gone",
                set,
                await probe.SendAsync("GET", address, null, null, cancellation),
                404,
                "and then it is not there",
                address
            );
        if (!isGone)
            await remove(set, entity);
    }

    private async Task<IReadOnlyList<SampleTarget>> TargetsAsync(NavigationProperty navigation)
    {
        var answer = await probe.SendAsync("GET", root + face.RowsOf(model.Target(navigation)), null, null, cancellation);
        if (answer.Status != 200)
            return [];
        using var document = JsonDocument.Parse(answer.Body);
        var list = document.RootElement;
        if (list.ValueKind == JsonValueKind.Object)
            list = list.TryGetProperty("value", out var rows) ? rows : list.GetProperty("rows");
        return [.. list.EnumerateArray().Select(r => new SampleTarget(Values(r)))];
    }

    private static ImmutableDictionary<string, JsonElement> Values(byte[] body)
    {
        try
        {
            using var document = JsonDocument.Parse(body);
            return Values(document.RootElement);
        }
        catch (JsonException)
        {
            return ImmutableDictionary<string, JsonElement>.Empty;
        }
    }

    private static ImmutableDictionary<string, JsonElement> Values(JsonElement entity) =>
        entity.EnumerateObject().Where(p => !p.Name.Contains('@')).ToImmutableDictionary(p => p.Name, p => p.Value.Clone());

    private static string Plain(byte[] body) =>
        string.Join(',', Values(body).OrderBy(v => v.Key, StringComparer.Ordinal).Select(v => $"{v.Key}={v.Value}"));
}
