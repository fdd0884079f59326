using System.Collections.Immutable;
using System.Text.Json;
using RapidGable.Changes;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Payloads.Json;

/// <summary>OData JSON -> entities to write (JSON format 4 to 8). Everything that is wrong is found at once.</summary>
internal sealed class ODataEntityReader
{
    private const string TooLarge = "too-large";

    private readonly WritableModel _writable;
    private readonly ODataJsonForm _form;
    private readonly ODataRelationReader _relations;
    private readonly JsonValueReader _values;
    private int _entities;

    public ODataEntityReader(WritableModel writable, ODataJsonForm form)
    {
        (_writable, _form) = (writable, form);
        _relations = new ODataRelationReader(this, writable.Model, form.Is40);
        _values = new JsonValueReader(form.NumbersAsText, Faults);
    }

    /// <summary>What is wrong so far.</summary>
    public FaultList Faults { get; } = [];

    private RequestLimits Limits => _writable.Model.Limits;

    /// <summary>The body holds more entities than one request may.</summary>
    public bool HasTooMany => _entities > Limits.SentEntities;

    public void Wrong(string path, string message, string code) =>
        Faults.Add(new RequestFault(400, code, message, path.Length == 0 ? null : path));

    /// <summary>A name without the prefix that 4.0 gives control information, so that both spellings count as one.</summary>
    public static string Canonical(string name) => name.Replace("@odata.", "@", StringComparison.Ordinal);

    /// <summary>An item of a delta payload; null = nothing that can be understood.</summary>
    public SentRelated? DeltaItem(JsonElement item, EntitySet set, string path) =>
        _relations.Related(item, set, [], path, depth: 1, new RelatedUse(IsDelta: true));

    /// <summary>One entity; empty where it cannot be understood.</summary>
    /// <param name="given">Columns whose values the address or the relation gives.</param>
    /// <param name="path">Where it stands in the body, with a slash at its end.</param>
    /// <param name="depth">1 = it is the body.</param>
    public SentEntity Entity(JsonElement body, EntitySet set, SentFor use, IReadOnlyCollection<string> given, string path, int depth)
    {
        if (!IsWithinLimits(path, depth))
            return SentEntity.Nothing(set);
        if (body.ValueKind != JsonValueKind.Object)
        {
            Wrong(path.TrimEnd('/'), $"An entity of {set.Name} is an object, and this is {JsonValueReader.Shown(body)}.", "value");
            return SentEntity.Nothing(set);
        }
        var allowed = _writable.Access(set, use == SentFor.Create ? SetOperations.Create : SetOperations.Update);
        var derived = TypeOf(body, set, allowed?.Set ?? set, path);
        var entity = new OpenEntity(set, new SentMembers(set, allowed, derived, use), use, path, depth);
        foreach (var member in body.EnumerateObject())
        {
            if (entity.Seen.Add(Canonical(member.Name)))
                Member(member, entity);
            else
                Wrong(path + member.Name, $"'{path}{member.Name}' is given twice.", "duplicate");
        }
        if (entity.Members.Contradiction(entity.Values) is { } contradiction)
            Faults.Add(contradiction);
        if (use == SentFor.Create)
            entity.Values.AddRange(entity.Key.Where(k => SentMembers.IsWritten(k.Property, use)));
        foreach (var twice in entity.Relations.GroupBy(r => r.Navigation).Where(g => g.Count() > 1))
            Wrong(path + twice.Key.Name, $"'{path + twice.Key.Name}' is given in two ways.", "duplicate");
        if (use != SentFor.Merge)
            Faults.AddRange(
                entity
                    .Members.Missing(entity.Values, entity.Relations, given, path)
                    .Where(m => !Faults.Any(f => f.Target == m.Target))
                    .ToList()
            );
        return new SentEntity(set, [.. entity.Values], [.. entity.Relations], path)
        {
            Id = entity.Id,
            ETag = entity.ETag,
            Type = derived,
            Key = [.. entity.Key],
        };
    }

    /// <summary>An entity that is being read.</summary>
    private sealed record OpenEntity(EntitySet Set, SentMembers Members, SentFor Use, string Path, int Depth)
    {
        public List<SentValue> Values { get; } = [];
        public List<SentValue> Key { get; } = [];
        public List<SentRelation> Relations { get; } = [];
        public HashSet<string> Seen { get; } = [];
        public string? Id { get; set; }
        public string? ETag { get; set; }
    }

    /// <summary>Whether there is room for one more entity; what is wrong is said once, and what is below is not looked at.</summary>
    private bool IsWithinLimits(string path, int depth)
    {
        if (depth <= Limits.ExpandDepth && ++_entities <= Limits.SentEntities)
            return true;
        if (Faults.All(f => f.Code != TooLarge))
            Wrong(
                path.TrimEnd('/'),
                depth > Limits.ExpandDepth
                    ? $"Related entities nest more than {Limits.ExpandDepth} levels deep."
                    : $"The body holds more than {Limits.SentEntities} entities.",
                TooLarge
            );
        return false;
    }

    private void Member(JsonProperty member, OpenEntity entity)
    {
        var (set, members, at) = (entity.Set, entity.Members, entity.Path + member.Name);
        if (!_form.IsPlain && member.Name.IndexOf('@', StringComparison.Ordinal) is >= 0 and var sign)
            Annotation(member, sign, entity);
        else if (members.IsComputed(member.Name))
            CheckUnchanged(member, entity);
        else if (members.Find(member.Name) is { } property)
        {
            if (!members.IsClosed(property) && !members.IsTaken(property))
                CheckUnchanged(member, entity);
            if (members.IsKey(property) && KeyPart(member.Value, property, at) is { } part)
                entity.Key.Add(part);
            else if (members.IsClosed(property))
                Faults.Add(ColumnGate.Closed(at));
            else
                Value(member.Value, property, at, entity.Use, entity.Values, members);
        }
        else if (set.Type.FindNavigation(member.Name) is { } navigation)
        {
            if (_relations.Inline(RowsOf(member.Value, navigation), navigation, entity.Use, at, entity.Depth) is { } relation)
                entity.Relations.Add(relation);
        }
        else
            Wrong(
                at,
                $"'{members.Whole.Type.Name}' has no property '{member.Name}'.{NearestName.Hint(member.Name, set.Type.MemberNames)}",
                "unknown-property"
            );
    }

    /// <summary>
    /// What a plain body says of a value that is not written: nothing, or what it is already. Other bodies may say anything (M-05, M-18).
    /// </summary>
    private void CheckUnchanged(JsonProperty member, OpenEntity entity)
    {
        if (!_form.IsPlain || entity.Depth > 1)
            return;
        var isSame =
            _form.Current is { } current
            && entity.Use != SentFor.Create
            && current.TryGetProperty(member.Name, out var value)
            && JsonElement.DeepEquals(value, member.Value);
        if (!isSame)
            Wrong(
                entity.Path + member.Name,
                entity.Use == SentFor.Create
                    ? $"'{member.Name}' is given by the service, and not by callers."
                    : $"'{member.Name}' cannot be changed; leave it out, or send it as it is.",
                "read-only"
            );
    }

    /// <summary>The related entities of a plain body, which may come as they are read: an object with <c>rows</c>.</summary>
    private JsonElement RowsOf(JsonElement value, NavigationProperty navigation) =>
        _form.IsPlain && navigation.IsCollection && value.ValueKind == JsonValueKind.Object && value.TryGetProperty("rows", out var rows)
            ? rows
            : value;

    /// <summary>Names with a sign in them: the entity's own address and state, and relations; all else does no harm (M-07).</summary>
    private void Annotation(JsonProperty member, int sign, OpenEntity entity)
    {
        if (sign > 0)
        {
            if (_relations.Annotated(member, sign, entity.Set, entity.Path, entity.Depth) is { } relation)
                entity.Relations.Add(relation);
            return;
        }
        if (member.Value.ValueKind != JsonValueKind.String)
            return;
        switch (Canonical(member.Name))
        {
            case "@id":
                entity.Id = member.Value.GetString();
                break;
            case "@etag":
                entity.ETag = member.Value.GetString();
                break;
        }
    }

    private DerivedType? TypeOf(JsonElement body, EntitySet set, EntitySet whole, string path)
    {
        var model = _writable.Model;
        if (_form.IsPlain)
            return TypeByDiscriminator(body, whole);
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
            Wrong(path + member.Name, $"'{name}' is not a type of {set.Name}: {string.Join(", ", types)}.", "type");
        }
        return set.Type.Name != whole.Type.Name ? whole.Type.Derived.FirstOrDefault(d => d.Name == set.Type.Name) : null;
    }

    /// <summary>The derived type whose discriminator the body holds; null = the set's own.</summary>
    private static DerivedType? TypeByDiscriminator(JsonElement body, EntitySet whole)
    {
        foreach (var derived in whole.Type.Derived.Where(d => d.Discriminator is not null))
        {
            var name = whole.Type.Properties.FirstOrDefault(p => p.Column == derived.Discriminator!.Column)?.Name;
            if (name is null || !body.TryGetProperty(name, out var value))
                continue;
            var isOf = derived.Values.Any(v =>
                v switch
                {
                    string text => value.ValueKind == JsonValueKind.String && value.GetString() == text,
                    long number => value.ValueKind == JsonValueKind.Number && value.TryGetInt64(out var sent) && sent == number,
                    _ => false,
                }
            );
            if (isOf)
                return derived;
        }
        return null;
    }

    private SentValue? KeyPart(JsonElement value, Property property, string path)
    {
        var before = Faults.Count;
        var read = _values.Read(value, property, path);
        return Faults.Count == before ? new SentValue(property, read, path) : null;
    }

    /// <summary>The values of one property: several for a complex one that is made of columns.</summary>
    /// <param name="path">Its name, behind that of the property that it is a member of.</param>
    public ImmutableArray<SentValue> Property(JsonElement value, EntitySet set, Property property, string path, SentFor use)
    {
        var values = new List<SentValue>();
        var members = new SentMembers(set, _writable.Access(set, SetOperations.Update), derived: null, use);
        Value(value, property, path, use, values, members);
        if (property is { IsGroup: true, Type.IsCollection: false } && use == SentFor.Replace)
            values.AddRange(
                property
                    .Members.Where(m => values.TrueForAll(v => v.Property.Column != m.Column) && SentMembers.IsWritten(m, use))
                    .Select(m => new SentValue(m, null, $"{path}/{m.Name}"))
                    .ToList()
            );
        return [.. values];
    }

    private void Value(JsonElement value, Property property, string path, SentFor use, List<SentValue> values, SentMembers members)
    {
        if (!members.IsTaken(property))
            return;
        if (property.Type.Kind == EdmKind.Stream)
        {
            Wrong(path, $"'{path}' is a stream, which stands in no payload; its content is sent to its own address with PUT.", "stream");
            return;
        }
        if (property.IsGroup)
        {
            Group(value, property, path, use, values, members);
            return;
        }
        var isMerged = use == SentFor.Merge && property is { Conversion: JsonConversion, Type.IsCollection: false };
        var before = Faults.Count;
        var read = _values.Read(value, property, path, isMerged);
        if (Faults.Count > before)
            return;
        if (SentMembers.Broken(property, read, path) is { } broken)
            Faults.Add(broken);
        else
            values.Add(new SentValue(property, read, path) { IsMerged = isMerged });
    }

    /// <summary>A complex value that is made of columns: each member is a value of its own.</summary>
    private void Group(JsonElement value, Property group, string path, SentFor use, List<SentValue> values, SentMembers members)
    {
        if (value.ValueKind != JsonValueKind.Object)
        {
            Wrong(path, $"'{path}' is {JsonValueReader.Shown(value)}, and takes an object.", "value");
            return;
        }
        var seen = new HashSet<string>();
        foreach (var member in value.EnumerateObject().Where(m => !m.Name.Contains('@')))
        {
            var at = $"{path}/{member.Name}";
            if (!seen.Add(member.Name))
                Wrong(at, $"'{at}' is given twice.", "duplicate");
            else if (group.Members.FirstOrDefault(m => m.Name == member.Name) is { } property)
                Value(member.Value, property, at, use, values, members);
            else
                Wrong(
                    at,
                    $"'{group.Type.Complex!.Name}' has no property "
                        + $"'{member.Name}'.{NearestName.Hint(member.Name, group.Members.Select(m => m.Name))}",
                    "unknown-property"
                );
        }
    }
}
