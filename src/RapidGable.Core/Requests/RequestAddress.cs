// Address: the raw path and query of a URL, split first and decoded after (URL conventions 2), so that an encoded
// slash, ampersand or equals sign belongs to the text that it stands in.
using System.Collections.Immutable;
using System.Text;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Requests;

/// <summary>One segment of the resource path.</summary>
/// <param name="Text">Decoded.</param>
/// <param name="Raw">As it came, still percent-encoded.</param>
public sealed record AddressSegment(string Text, string Raw);

/// <summary>One decoded query option.</summary>
/// <param name="Name">As written, decoded.</param>
/// <param name="Value">Decoded value; empty when there is no equals sign.</param>
/// <param name="Raw">Name and value exactly as they came, for next links.</param>
public sealed record AddressOption(string Name, string Value, string Raw);

/// <summary>A request's resource path below the service root and its query options.</summary>
public sealed record RequestAddress(ImmutableArray<AddressSegment> Segments, ImmutableArray<AddressOption> Options, string RawPath)
{
    private static readonly UTF8Encoding StrictUtf8 = new(false, throwOnInvalidBytes: true);

    /// <summary>Splits and decodes.</summary>
    /// <param name="rawPath">What follows the service root, without a leading slash, still percent-encoded.</param>
    /// <param name="rawQuery">What follows the question mark, still percent-encoded; may be empty.</param>
    public static Result<RequestAddress> Read(string rawPath, string rawQuery)
    {
        if (rawPath.Length + rawQuery.Length > Limits.UrlLength)
            return new RequestFault(414, "url-too-long", $"The URL is longer than {Limits.UrlLength} characters.");
        try
        {
            var parts = rawPath.Length == 0 ? [] : rawPath.TrimEnd('/').Split('/');
            if (parts.Length > Limits.PathSegments)
                return new RequestFault(400, "path-too-long", $"The path has more than {Limits.PathSegments} segments.");
            var segments = parts.Select(p => new AddressSegment(Decode(p, "the path", inQuery: false), p)).ToImmutableArray();
            if (segments.Any(s => s.Text.Length == 0))
                return new RequestFault(400, "path-syntax", "The path has an empty segment: two slashes follow each other.", "path");
            var options = rawQuery.Split('&', StringSplitOptions.RemoveEmptyEntries).Select(ReadOption).ToImmutableArray();
            return new RequestAddress(segments, options, rawPath);
        }
        catch (FaultException exception)
        {
            return exception.Fault;
        }
    }

    private static AddressOption ReadOption(string raw)
    {
        var equals = raw.IndexOf('=');
        var name = Decode(equals < 0 ? raw : raw[..equals], "an option's name", inQuery: true);
        return new AddressOption(name, equals < 0 ? "" : Decode(raw[(equals + 1)..], name, inQuery: true), raw);
    }

    /// <summary>Decodes a part of a path by itself, such as one of several values of a key in one segment.</summary>
    /// <exception cref="FaultException">It cannot be decoded.</exception>
    internal static string DecodePart(string raw) => Decode(raw, "the path", inQuery: false);

    private static string Decode(string raw, string target, bool inQuery)
    {
        if (raw.AsSpan().IndexOfAny('%', '+') < 0 && !raw.Contains('\0'))
            return raw;
        var bytes = new byte[Encoding.UTF8.GetMaxByteCount(raw.Length)];
        var count = 0;
        var blanks = inQuery && raw.Contains('+');
        for (var i = 0; i < raw.Length; i++)
        {
            if (raw[i] == '%')
            {
                if (i + 2 >= raw.Length || !char.IsAsciiHexDigit(raw[i + 1]) || !char.IsAsciiHexDigit(raw[i + 2]))
                    throw Fault($"'%' at position {i} of {target} is not followed by two hexadecimal digits.", target, raw, i);
                bytes[count++] = Convert.ToByte(raw.Substring(i + 1, 2), 16);
                i += 2;
            }
            else if (raw[i] == '+' && blanks)
                bytes[count++] = RawPlus;
            else
                count +=
                    Encoding.UTF8.GetBytes(raw.AsSpan(i, char.IsHighSurrogate(raw[i]) && i + 1 < raw.Length ? 2 : 1), bytes.AsSpan(count))
                        is var n
                    && n == 4
                        ? Skip(ref i, n)
                        : n;
        }
        var span = bytes.AsSpan(0, count);
        if (span.Contains((byte)0))
            throw Fault($"{Capital(target)} holds the character U+0000, which no text may hold.", target, null, null);
        if (blanks)
            ResolvePluses(span);
        try
        {
            return StrictUtf8.GetString(span);
        }
        catch (DecoderFallbackException)
        {
            throw Fault($"{Capital(target)} is not valid UTF-8 once it is percent-decoded.", target, null, null);
        }
    }

    // 0x01 stands for a plus that was written as one; a percent-encoded plus is already '+'.
    private const byte RawPlus = 1;

    private static int Skip(ref int index, int count)
    {
        index++;
        return count;
    }

    /// <summary>Form encoders write a blank as plus; only the plus of a time-zone offset is meant as one.</summary>
    private static void ResolvePluses(Span<byte> text)
    {
        for (var i = 0; i < text.Length; i++)
        {
            if (text[i] == RawPlus)
                text[i] = OffsetSign.IsAt(text, i) ? (byte)'+' : (byte)' ';
        }
    }

    private static string Capital(string text) =>
        text.Length == 0 ? "An option without a name" : char.ToUpperInvariant(text[0]) + text[1..];

    private static FaultException Fault(string message, string target, string? text, int? position) =>
        new(new RequestFault(400, "encoding", message, target, text, position));
}
