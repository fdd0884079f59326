using RapidGable.Model;

namespace RapidGable.Drafting;

/// <summary>Makes an enumeration of the values that a column holds.</summary>
public static class EnumerationDraft
{
    /// <summary>A member for each value: name -> stored value. Names are made valid, and told apart by numbers.</summary>
    /// <param name="values">All different ones, in the order that members are to have.</param>
    public static IReadOnlyDictionary<string, string> Members(IEnumerable<string> values)
    {
        var members = new Dictionary<string, string>(StringComparer.Ordinal);
        foreach (var value in values.Where(v => v.Length > 0))
        {
            var plain = SimpleIdentifier.From(value);
            var name = plain;
            for (var number = 2; members.ContainsKey(name); number++)
                name = $"{plain}_{number}";
            members[name] = value;
        }
        return members;
    }
}
