namespace RapidGable.Sources;

/// <summary>Rows that are held in memory.</summary>
internal static class HeldRow
{
    /// <summary>About how many bytes a row takes.</summary>
    public static long Bytes(object[] row)
    {
        var bytes = 32L + (8 * row.Length);
        foreach (var value in row)
            bytes += value switch
            {
                string text => 24 + (2 * text.Length),
                byte[] content => 24 + content.Length,
                DBNull => 0,
                _ => 24,
            };
        return bytes;
    }
}
