using YamlDotNet.Core;
using YamlDotNet.Core.Events;

namespace RapidGable.Declarations;

/// <summary>
/// The one way to read YAML, whatever becomes of it: events of the library, nested no deeper than <see cref="MostLevels"/>. Whoever
/// builds trees of them by recursion can rely on that.
/// </summary>
internal sealed class YamlEvents(string text) : IParser
{
    /// <summary>How deep mappings and lists may nest.</summary>
    public const int MostLevels = 50;

    private readonly Parser _parser = new(new StringReader(text));
    private int _depth;

    public ParsingEvent? Current => _parser.Current;

    /// <exception cref="YamlException">The text is no YAML, or nests too deep.</exception>
    public bool MoveNext()
    {
        if (!Moved())
            return false;
        _depth += _parser.Current!.NestingIncrease;
        // The stream and the document are levels of their own.
        return _depth <= MostLevels + 2
            ? true
            : throw new YamlException(_parser.Current.Start, _parser.Current.End, $"nested more than {MostLevels} levels deep");
    }

    /// <summary>Some texts that are no YAML make the library fail in other ways than it says.</summary>
    private bool Moved()
    {
        try
        {
            return _parser.MoveNext();
        }
        catch (Exception exception) when (exception is InvalidOperationException or ArgumentException or NullReferenceException)
        {
            var place = _parser.Current?.End ?? Mark.Empty;
            throw new YamlException(place, place, "the text cannot be read any further", exception);
        }
    }
}
