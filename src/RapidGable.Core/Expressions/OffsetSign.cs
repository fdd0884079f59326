namespace RapidGable.Expressions;

/// <summary>The plus in a time with an offset, which addresses that come from forms may have turned into a blank.</summary>
internal static class OffsetSign
{
    /// <summary>Whether the position is the sign of an offset: after <c>Thh:mm[:ss[.f…]]</c> and before <c>hh:mm</c>.</summary>
    public static bool IsAt(ReadOnlySpan<byte> text, int index)
    {
        var after = text[(index + 1)..];
        if (after.Length < 5 || !Digits(after[..2]) || after[2] != ':' || !Digits(after.Slice(3, 2)))
            return false;
        var before = text[..index];
        var start = before.LastIndexOf((byte)'T');
        if (start < 0 || index - start > 22)
            return false;
        var time = before[(start + 1)..];
        if (time.Length < 5 || !Digits(time[..2]) || time[2] != ':' || !Digits(time.Slice(3, 2)))
            return false;
        if (time.Length == 5)
            return true;
        return time.Length >= 8
            && time[5] == ':'
            && Digits(time.Slice(6, 2))
            && (time.Length == 8 || (time[8] == '.' && time.Length > 9 && Digits(time[9..])));
    }

    private static bool Digits(ReadOnlySpan<byte> text) => text.IndexOfAnyExceptInRange((byte)'0', (byte)'9') < 0;
}
