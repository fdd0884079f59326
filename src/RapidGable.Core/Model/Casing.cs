using System.Text;

namespace RapidGable.Model;

/// <summary>How the words of a name are joined.</summary>
public enum Casing
{
    /// <summary>The name as it is.</summary>
    AsIs,

    /// <summary><c>openedOn</c>.</summary>
    CamelCase,

    /// <summary><c>OpenedOn</c>.</summary>
    PascalCase,

    /// <summary><c>opened_on</c>.</summary>
    SnakeCase,

    /// <summary><c>opened-on</c>; for paths only, since it makes no identifier.</summary>
    KebabCase,
}

/// <summary>Names in another case. A name depends on nothing but itself and the case.</summary>
public static class Casings
{
    /// <summary>The name in a case; one without any word stays as it is.</summary>
    public static string Apply(this Casing casing, string name)
    {
        if (casing == Casing.AsIs)
            return name;
        var words = Words(name).ConvertAll(w => w.ToLowerInvariant());
        if (words.Count == 0)
            return name;
        var text = casing switch
        {
            Casing.SnakeCase => string.Join('_', words),
            Casing.KebabCase => string.Join('-', words),
            Casing.PascalCase => string.Concat(words.Select(Capital)),
            _ => words[0] + string.Concat(words.Skip(1).Select(Capital)),
        };
        return casing != Casing.KebabCase && !SimpleIdentifier.IsValid(text) ? "_" + text : text;
    }

    /// <summary>Words end at <c>_</c> and where small letters meet a capital; a word in capitals only becomes an ordinary one.</summary>
    public static List<string> Words(string name)
    {
        var words = new List<string>();
        var word = new StringBuilder();
        void End()
        {
            if (word.Length > 0)
                words.Add(word.ToString());
            word.Clear();
        }
        var plain = SimpleIdentifier.From(name);
        for (var i = 0; i < plain.Length; i++)
        {
            if (plain[i] == '_')
            {
                End();
                continue;
            }
            if (
                i > 0
                && char.IsUpper(plain[i])
                && (char.IsLower(plain[i - 1]) || (i + 1 < plain.Length && char.IsUpper(plain[i - 1]) && char.IsLower(plain[i + 1])))
            )
                End();
            word.Append(plain[i]);
        }
        End();
        return words;
    }

    private static string Capital(string word) => char.ToUpperInvariant(word[0]) + word[1..];
}
