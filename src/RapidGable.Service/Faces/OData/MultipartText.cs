using System.Text;

namespace RapidGable.Service.Faces.OData;

/// <summary>One part of a multipart body: its headers, and its content without the line end before the next boundary.</summary>
internal sealed record MultipartPart(IReadOnlyDictionary<string, string> Headers, ReadOnlyMemory<byte> Content);

/// <summary>Splits multipart text (RFC 2046, 5.1.1). Lines may end with LF alone, as some clients write them.</summary>
internal static class MultipartText
{
    private const int MostHeaders = 50;

    /// <summary>The parts between the boundaries; null when the first or the last boundary is missing, or a header is no header.</summary>
    public static List<MultipartPart>? Split(ReadOnlyMemory<byte> body, string boundary)
    {
        var parts = new List<MultipartPart>();
        var mark = Encoding.ASCII.GetBytes("--" + boundary);
        if (Next(body.Span, mark, 0) is not { } delimiter)
            return null;
        while (!delimiter.IsLast)
        {
            if (Next(body.Span, mark, delimiter.After) is not { } next)
                return null;
            if (Part(body[delimiter.After..next.Before]) is not { } part)
                return null;
            parts.Add(part);
            delimiter = next;
        }
        return parts;
    }

    /// <param name="Before">Where the content before it ends, without its line end.</param>
    /// <param name="After">Where the next content begins.</param>
    private readonly record struct Delimiter(int Before, int After, bool IsLast);

    /// <summary>The next line that is a boundary.</summary>
    private static Delimiter? Next(ReadOnlySpan<byte> body, ReadOnlySpan<byte> mark, int from)
    {
        for (var start = from; start < body.Length; )
        {
            var at = body[start..].IndexOf(mark);
            if (at < 0)
                return null;
            at += start;
            start = at + mark.Length;
            if (at > 0 && body[at - 1] != (byte)'\n')
                continue;
            var rest = body[start..];
            var isLast = rest.StartsWith("--"u8);
            var line = rest.IndexOf((byte)'\n');
            var tail = (line < 0 ? rest : rest[..line])[(isLast ? 2 : 0)..];
            // A longer boundary may begin like this one.
            if (tail.ContainsAnyExcept(" \t\r"u8) || (line < 0 && !isLast))
                continue;
            var before = at > 0 ? at - 1 : 0;
            if (before > from && body[before - 1] == (byte)'\r')
                before--;
            return new Delimiter(Math.Max(before, from), line < 0 ? body.Length : start + line + 1, isLast);
        }
        return null;
    }

    private static MultipartPart? Part(ReadOnlyMemory<byte> text)
    {
        var headers = new Dictionary<string, string>(StringComparer.OrdinalIgnoreCase);
        while (TakeLine(ref text) is { } line)
        {
            if (line.Length == 0)
                return new MultipartPart(headers, text);
            var colon = line.IndexOf(':');
            if (colon <= 0 || headers.Count == MostHeaders)
                return null;
            headers[line[..colon].Trim()] = line[(colon + 1)..].Trim();
        }
        return new MultipartPart(headers, text);
    }

    /// <summary>The next line without its end; null when nothing is left.</summary>
    public static string? TakeLine(ref ReadOnlyMemory<byte> text)
    {
        if (text.IsEmpty)
            return null;
        var end = text.Span.IndexOf((byte)'\n');
        var line = end < 0 ? text : text[..end];
        text = end < 0 ? default : text[(end + 1)..];
        return Encoding.UTF8.GetString(line.Span.TrimEnd((byte)'\r'));
    }
}
