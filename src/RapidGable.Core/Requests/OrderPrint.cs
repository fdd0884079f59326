using System.Security.Cryptography;
using System.Text;
using RapidGable.Model;

namespace RapidGable.Requests;

/// <summary>
/// A short text that tells the order which a position belongs to: what was asked for, and what the set makes of it. Its two halves tell a
/// position of another request from one whose set has changed.
/// </summary>
public static class OrderPrint
{
    private const int Bytes = 4;

    /// <param name="asked">The order as it stands in the request; empty = the set's own.</param>
    public static string Of(EntitySet set, string asked) => Asked(set, asked) + Hash(string.Join(',', Terms(set, asked)));

    /// <summary>Whether a position was made for such a request, whatever became of the set since.</summary>
    public static bool IsFor(string print, EntitySet set, string asked) => print.StartsWith(Asked(set, asked), StringComparison.Ordinal);

    private static string Asked(EntitySet set, string asked) => Hash($"{set.Name}\n{asked}");

    /// <summary>What decides how the rows are walked, with how each value is stored.</summary>
    private static IEnumerable<string> Terms(EntitySet set, string asked)
    {
        var own =
            asked.Length == 0
                ? set.DefaultOrder.Select(o => Term(o.Property, o.Descending))
                : set.Type.Properties.Where(p => asked.Contains(p.Name, StringComparison.Ordinal)).Select(p => Term(p, false));
        return own.Append("key").Concat(set.Type.Key.Select(p => Term(p, false)));
    }

    private static string Term(Property property, bool descending) =>
        $"{property.Column} {property.Type.Kind} {property.StoredType.Kind} {property.StorageForm}{(descending ? " desc" : "")}";

    private static string Hash(string text) => Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(text)).AsSpan(0, Bytes));
}
