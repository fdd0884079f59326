using RapidGable.Drafting;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary>What a draft did not publish, for who has to decide about it.</summary>
internal static class DraftReport
{
    private const int MostNamed = 12;

    public static void Write(DraftResult draft)
    {
        foreach (var (name, why) in draft.Refused)
            Terminal.Out.MarkupLine($"  [olive]- {Markup.Escape(name)}: {Markup.Escape(why)}[/]");
        if (!draft.LeftOut.IsEmpty)
            WriteList("Left out, since they may hold secrets", [.. draft.LeftOut.Select(l => l.Object)]);
        if (!draft.Hidden.IsEmpty)
            WriteList("Hidden columns that look secret or personal", draft.Hidden);
        var sets = Terminal.Plural(draft.Keyless, "set");
        if (draft.Keyless > 0)
            Terminal.Out.WriteLine($"Without a key, so only read: {sets}. 'gable keys' looks for one once there are rows.");
    }

    private static void WriteList(string title, IReadOnlyList<string> names)
    {
        var more = names.Count > MostNamed ? $" and {names.Count - MostNamed} more" : "";
        Terminal.Out.MarkupLine($"[olive]{title}: {Markup.Escape(string.Join(", ", names.Take(MostNamed)) + more)}[/]");
    }
}
