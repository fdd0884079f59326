using System.Collections.Immutable;
using RapidGable.Declarations;
using YamlDotNet.Core;
using YamlDotNet.Core.Events;

namespace RapidGable.Drafting;

/// <summary>A node of a YAML text with the characters that it takes.</summary>
/// <param name="Start">Of its first character.</param>
/// <param name="End">Behind its last character; comments and line ends that follow are no part of it.</param>
internal abstract record YamlNode(int Start, int End);

internal sealed record YamlScalar(int Start, int End, string Value) : YamlNode(Start, End)
{
    /// <summary>Nothing is written there.</summary>
    public bool IsEmpty => Start == End;
}

/// <param name="IsFlow">Written in braces.</param>
internal sealed record YamlMapping(int Start, int End, bool IsFlow, ImmutableArray<(YamlScalar Key, YamlNode Value)> Entries)
    : YamlNode(Start, End)
{
    public int IndexOf(string key)
    {
        for (var i = 0; i < Entries.Length; i++)
        {
            if (Entries[i].Key.Value == key)
                return i;
        }
        return -1;
    }

    /// <summary>The value of a key; null = it is not there.</summary>
    public YamlNode? Find(string key) => IndexOf(key) is >= 0 and var at ? Entries[at].Value : null;
}

/// <param name="IsFlow">Written in brackets.</param>
internal sealed record YamlList(int Start, int End, bool IsFlow, ImmutableArray<YamlNode> Items) : YamlNode(Start, End);

/// <summary>Reads a YAML text into nodes that know where they stand.</summary>
internal static class YamlTree
{
    /// <summary>The root of a text; null = it holds nothing.</summary>
    /// <exception cref="InvalidDataException">When it is no YAML, or uses what declarations do not: anchors and keys that are no
    /// texts.</exception>
    public static YamlNode? Read(string text)
    {
        try
        {
            var parser = new YamlEvents(text);
            parser.Consume<StreamStart>();
            if (!parser.TryConsume<DocumentStart>(out _))
                return null;
            return Node(parser, text);
        }
        catch (YamlException exception)
        {
            throw new InvalidDataException($"the text is no YAML: {exception.Message}", exception);
        }
    }

    private static int At(Mark mark) => checked((int)mark.Index);

    private static YamlNode Node(IParser parser, string text)
    {
        if (parser.TryConsume<Scalar>(out var scalar))
            return new YamlScalar(At(scalar.Start), Trimmed(text, At(scalar.Start), At(scalar.End)), scalar.Value);
        if (parser.TryConsume<MappingStart>(out var mapping))
            return Mapping(parser, text, mapping);
        if (parser.TryConsume<SequenceStart>(out var list))
            return List(parser, text, list);
        throw new InvalidDataException("the text uses an alias, which cannot be edited in parts");
    }

    private static YamlMapping Mapping(IParser parser, string text, MappingStart start)
    {
        var entries = ImmutableArray.CreateBuilder<(YamlScalar, YamlNode)>();
        while (!parser.TryConsume<MappingEnd>(out _))
        {
            if (Node(parser, text) is not YamlScalar key)
                throw new InvalidDataException("a key is no text");
            entries.Add((key, Node(parser, text)));
        }
        var isFlow = start.Style == MappingStyle.Flow;
        var first = At(start.Start);
        var last = entries.Count == 0 ? first : Math.Max(entries[^1].Item1.End, entries[^1].Item2.End);
        return new YamlMapping(first, isFlow ? Closed(text, Math.Max(last, first + 1), '}') : last, isFlow, entries.ToImmutable());
    }

    private static YamlList List(IParser parser, string text, SequenceStart start)
    {
        var items = ImmutableArray.CreateBuilder<YamlNode>();
        while (!parser.TryConsume<SequenceEnd>(out _))
            items.Add(Node(parser, text));
        var isFlow = start.Style == SequenceStyle.Flow;
        var first = At(start.Start);
        var last = items.Count == 0 ? first : items[^1].End;
        return new YamlList(first, isFlow ? Closed(text, Math.Max(last, first + 1), ']') : last, isFlow, items.ToImmutable());
    }

    /// <summary>The place behind the bracket that closes a collection, looked for from the end of its last part.</summary>
    private static int Closed(string text, int from, char bracket)
    {
        for (var at = from; at < text.Length; at++)
        {
            if (text[at] == bracket)
                return at + 1;
            if (text[at] == '#')
                at = Math.Max(at, text.IndexOf('\n', at));
        }
        return text.Length;
    }

    /// <summary>A text in several lines ends with the last of its characters, not with the line.</summary>
    private static int Trimmed(string text, int start, int end)
    {
        end = Math.Min(end, text.Length);
        while (end > start && char.IsWhiteSpace(text[end - 1]))
            end--;
        return end;
    }
}
