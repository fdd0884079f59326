using Humanizer;
using RapidGable.Declarations;
using RapidGable.Model;

namespace RapidGable.Building;

/// <summary>
/// Public names by a policy. A name depends on nothing but the source's name and the policy, so that changing one never
/// changes another.
/// </summary>
internal static class PublicNames
{
    public static string Property(string column, NamingPolicy policy) =>
        policy switch
        {
            NamingPolicy.PascalCase => Pascal(column),
            NamingPolicy.CamelCase => Camel(column),
            _ => SimpleIdentifier.From(column),
        };

    public static string Set(string item, NamingPolicy policy) =>
        policy switch
        {
            NamingPolicy.PascalCase => LastWord(Pascal(item), plural: true),
            NamingPolicy.CamelCase => LastWord(Camel(item), plural: true),
            _ => SimpleIdentifier.From(item),
        };

    public static string Type(string item, NamingPolicy policy) =>
        policy == NamingPolicy.AsIs ? SimpleIdentifier.From(item) : LastWord(Pascal(item), plural: false);

    /// <summary>The name of a relation in the policy's case, made from words that are names already.</summary>
    public static string Relation(string name, NamingPolicy policy) =>
        policy switch
        {
            NamingPolicy.PascalCase => char.ToUpperInvariant(name[0]) + name[1..],
            NamingPolicy.CamelCase => char.ToLowerInvariant(name[0]) + name[1..],
            _ => name,
        };

    private static string Pascal(string name)
    {
        var text = string.Concat(Casings.Words(name).Select(w => char.ToUpperInvariant(w[0]) + w[1..].ToLowerInvariant()));
        return text.Length == 0 ? "_"
            : char.IsDigit(text[0]) ? "_" + text
            : text;
    }

    private static string Camel(string name)
    {
        var pascal = Pascal(name);
        return char.ToLowerInvariant(pascal[0]) + pascal[1..];
    }

    /// <summary>The last word in the plural or singular; the library knows the irregular ones.</summary>
    private static string LastWord(string name, bool plural)
    {
        var start = name.Length - 1;
        while (start > 0 && !char.IsUpper(name[start]))
            start--;
        var word = name[start..];
        // One letter is no word, and the library has no answer to it.
        if (word.Length < 2)
            return name;
        var changed = plural ? word.Pluralize(inputIsKnownToBeSingular: false) : word.Singularize(inputIsKnownToBePlural: false);
        return SimpleIdentifier.IsValid(name[..start] + changed) ? name[..start] + changed : name;
    }
}
