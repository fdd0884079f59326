using System.Globalization;
using System.Text;
using RapidGable.Expressions;

namespace RapidGable.Requests.OData;

/// <summary>The nested options of <c>$expand</c>, as links to further related entities repeat them.</summary>
/// <param name="request">The request that holds them.</param>
/// <param name="expand">The relation.</param>
/// <param name="rootId">The id of the entity that <c>$it</c> stands for there, which is not the same in the link.</param>
public sealed class RelatedOptions(LexedRequest request, BoundExpand expand, string rootId)
{
    /// <summary>The asked order of the related entities; empty = none is asked.</summary>
    public string OrderText => expand.Options.FirstOrDefault(o => o.Name == "$orderby") is { } option ? TextOf(option) : "";

    /// <summary>Names and values, not encoded.</summary>
    /// <param name="told">How many related entities this answer holds; they are taken off <c>$top</c>.</param>
    public IEnumerable<(string Name, string Value)> After(int told)
    {
        var expands = new List<string>();
        foreach (var option in expand.Options)
        {
            if (option.Name == "$top")
                yield return (option.Name, (TopOf(expand) - told).ToString(CultureInfo.InvariantCulture));
            else if (option.Name == "$expand")
                expands.Add(TextOf(option));
            else if (option.Name is not ("$skip" or "$levels"))
                yield return (option.Name, TextOf(option));
        }
        if (expand.Levels > 1)
            expands.Add(NextLevel());
        if (expands.Count > 0)
            yield return ("$expand", string.Join(',', expands));
    }

    private long TopOf(BoundExpand own) => (long)request.Literals[own.Top!.Value].Value;

    /// <summary>The relation goes on from there, once less.</summary>
    private string NextLevel()
    {
        var options = expand.Options.Select(o => o.Name == "$levels" ? $"$levels={expand.Levels - 1}" : $"{o.Name}={TextOf(o)}");
        var isStar = expand.Options.Length == 1 && expand.Expand.Length > 1;
        return $"{(isStar ? "*" : expand.Navigation.Name)}({string.Join(';', options)})";
    }

    private string TextOf(NestedOption option)
    {
        var tokens = request.Options.First(o => o.Name == "$expand").Tokens;
        var whole = request.Texts["$expand"];
        var (text, at) = (new StringBuilder(), tokens[option.FirstToken].Position);
        for (var i = option.FirstToken; i < option.EndToken; i++)
        {
            if (tokens[i] is not { Kind: TokenKind.Name, Text: "$it" } it)
                continue;
            text.Append(whole.AsSpan(at, it.Position - at)).Append("$root/").Append(rootId);
            at = it.Position + it.Text.Length;
        }
        return text.Append(whole.AsSpan(at, tokens[option.EndToken].Position - at)).ToString().Trim();
    }
}
