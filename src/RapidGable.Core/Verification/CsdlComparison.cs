using System.Collections.Immutable;

namespace RapidGable.Verification;

/// <summary>One difference between two metadata documents of a service.</summary>
/// <param name="Subject">Set, type, or type and property.</param>
/// <param name="What">What is different, with both sides.</param>
/// <param name="Meaning">What it means for those who call the service.</param>
/// <param name="IsBreaking">Clients that were right before may fail now.</param>
public sealed record CsdlDifference(string Subject, string What, string Meaning, bool IsBreaking);

/// <summary>Compares what a service published before with what it publishes now, in the eyes of its consumers.</summary>
public sealed class CsdlComparison
{
    private readonly CsdlDocument _before;
    private readonly CsdlDocument _now;
    private readonly List<CsdlDifference> _found = [];

    private CsdlComparison(CsdlDocument before, CsdlDocument now)
    {
        _before = before;
        _now = now;
    }

    /// <summary>What has changed between two metadata documents, and which of it breaks clients.</summary>
    public static ImmutableArray<CsdlDifference> Compare(CsdlDocument before, CsdlDocument now)
    {
        var comparison = new CsdlComparison(before, now);
        comparison.Sets();
        comparison.Types();
        return [.. comparison._found];
    }

    private void Breaks(string subject, string what, string meaning) => _found.Add(new CsdlDifference(subject, what, meaning, true));

    private void Adds(string subject, string what, string meaning) => _found.Add(new CsdlDifference(subject, what, meaning, false));

    private void Sets()
    {
        var before = _before.Containers.SelectMany(c => c.Sets).ToDictionary(s => s.Name);
        var now = _now.Containers.SelectMany(c => c.Sets).ToDictionary(s => s.Name);
        foreach (var set in before.Values.Where(s => !now.ContainsKey(s.Name)))
            Breaks(set.Name, "the set is gone", "Requests to it answer 404.");
        foreach (var set in now.Values.Where(s => !before.ContainsKey(s.Name)))
            Adds(set.Name, "the set is new", "Nothing changes for those who do not use it.");
        foreach (
            var (set, other) in before
                .Values.Where(s => now.ContainsKey(s.Name))
                .Select(s => (s, now[s.Name]))
                .Where(p => p.s.Type != p.Item2.Type)
        )
            Breaks(set.Name, $"its type was {set.Type} and is {other.Type}", "Generated clients read it as the wrong type.");
    }

    private void Types()
    {
        var before = Named(_before);
        var now = Named(_now);
        foreach (var name in before.Keys.Where(n => !now.ContainsKey(n)))
            Breaks(name, "the type is gone", "Generated clients that know it fail.");
        foreach (var name in now.Keys.Where(n => !before.ContainsKey(n)))
            Adds(name, "the type is new", "Nothing changes for those who do not use it.");
        foreach (var (name, type) in before.Where(t => now.ContainsKey(t.Key)))
            Type(name, type, now[name]);
    }

    private static Dictionary<string, CsdlType> Named(CsdlDocument document) =>
        document
            .Schemas.SelectMany(s => s.Types.Select(t => ($"{s.Namespace}.{t.Name}", t)))
            .DistinctBy(p => p.Item1)
            .ToDictionary(p => p.Item1, p => p.t);

    private void Type(string name, CsdlType before, CsdlType now)
    {
        if (before.Kind != now.Kind)
        {
            Breaks(name, $"it was {Word(before.Kind)} and is {Word(now.Kind)}", "Generated clients fail.");
            return;
        }
        if (!before.Key.SequenceEqual(now.Key))
            Breaks(
                name,
                $"the key was {string.Join(", ", before.Key)} and is {string.Join(", ", now.Key)}",
                "Addresses of entities that clients kept no longer work."
            );
        Members(name, before, now);
        foreach (var property in before.Properties)
        {
            if (now.Properties.FirstOrDefault(p => p.Name == property.Name) is { } other)
                Property($"{name}/{property.Name}", property, other);
            else
                Breaks(
                    $"{name}/{property.Name}",
                    "the property is gone",
                    "Queries that name it answer 400, and clients that read it find nothing."
                );
        }
        foreach (var property in now.Properties.Where(p => before.Properties.All(b => b.Name != p.Name)))
            Adds(
                $"{name}/{property.Name}",
                $"the property is new ({Shown(property)})",
                "Clients that read strictly by the old metadata may stumble over it; others ignore it."
            );
        foreach (var navigation in before.Navigations)
        {
            if (now.Navigations.FirstOrDefault(n => n.Name == navigation.Name) is not { } other)
                Breaks($"{name}/{navigation.Name}", "the relation is gone", "Paths and $expand over it answer 404 or 400.");
            else if (other.Type != navigation.Type)
                Breaks(
                    $"{name}/{navigation.Name}",
                    $"the relation led to {navigation.Type} and leads to {other.Type}",
                    "Clients read the wrong shape."
                );
        }
        foreach (var navigation in now.Navigations.Where(n => before.Navigations.All(b => b.Name != n.Name)))
            Adds($"{name}/{navigation.Name}", "the relation is new", "Nothing changes for those who do not use it.");
    }

    private void Members(string name, CsdlType before, CsdlType now)
    {
        foreach (var (member, value) in before.Members)
        {
            var other = now.Members.FirstOrDefault(m => m.Name == member);
            if (other.Name is null)
                Breaks($"{name}/{member}", "the member is gone", "Filters that name it answer 400.");
            else if (other.Value != value)
                Breaks(
                    $"{name}/{member}",
                    $"its number was {value} and is {other.Value}",
                    "Clients that keep numbers read another member."
                );
        }
        foreach (var (member, _) in now.Members.Where(m => before.Members.All(b => b.Name != m.Name)))
            Breaks($"{name}/{member}", "the member is new", "Clients that know only the old members fail when it comes.");
    }

    private void Property(string subject, CsdlProperty before, CsdlProperty now)
    {
        if (before.Type != now.Type)
            Breaks(subject, $"its type was {Shown(before)} and is {Shown(now)}", "Clients read and compare it as the wrong type.");
        else if (Facets(before) != Facets(now))
        {
            if (IsWider(before, now))
                Breaks(
                    subject,
                    $"it was {Shown(before)} and is {Shown(now)}",
                    "Values may come that are longer or finer than clients expect."
                );
            else
                Adds(subject, $"it was {Shown(before)} and is {Shown(now)}", "Every value fits what clients expect.");
        }
        if (!before.IsNullable && now.IsNullable)
            Breaks(subject, "it was never null and may be null now", "Clients that do not expect a null fail when one comes.");
        else if (before.IsNullable && !now.IsNullable)
            Adds(subject, "it may no longer be null", "Nothing changes for those who read.");
    }

    private static string Facets(CsdlProperty property) =>
        string.Join(' ', new[] { "MaxLength", "Precision", "Scale" }.Select(f => property.Facets.GetValueOrDefault(f)));

    private static bool IsWider(CsdlProperty before, CsdlProperty now)
    {
        // No length is any length; no precision of a time is none at all.
        long Most(CsdlProperty property, string facet) =>
            property.Facets.TryGetValue(facet, out var text)
                ? long.TryParse(text, out var number)
                    ? number
                    : long.MaxValue
                : facet == "Scale" || (facet == "Precision" && property.ItemType != "Edm.Decimal")
                    ? 0
                    : long.MaxValue;
        return new[] { "MaxLength", "Precision", "Scale" }.Any(f => Most(now, f) > Most(before, f));
    }

    private static string Shown(CsdlProperty property)
    {
        var facets = new[] { "MaxLength", "Precision", "Scale" }
            .Select(f => property.Facets.GetValueOrDefault(f))
            .OfType<string>()
            .ToList();
        return facets.Count == 0 ? property.Type : $"{property.Type}({string.Join(',', facets)})";
    }

    private static string Word(CsdlTypeKind kind) =>
        kind switch
        {
            CsdlTypeKind.Entity => "an entity type",
            CsdlTypeKind.Complex => "a complex type",
            CsdlTypeKind.Enum => "an enumeration",
            _ => "a type definition",
        };
}
