namespace RapidGable.Declarations;

/// <summary>How grave a finding is.</summary>
public enum Severity
{
    Error,
    Warning,
}

/// <summary>A place in a declaration file. Lines and columns count from 1, in characters.</summary>
/// <param name="File">Path relative to the workspace, with <c>/</c>.</param>
/// <param name="Line">Line; 0 when the finding concerns the whole file.</param>
/// <param name="Column">Column of the first character concerned.</param>
/// <param name="Length">Characters concerned; at least 1.</param>
/// <param name="LineText">The line itself; empty for the whole file.</param>
public sealed record SourceLocation(string File, int Line, int Column, int Length, string LineText)
{
    /// <summary>A file as such, for what has no line.</summary>
    public static SourceLocation WholeFile(string file) => new(file, 0, 0, 1, "");

    public override string ToString() => Line == 0 ? File : $"{File}:{Line}:{Column}";
}

/// <summary>Something wrong, or doubtful, in a declaration.</summary>
/// <param name="Code">Stable code, listed in docs/diagnostics.md.</param>
/// <param name="Message">What is wrong, with the names in it.</param>
/// <param name="Location">Where.</param>
/// <param name="Advice">What to write instead; null when the message says it all.</param>
public sealed record Diagnostic(Severity Severity, string Code, string Message, SourceLocation Location, string? Advice = null)
{
    /// <summary>What can be put in the place of the characters concerned to mend it; null = that is not certain.</summary>
    public string? Replacement { get; init; }

    /// <summary>The finding as text: position and message, then the line with a caret, then the advice.</summary>
    public string Render()
    {
        var text = $"{Location}: {(Severity == Severity.Error ? "error" : "warning")} {Code}: {Message}";
        if (Location.Line > 0)
        {
            var gutter = Location.Line.ToString();
            var padding = new string(Location.LineText.Take(Location.Column - 1).Select(c => c == '\t' ? '\t' : ' ').ToArray());
            text +=
                $"\n  {gutter} | {Location.LineText}\n  {new string(' ', gutter.Length)} | "
                + $"{padding}{new string('^', Math.Max(1, Location.Length))}";
        }
        return Advice is null ? text : $"{text}\n  {Advice.Replace("\n", "\n  ")}";
    }
}

/// <summary>Collects findings while a workspace is read and built; the order is that of discovery.</summary>
public sealed class Diagnostics
{
    private readonly List<Diagnostic> _items = [];

    public IReadOnlyList<Diagnostic> Items => _items;

    public bool HasErrors => _items.Exists(d => d.Severity == Severity.Error);

    /// <param name="replacement">As in <see cref="Diagnostic.Replacement"/>.</param>
    public void Error(string code, string message, SourceLocation location, string? advice = null, string? replacement = null) =>
        _items.Add(new Diagnostic(Severity.Error, code, message, location, advice) { Replacement = replacement });

    /// <summary>Adds a finding that does not keep a service from being published.</summary>
    public void Warning(string code, string message, SourceLocation location, string? advice = null) =>
        _items.Add(new Diagnostic(Severity.Warning, code, message, location, advice));
}
