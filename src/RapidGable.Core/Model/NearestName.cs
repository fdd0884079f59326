namespace RapidGable.Model;

/// <summary>Finds the name that was probably meant.</summary>
public static class NearestName
{
    /// <summary>The closest of some names by edits, ignoring case; null when none is close enough to be worth saying.</summary>
    public static string? Of(string wrong, IEnumerable<string> names)
    {
        string? best = null;
        var bestDistance = Math.Max(1, wrong.Length / 3) + 1;
        foreach (var name in names)
        {
            var distance = Distance(wrong, name, bestDistance);
            if (distance < bestDistance)
                (best, bestDistance) = (name, distance);
        }
        return best ?? names.FirstOrDefault(n => wrong.Length >= 3 && n.Contains(wrong, StringComparison.OrdinalIgnoreCase));
    }

    /// <summary>A sentence to append to a message: <c> Did you mean 'x'?</c>, or nothing.</summary>
    public static string Hint(string wrong, IEnumerable<string> names) => Of(wrong, names) is { } near ? $" Did you mean '{near}'?" : "";

    private static int Distance(string left, string right, int limit)
    {
        if (Math.Abs(left.Length - right.Length) >= limit || left.Length > 200)
            return limit;
        // Two letters in the wrong order are one mistake, so the row before the previous one is kept too.
        var earlier = new int[right.Length + 1];
        var previous = Enumerable.Range(0, right.Length + 1).ToArray();
        var current = new int[right.Length + 1];
        for (var i = 1; i <= left.Length; i++)
        {
            current[0] = i;
            for (var j = 1; j <= right.Length; j++)
            {
                current[j] = Math.Min(
                    Math.Min(previous[j] + 1, current[j - 1] + 1),
                    previous[j - 1] + (Same(left[i - 1], right[j - 1]) ? 0 : 1)
                );
                if (i > 1 && j > 1 && Same(left[i - 1], right[j - 2]) && Same(left[i - 2], right[j - 1]))
                    current[j] = Math.Min(current[j], earlier[j - 2] + 1);
            }
            (earlier, previous, current) = (previous, current, earlier);
        }
        return previous[right.Length];
    }

    private static bool Same(char left, char right) => char.ToLowerInvariant(left) == char.ToLowerInvariant(right);
}
