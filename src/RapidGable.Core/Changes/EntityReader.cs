using System.Collections.Immutable;
using System.Text.Json;
using System.Text.Unicode;
using RapidGable.Access;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Requests;

namespace RapidGable.Changes;

/// <summary>How a body is read.</summary>
/// <param name="Is40">By the rules of version 4.0: related entities of an update are bound only (M-24).</param>
/// <param name="NumbersAsText">Int64 and Decimal come as strings.</param>
public sealed record BodyForm(bool Is40, bool NumbersAsText);

/// <summary>What the entity of a body is for.</summary>
public enum SentFor
{
    Create,

    /// <summary>Only what is sent changes (PATCH).</summary>
    Merge,

    /// <summary>What is not sent becomes its default (PUT).</summary>
    Replace,
}

/// <summary>JSON bodies -> what is to be written (JSON format 4 to 8, Protocol 11.4). Everything that is wrong is found at once.</summary>
/// <param name="model">What the caller may address.</param>
/// <param name="access">What of a set the caller may write.</param>
public sealed class EntityReader(EntityModel model, Func<EntitySet, SetOperations, WriteAccess?> access, BodyForm form)
{
    private static readonly JsonDocumentOptions Options = new() { MaxDepth = 128 };

    private readonly List<RequestFault> _faults = [];
    private int _entities;

    /// <summary>The JSON of a body; the fault says where it is none.</summary>
    public static Result<JsonDocument> Parse(ReadOnlyMemory<byte> body)
    {
        if (body.Span.StartsWith("\u00EF\u00BB\u00BF"u8) || body.Span.StartsWith(new byte[] { 0xEF, 0xBB, 0xBF }))
            body = body[3..];
        if (!Utf8.IsValid(body.Span))
            return new RequestFault(400, "body", "The body is not valid UTF-8.");
        try
        {
            var document = JsonDocument.Parse(body, Options);
            if (UnpairedSurrogates.Find(body.Span) is not { } half)
                return document;
            document.Dispose();
            return new RequestFault(
                400,
                "body",
                $"A name or text in the body is no valid Unicode text: half of a character stands alone behind byte {half}."
            );
        }
        catch (JsonException exception)
        {
            return new RequestFault(
                400,
                "body",
                body.IsEmpty ? "The request needs a JSON body."
                    : exception.Message.Contains("depth", StringComparison.Ordinal)
                        ? $"The body nests deeper than {Options.MaxDepth} levels."
                    : $"The body is not JSON: line {exception.LineNumber + 1}, byte {exception.BytePositionInLine + 1}."
            );
        }
    }

    /// <summary>One entity.</summary>
    /// <param name="given">Columns whose values the address gives.</param>
    public Result<SentEntity> Read(JsonElement body, EntitySet set, SentFor use, IReadOnlyCollection<string> given)
    {
        var sent = Entity(body, set, use, given, "", 1);
        return _faults.Count > 0 ? RequestFault.Of(_faults) : sent;
    }

    /// <summary>The items of a delta payload (JSON format 15), each with what is wrong with it.</summary>
    /// <returns>A fault is about the payload as a whole.</returns>
    public Result<List<DeltaItem>> ReadDelta(JsonElement body, EntitySet set)
    {
        if (
            body.ValueKind != JsonValueKind.Object
            || !body.TryGetProperty("value", out var items)
            || items.ValueKind != JsonValueKind.Array
        )
            return new RequestFault(
                400,
                "body",
                "The body is a delta payload: an object with an array 'value' of entities and of deleted ones with '@removed'."
            );
        if (
            body.EnumerateObject().FirstOrDefault(m => m.Name is "@context" or "@odata.context")
                is { Value.ValueKind: JsonValueKind.String } context
            && !context.Value.GetString()!.EndsWith("$delta", StringComparison.Ordinal)
        )
            return new RequestFault(400, "body", "The context of a delta payload ends with $delta.", "@context");
        var read = new List<DeltaItem>();
        foreach (var item in items.EnumerateArray())
        {
            var related = Related(item, set, [], $"value/{read.Count}", isDelta: true, 1);
            read.Add(new DeltaItem(item, related, [.. _faults]));
            if (_entities > model.Limits.SentEntities)
                return RequestFault.Of(_faults);
            _faults.Clear();
        }
        return read;
    }

    /// <summary>The value of one property, as an entity that holds nothing else.</summary>
    /// <param name="group">The complex property that it is a member of; null = none.</param>
    public Result<SentEntity> ReadProperty(JsonElement body, EntitySet set, Property? group, Property property, SentFor use)
    {
        if (body.ValueKind != JsonValueKind.Object)
            return new RequestFault(400, "body", "The body is an object.");
        // A complex value stands as itself, anything else under 'value' (JSON format 11).
        var isObject = property.Type is { Kind: EdmKind.Complex, IsCollection: false };
        var name = group is null ? property.Name : $"{group.Name}/{property.Name}";
        if (!isObject && !body.TryGetProperty("value", out _))
            return new RequestFault(400, "body", "The body is an object with the member 'value'.", "value");
        if (!isObject && body.EnumerateObject().Select(m => m.Name).FirstOrDefault(n => n != "value" && !n.Contains('@')) is { } other)
            return new RequestFault(400, "unknown-property", $"'{other}' is not allowed beside 'value'.", other);
        var values = ImmutableArray.CreateBuilder<SentValue>();
        var whole = access(set, SetOperations.Update)?.Set ?? set;
        Value(isObject ? body : body.GetProperty("value"), property, name, use, values, whole);
        if (isObject && property.IsGroup && use == SentFor.Replace)
            values.AddRange(
                property
                    .Members.Where(m => values.All(v => v.Property.Column != m.Column) && IsWritten(m, use))
                    .Select(m => new SentValue(m, null, $"{name}/{m.Name}"))
            );
        return _faults.Count > 0 ? RequestFault.Of(_faults) : new SentEntity(set, values.ToImmutable(), []);
    }

    private SentEntity Entity(JsonElement body, EntitySet set, SentFor use, IReadOnlyCollection<string> given, string path, int depth)
    {
        if (depth > model.Limits.ExpandDepth || ++_entities > model.Limits.SentEntities)
        {
            // Said once; what is below is not looked at.
            if (_faults.TrueForAll(f => f.Code != "too-large"))
                Wrong(
                    path.TrimEnd('/'),
                    depth > model.Limits.ExpandDepth
                        ? $"Related entities nest more than {model.Limits.ExpandDepth} levels deep."
                        : $"The body holds more than {model.Limits.SentEntities} entities.",
                    "too-large"
                );
            return SentEntity.Nothing(set);
        }
        if (body.ValueKind != JsonValueKind.Object)
        {
            Wrong(path.TrimEnd('/'), $"An entity of {set.Name} is an object, and this is {ValueReader.Shown(body)}.", "value");
            return SentEntity.Nothing(set);
        }
        var allowed = access(set, use == SentFor.Create ? SetOperations.Create : SetOperations.Update);
        var whole = allowed?.Set ?? set;
        var derived = TypeOf(body, set, whole, path);
        var (values, key, relations) = (
            ImmutableArray.CreateBuilder<SentValue>(),
            ImmutableArray.CreateBuilder<SentValue>(),
            ImmutableArray.CreateBuilder<SentRelation>()
        );
        string? id = null,
            tag = null;
        var seen = new HashSet<string>();
        foreach (var member in body.EnumerateObject())
        {
            var at = path + member.Name;
            if (!seen.Add(Canonical(member.Name)))
            {
                Wrong(at, $"'{at}' is given twice.", "duplicate");
                continue;
            }
            if (member.Name.IndexOf('@', StringComparison.Ordinal) is >= 0 and var sign)
            {
                switch (sign == 0 ? Canonical(member.Name) : "")
                {
                    case "@id" when member.Value.ValueKind == JsonValueKind.String:
                        id = member.Value.GetString();
                        break;
                    case "@etag" when member.Value.ValueKind == JsonValueKind.String:
                        tag = member.Value.GetString();
                        break;
                }
                if (sign > 0 && Annotated(member, sign, set, path, depth) is { } relation)
                    relations.Add(relation);
            }
            else if (set.Type.FindProperty(member.Name) is { Expression: not null })
                continue; // computed, so that what is sent does not matter (M-05)
            else if (
                Find(whole, derived, member.Name) is { } property
                && (IsSeen(set, property) || allowed?.Closed.Contains(property.Column) == false)
            )
            {
                if (whole.Type.Key.Contains(property) && Read(member.Value, property, at) is { } part)
                    key.Add(part);
                else if (allowed?.Closed.Contains(property.Column) == true && IsWritten(property, use))
                    _faults.Add(ColumnGate.Closed(at));
                else
                    Value(member.Value, property, at, use, values, whole);
            }
            else if (set.Type.FindNavigation(member.Name) is { } navigation)
            {
                if (Inline(member.Value, navigation, use, at, depth) is { } relation)
                    relations.Add(relation);
            }
            else
                Wrong(
                    at,
                    $"'{whole.Type.Name}' has no property '{member.Name}'.{NearestName.Hint(member.Name, set.Type.MemberNames)}",
                    "unknown-property"
                );
        }
        if (
            derived is { Discriminator: { } mark }
            && values.FirstOrDefault(v => v.Property.Column == mark.Column) is { } told
            && (told.Value is null || !derived.Values.Contains(told.Value))
        )
            Wrong(told.Path, $"'{told.Path}' says another type than {derived.Name}.", "contradiction");
        if (use == SentFor.Create)
            values.AddRange(key.Where(k => IsWritten(k.Property, use)));
        foreach (var twice in relations.GroupBy(r => r.Navigation).Where(g => g.Count() > 1))
            Wrong(path + twice.Key.Name, $"'{path + twice.Key.Name}' is given in two ways.", "duplicate");
        if (use != SentFor.Merge)
            RequireAll(whole, derived, values, relations, given, path, use);
        return new SentEntity(set, values.ToImmutable(), relations.ToImmutable(), path)
        {
            Id = id,
            ETag = tag,
            Type = derived,
            Key = key.ToImmutable(),
        };
    }

    private void Wrong(string path, string message, string code) =>
        _faults.Add(new RequestFault(400, code, message, path.Length == 0 ? null : path));

    /// <summary>A name without the prefix that 4.0 gives control information, so that both spellings count as one.</summary>
    private static string Canonical(string name) => name.Replace("@odata.", "@", StringComparison.Ordinal);

    private static Property? Find(EntitySet set, DerivedType? derived, string name) =>
        set.Type.FindProperty(name) ?? derived?.Properties.FirstOrDefault(p => p.Name == name);

    private static bool IsSeen(EntitySet set, Property property) =>
        set.Type.FindProperty(property.Name) is not null || set.Type.Derived.Any(d => d.Properties.Any(p => p.Name == property.Name));

    /// <summary>What is never written, or not now, is passed over in bodies (M-05, M-18).</summary>
    private static bool IsWritten(Property property, SentFor use) =>
        ColumnAccesses.IsWritten(property, use == SentFor.Create ? SetOperations.Create : SetOperations.Update);

    private DerivedType? TypeOf(JsonElement body, EntitySet set, EntitySet whole, string path)
    {
        foreach (var member in body.EnumerateObject().Where(m => m.Name is "@type" or "@odata.type"))
        {
            var name = member.Value.ValueKind == JsonValueKind.String ? member.Value.GetString()!.TrimStart('#') : "";
            if (name == model.QualifiedName(set.Type))
                return null;
            if (
                whole.Type.Derived.FirstOrDefault(d => $"{model.Namespace}.{d.Name}" == name) is { } derived
                && (set.Type.Derived.Any(d => d.Name == derived.Name) || ReferenceEquals(set.Type, whole.Type))
            )
                return derived;
            // A path with a cast names the type already.
            if (set.Type.Name != whole.Type.Name && name == $"{model.Namespace}.{set.Type.Name}")
                break;
            var types = set.Type.Derived.Select(d => d.Name).Prepend(set.Type.Name).Select(n => $"{model.Namespace}.{n}");
            Wrong(path + member.Name, $"'{name}' is no type of {set.Name}: {string.Join(", ", types)}.", "type");
        }
        return set.Type.Name != whole.Type.Name ? whole.Type.Derived.FirstOrDefault(d => d.Name == set.Type.Name) : null;
    }

    private SentValue? Read(JsonElement value, Property property, string path)
    {
        var before = _faults.Count;
        var read = Reader.Read(value, property, path);
        return _faults.Count == before ? new SentValue(property, read, path) : null;
    }

    private ValueReader Reader => new(form.NumbersAsText, _faults);

    private void Value(
        JsonElement value,
        Property property,
        string path,
        SentFor use,
        ImmutableArray<SentValue>.Builder values,
        EntitySet whole
    )
    {
        if (
            !IsWritten(property, use)
            || property.Column == whole.Version?.Column
            || (use != SentFor.Create && whole.Type.Key.Contains(property))
        )
            return;
        if (property.Type.Kind == EdmKind.Stream)
        {
            Wrong(path, $"'{path}' is a stream, which stands in no payload; its content is sent to its own address with PUT.", "stream");
            return;
        }
        if (property.IsGroup)
        {
            Group(value, property, path, use, values, whole);
            return;
        }
        var isMerged = use == SentFor.Merge && property is { Conversion: JsonConversion, Type.IsCollection: false };
        var before = _faults.Count;
        var read = Reader.Read(value, property, path, isMerged);
        if (_faults.Count > before)
            return;
        if (read is not null && property.Rules.Fault(read) is { } fault)
            Wrong(path, property.Rules.Message is null ? $"'{path}' {fault}." : fault, "rule-broken");
        else
            values.Add(new SentValue(property, read, path) { IsMerged = isMerged });
    }

    /// <summary>A complex value that is made of columns: each member is a value of its own.</summary>
    private void Group(
        JsonElement value,
        Property group,
        string path,
        SentFor use,
        ImmutableArray<SentValue>.Builder values,
        EntitySet whole
    )
    {
        if (value.ValueKind != JsonValueKind.Object)
        {
            Wrong(path, $"'{path}' is {ValueReader.Shown(value)}, and takes an object.", "value");
            return;
        }
        var seen = new HashSet<string>();
        foreach (var member in value.EnumerateObject().Where(m => !m.Name.Contains('@')))
        {
            var at = $"{path}/{member.Name}";
            if (!seen.Add(member.Name))
                Wrong(at, $"'{at}' is given twice.", "duplicate");
            else if (group.Members.FirstOrDefault(m => m.Name == member.Name) is { } property)
                Value(member.Value, property, at, use, values, whole);
            else
                Wrong(
                    at,
                    $"'{group.Type.Complex!.Name}' has no property "
                        + $"'{member.Name}'.{NearestName.Hint(member.Name, group.Members.Select(m => m.Name))}",
                    "unknown-property"
                );
        }
    }

    /// <summary>Names with an annotation behind them: binds and nested deltas matter, all else does no harm (M-07).</summary>
    private SentRelation? Annotated(JsonProperty member, int mark, EntitySet set, string path, int depth)
    {
        var (name, term) = (member.Name[..mark], Canonical(member.Name[mark..]));
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
                        .Select((v, i) => Related(v, target, Given(navigation), $"{at}/{i}", isDelta: true, depth + 1))
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

    private SentRelation? Inline(JsonElement value, NavigationProperty navigation, SentFor use, string at, int depth)
    {
        var target = model.Target(navigation);
        if (form.Is40 && use != SentFor.Create)
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
                                    Related(v, target, Given(navigation), $"{at}/{i}", isDelta: false, depth + 1, use == SentFor.Create)
                            )
                            .OfType<SentRelated>(),
                    ],
                    at
                );
            Wrong(at, $"'{at}' is {ValueReader.Shown(value)}, and takes an array of entities.", "value");
            return null;
        }
        if (value.ValueKind == JsonValueKind.Null)
            return new SentRelation(navigation, target, RelationMode.Replace, [], at);
        return Related(value, target, Given(navigation), at, isDelta: false, depth + 1, use == SentFor.Create, isOnly: true) is { } related
            ? new SentRelation(navigation, target, RelationMode.Replace, [related], at)
            : null;
    }

    /// <summary>A related entity: a reference, a new one, or one that is there with what changes of it.</summary>
    /// <param name="isOfNew">The entity that it is related to is new, so that it is, too.</param>
    /// <param name="isOnly">There is at most one, so that it needs no key to be told from others.</param>
    private SentRelated? Related(
        JsonElement value,
        EntitySet target,
        IReadOnlyCollection<string> given,
        string at,
        bool isDelta,
        int depth,
        bool isOfNew = false,
        bool isOnly = false
    )
    {
        if (value.ValueKind != JsonValueKind.Object)
        {
            Wrong(at, $"'{at}' is {ValueReader.Shown(value)}, and takes an object.", "value");
            return null;
        }
        var (reference, tag, others) = ((string?)null, (string?)null, false);
        JsonElement? removed = null;
        foreach (var member in value.EnumerateObject())
        {
            switch (Canonical(member.Name))
            {
                case "@id"
                or "id"
                    when member.Value.ValueKind == JsonValueKind.String
                        && (member.Name.StartsWith('@') || isDelta && target.Type.FindProperty("id") is null):
                    reference = member.Value.GetString();
                    break;
                case "@etag" when member.Value.ValueKind == JsonValueKind.String:
                    tag = member.Value.GetString();
                    break;
                case "@removed":
                    removed = member.Value;
                    break;
                case "reason" when isDelta && target.Type.FindProperty("reason") is null:
                    removed ??= value;
                    break;
                default:
                    others |= !member.Name.StartsWith('@');
                    break;
            }
        }
        if (removed is { } deletion)
        {
            if (!isDelta)
                Wrong(at, $"'{at}' is marked as removed, which belongs to a delta: \"@delta\" behind the name.", "value");
            var reason =
                deletion.ValueKind == JsonValueKind.Object
                && deletion.TryGetProperty("reason", out var said)
                && said.ValueKind == JsonValueKind.String
                    ? said.GetString()
                    : null;
            if (reason is not ("deleted" or "changed"))
                Wrong(at, $"'{at}' is removed for a reason that is deleted or changed.", "value");
            return new SentRelated(reference, reference is null ? Entity(value, target, SentFor.Merge, given, at + "/", depth) : null, at)
            {
                Removed = reason == "deleted",
                ETag = tag,
            };
        }
        if (reference is not null && !others)
            return new SentRelated(reference, null, at) { ETag = tag };
        // Whether it is there is known only when it is looked for; what a new one needs is asked then.
        var isNew = reference is null && !isDelta && (isOfNew || (!isOnly && !HoldsKey(value, target)));
        return new SentRelated(reference, Entity(value, target, isNew ? SentFor.Create : SentFor.Merge, given, at + "/", depth), at)
        {
            ETag = tag,
        };
    }

    private static bool HoldsKey(JsonElement value, EntitySet target) => target.Type.Key.Any(k => value.TryGetProperty(k.Name, out _));

    /// <summary>What a new or replaced entity cannot be without (M-04, M-21).</summary>
    private void RequireAll(
        EntitySet whole,
        DerivedType? derived,
        ImmutableArray<SentValue>.Builder values,
        ImmutableArray<SentRelation>.Builder relations,
        IReadOnlyCollection<string> given,
        string path,
        SentFor use
    )
    {
        foreach (
            var (property, group) in whole
                .Type.Properties.Concat(derived?.Properties ?? [])
                .SelectMany(p => p.IsGroup ? p.Members.Select(m => (m, (Property?)p)) : [(p, null)])
        )
        {
            var isTied = relations.Any(r =>
                !r.Navigation.IsHeldByTarget && !r.Items.IsEmpty && r.Navigation.Joins.Any(j => j.Own.Column == property.Column)
            );
            if (
                Missing.Of(property)
                && property.Column != whole.Version?.Column
                && !given.Contains(property.Column)
                && !isTied
                && values.All(v => v.Property.Column != property.Column)
                && (use == SentFor.Create || (!whole.Type.Key.Contains(property) && IsWritten(property, use)))
                && !_faults.Exists(f => f.Target == path + Shown(property, group))
            )
                Wrong(path + Shown(property, group), $"'{path}{Shown(property, group)}' is missing, and cannot be null.", "required");
        }
    }

    private static string Shown(Property property, Property? group) => group is null ? property.Name : $"{group.Name}/{property.Name}";
}

/// <summary>Values that nobody else gives.</summary>
internal static class Missing
{
    /// <summary>Whether a new entity needs the value from its caller.</summary>
    public static bool Of(Property property) =>
        property
            is {
                Nullable: false,
                IsComputed: false,
                HasComputedDefault: false,
                DefaultValue: null,
                Maker: null,
                Expression: null,
                Type.IsCollection: false
            }
        && property.Type.Kind != EdmKind.Stream
        && property.Access != PropertyAccess.ReadOnly;
}
