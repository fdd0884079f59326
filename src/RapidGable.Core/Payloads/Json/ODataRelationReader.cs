using System.Text.Json;
using RapidGable.Changes;
using RapidGable.Model;

namespace RapidGable.Payloads.Json;

/// <summary>What is known of a related entity before it is read.</summary>
/// <param name="IsDelta">It is an item of a delta, which may take entities away.</param>
/// <param name="IsOfNew">The entity that it is related to is new, so that it is, too.</param>
/// <param name="IsOnly">There is at most one, so that it needs no key to be told from others.</param>
internal readonly record struct RelatedUse(bool IsDelta = false, bool IsOfNew = false, bool IsOnly = false);

/// <summary>The related entities of a body: references, new ones, changed ones and deltas (JSON format 8).</summary>
/// <param name="entities">Reads those that are written out, and takes what is wrong.</param>
/// <param name="is40">By the rules of version 4.0: related entities of an update are bound only (M-24).</param>
internal sealed class ODataRelationReader(ODataEntityReader entities, EntityModel model, bool is40)
{
    private void Wrong(string path, string message, string code) => entities.Wrong(path, message, code);

    /// <summary>Names with an annotation behind them: binds and nested deltas matter, all else does no harm (M-07).</summary>
    public SentRelation? Annotated(JsonProperty member, int mark, EntitySet set, string path, int depth)
    {
        var (name, term) = (member.Name[..mark], ODataEntityReader.Canonical(member.Name[mark..]));
        var at = path + member.Name;
        if (term is not ("@bind" or "@delta"))
            return null;
        if (set.Type.FindNavigation(name) is not { } navigation)
        {
            Wrong(
                at,
                $"'{set.Type.Name}' has no navigation property '{name}'.{NearestName.Hint(name, set.Type.Navigations.Select(n => n.Name))}",
                "unknown-property"
            );
            return null;
        }
        var target = model.Target(navigation);
        if (term == "@delta")
        {
            if (!navigation.IsCollection || member.Value.ValueKind != JsonValueKind.Array)
            {
                Wrong(at, $"'{at}' takes an array, for a collection of related entities.", "value");
                return null;
            }
            return new SentRelation(
                navigation,
                target,
                RelationMode.Delta,
                [
                    .. member
                        .Value.EnumerateArray()
                        .Select((v, i) => Related(v, target, Given(navigation), $"{at}/{i}", depth + 1, new RelatedUse(IsDelta: true)))
                        .OfType<SentRelated>(),
                ],
                at
            );
        }
        // A bind to null clears it (Protocol 11.4.3).
        if (member.Value.ValueKind == JsonValueKind.Null && !navigation.IsCollection)
            return new SentRelation(navigation, target, RelationMode.Replace, [], at);
        var references =
            member.Value.ValueKind == JsonValueKind.Array && navigation.IsCollection
                ? [.. member.Value.EnumerateArray()]
                : new[] { member.Value };
        if (
            Array.Exists(references, r => r.ValueKind != JsonValueKind.String)
            || (navigation.IsCollection && member.Value.ValueKind != JsonValueKind.Array)
        )
        {
            Wrong(
                at,
                navigation.IsCollection
                    ? $"'{at}' takes an array of the addresses of entities."
                    : $"'{at}' takes the address of an entity, such as \"{target.Name}(…)\".",
                "value"
            );
            return null;
        }
        return new SentRelation(
            navigation,
            target,
            navigation.IsCollection ? RelationMode.Add : RelationMode.Replace,
            [.. references.Select((r, i) => new SentRelated(r.GetString(), null, navigation.IsCollection ? $"{at}/{i}" : at))],
            at
        );
    }

    /// <summary>Columns of related entities that the relation itself gives.</summary>
    private static List<string> Given(NavigationProperty navigation) =>
        navigation.IsHeldByTarget ? [.. navigation.Joins.Select(j => j.Target.Column)] : [];

    public SentRelation? Inline(JsonElement value, NavigationProperty navigation, SentFor use, string at, int depth)
    {
        var target = model.Target(navigation);
        if (is40 && use != SentFor.Create)
        {
            Wrong(
                at,
                $"In version 4.0 an update holds no related entities, only their addresses: \"{navigation.Name}@odata.bind\".",
                "version"
            );
            return null;
        }
        if (navigation.IsCollection)
        {
            if (value.ValueKind == JsonValueKind.Array)
                return new SentRelation(
                    navigation,
                    target,
                    use == SentFor.Create ? RelationMode.Add : RelationMode.Replace,
                    [
                        .. value
                            .EnumerateArray()
                            .Select(
                                (v, i) =>
                                    Related(
                                        v,
                                        target,
                                        Given(navigation),
                                        $"{at}/{i}",
                                        depth + 1,
                                        new RelatedUse(IsOfNew: use == SentFor.Create)
                                    )
                            )
                            .OfType<SentRelated>(),
                    ],
                    at
                );
            Wrong(at, $"'{at}' is {JsonValueReader.Shown(value)}, and takes an array of entities.", "value");
            return null;
        }
        if (value.ValueKind == JsonValueKind.Null)
            return new SentRelation(navigation, target, RelationMode.Replace, [], at);
        return
            Related(value, target, Given(navigation), at, depth + 1, new RelatedUse(IsOfNew: use == SentFor.Create, IsOnly: true))
                is { } related
            ? new SentRelation(navigation, target, RelationMode.Replace, [related], at)
            : null;
    }

    /// <summary>A related entity: a reference, a new one, or one that is there with what changes of it.</summary>
    public SentRelated? Related(
        JsonElement value,
        EntitySet target,
        IReadOnlyCollection<string> given,
        string at,
        int depth,
        RelatedUse use
    )
    {
        if (value.ValueKind != JsonValueKind.Object)
        {
            Wrong(at, $"'{at}' is {JsonValueReader.Shown(value)}, and takes an object.", "value");
            return null;
        }
        var (reference, tag, others) = ((string?)null, (string?)null, false);
        JsonElement? removed = null;
        foreach (var member in value.EnumerateObject())
        {
            switch (ODataEntityReader.Canonical(member.Name))
            {
                case "@id"
                or "id"
                    when member.Value.ValueKind == JsonValueKind.String
                        && (member.Name.StartsWith('@') || use.IsDelta && target.Type.FindProperty("id") is null):
                    reference = member.Value.GetString();
                    break;
                case "@etag" when member.Value.ValueKind == JsonValueKind.String:
                    tag = member.Value.GetString();
                    break;
                case "@removed":
                    removed = member.Value;
                    break;
                case "reason" when use.IsDelta && target.Type.FindProperty("reason") is null:
                    removed ??= value;
                    break;
                default:
                    others |= !member.Name.StartsWith('@');
                    break;
            }
        }
        if (removed is { } deletion)
        {
            if (!use.IsDelta)
                Wrong(at, $"'{at}' is marked as removed, which belongs to a delta: \"@delta\" behind the name.", "value");
            var reason =
                deletion.ValueKind == JsonValueKind.Object
                && deletion.TryGetProperty("reason", out var said)
                && said.ValueKind == JsonValueKind.String
                    ? said.GetString()
                    : null;
            if (reason is not ("deleted" or "changed"))
                Wrong(at, $"'{at}' is removed for a reason that is deleted or changed.", "value");
            return new SentRelated(
                reference,
                reference is null ? entities.Entity(value, target, SentFor.Merge, given, at + "/", depth) : null,
                at
            )
            {
                Removed = reason == "deleted",
                ETag = tag,
            };
        }
        if (reference is not null && !others)
            return new SentRelated(reference, null, at) { ETag = tag };
        // Whether it is there is known only when it is looked for; what a new one needs is asked then.
        var isNew = reference is null && !use.IsDelta && (use.IsOfNew || (!use.IsOnly && !HoldsKey(value, target)));
        return new SentRelated(
            reference,
            entities.Entity(value, target, isNew ? SentFor.Create : SentFor.Merge, given, at + "/", depth),
            at
        )
        {
            ETag = tag,
        };
    }

    private static bool HoldsKey(JsonElement value, EntitySet target) => target.Type.Key.Any(k => value.TryGetProperty(k.Name, out _));
}
