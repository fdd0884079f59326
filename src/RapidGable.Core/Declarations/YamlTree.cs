// YAML text -> a small tree in which every node knows its place. The library scans and parses; the tree keeps
// what its object model drops: duplicate keys (all of them are reported, not only the first) and exact spans.
using System.Text.RegularExpressions;
using YamlDotNet.Core;
using YamlDotNet.Core.Events;

namespace RapidGable.Declarations;

internal abstract record YamlNode(SourceLocation Location);

/// <param name="IsPlain">Written without quotes, so that <c>null</c> or <c>~</c> mean "nothing".</param>
internal sealed record YamlScalar(string Value, bool IsPlain, SourceLocation Location) : YamlNode(Location)
{
    public bool IsNothing => IsPlain && Value is "" or "~" or "null";
}

internal sealed record YamlSequence(IReadOnlyList<YamlNode> Items, SourceLocation Location) : YamlNode(Location);

internal sealed record YamlMapping(IReadOnlyList<(YamlScalar Key, YamlNode Value)> Entries, SourceLocation Location) : YamlNode(Location);

internal sealed partial class YamlTree
{
    private readonly string _file;
    private readonly string[] _lines;

    // Diagnostics quote lines; what may be a secret there is not quoted.
    private readonly string[] _shownLines;
    private readonly Diagnostics _diagnostics;
    private readonly IParser _parser;

    private YamlTree(string file, string text, Diagnostics diagnostics)
    {
        _file = file;
        _lines = text.ReplaceLineEndings("\n").Split('\n');
        _shownLines = file.StartsWith("sources/", StringComparison.Ordinal)
            ? Array.ConvertAll(_lines, l => SecretLine().Replace(l, "$1 …"))
            : _lines;
        _diagnostics = diagnostics;
        _parser = new YamlEvents(text);
    }

    /// <summary>Reads one document; null when the text is no YAML or not a mapping, which is then reported.</summary>
    public static YamlMapping? Read(string file, string text, Diagnostics diagnostics)
    {
        var tree = new YamlTree(file, text, diagnostics);
        if (tree.ReportTabs())
            return null;
        try
        {
            return tree.ReadDocument();
        }
        catch (YamlException exception)
        {
            var message = exception.InnerException?.Message ?? exception.Message;
            diagnostics.Error("yaml-syntax", $"This is not valid YAML: {message.TrimEnd('.')}.", tree.At(exception.Start, 1));
            return null;
        }
    }

    private bool ReportTabs()
    {
        var found = false;
        for (var i = 0; i < _lines.Length; i++)
        {
            var indent = _lines[i].TakeWhile(char.IsWhiteSpace).ToList().IndexOf('\t');
            if (indent < 0 || _lines[i].Trim().Length == 0)
                continue;
            found = true;
            _diagnostics.Error(
                "yaml-tab",
                "A tab indents this line; YAML allows only blanks there.",
                new SourceLocation(_file, i + 1, indent + 1, 1, _shownLines[i]),
                "Replace the tab by blanks."
            );
        }
        return found;
    }

    private YamlMapping? ReadDocument()
    {
        _parser.Consume<StreamStart>();
        if (_parser.Accept<StreamEnd>(out _))
        {
            _diagnostics.Error("yaml-empty", "The file is empty.", SourceLocation.WholeFile(_file));
            return null;
        }
        _parser.Consume<DocumentStart>();
        var root = ReadNode();
        _parser.Consume<DocumentEnd>();
        if (root is YamlMapping mapping)
            return mapping;
        _diagnostics.Error("yaml-shape", "The file must hold names with values, such as 'title: …'.", root.Location);
        return null;
    }

    private YamlNode ReadNode()
    {
        if (_parser.TryConsume<Scalar>(out var scalar))
            return new YamlScalar(scalar.Value, scalar.Style == ScalarStyle.Plain, At(scalar.Start, Span(scalar)));
        if (_parser.TryConsume<SequenceStart>(out var sequence))
        {
            var items = new List<YamlNode>();
            while (!_parser.TryConsume<SequenceEnd>(out _))
                items.Add(ReadNode());
            return new YamlSequence(items, At(sequence.Start, 1));
        }
        if (_parser.TryConsume<MappingStart>(out var mapping))
            return ReadMapping(mapping);
        var other = _parser.Current!;
        throw new YamlException(other.Start, other.End, "anchors and aliases are not used in declarations");
    }

    private YamlMapping ReadMapping(MappingStart start)
    {
        var entries = new List<(YamlScalar, YamlNode)>();
        var seen = new Dictionary<string, SourceLocation>(StringComparer.Ordinal);
        while (!_parser.TryConsume<MappingEnd>(out _))
        {
            if (ReadNode() is not YamlScalar key)
                throw new YamlException(start.Start, start.End, "a name in a mapping must be plain text");
            var value = ReadNode();
            if (seen.TryGetValue(key.Value, out var first))
            {
                _diagnostics.Error("yaml-duplicate", $"'{key.Value}' is given twice; the first is in line {first.Line}.", key.Location);
                continue;
            }
            seen.Add(key.Value, key.Location);
            entries.Add((key, value));
        }
        return new YamlMapping(entries, At(start.Start, 1));
    }

    private static int Span(Scalar scalar) =>
        scalar.Start.Line == scalar.End.Line ? Math.Max(1, (int)(scalar.End.Column - scalar.Start.Column)) : 1;

    private SourceLocation At(Mark mark, int length)
    {
        var line = Math.Clamp((int)mark.Line, 1, _lines.Length);
        var text = _shownLines[line - 1];
        var column = Math.Clamp((int)mark.Column, 1, text.Length + 1);
        return new SourceLocation(_file, line, column, Math.Min(length, Math.Max(1, text.Length - column + 1)), text);
    }

    [GeneratedRegex(@"^(.*\b(password|connection)[""']?\s*:)(?!\s*[""']?\$\{\w+\}[""']?\s*$).*$", RegexOptions.IgnoreCase)]
    private static partial Regex SecretLine();
}
