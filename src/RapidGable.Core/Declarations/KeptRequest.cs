using System.Collections.Immutable;

namespace RapidGable.Declarations;

/// <summary>A request of a file <c>requests/*.http</c>.</summary>
/// <param name="Name">By which it is called: what <c>@name</c> says, else the file's name with its number.</param>
/// <param name="Title">What stands behind <c>###</c>; empty = nothing.</param>
/// <param name="Target">The address, in which variables may stand.</param>
/// <param name="Headers">In their order; values may hold variables.</param>
/// <param name="Body">Null = none.</param>
/// <param name="Location">Of its first line.</param>
public sealed record KeptRequest(
    string Name,
    string Title,
    string Method,
    string Target,
    ImmutableArray<(string Name, string Value)> Headers,
    string? Body,
    SourceLocation Location
)
{
    /// <summary>A user, or roles joined by commas, as whom it is sent; null = anonymous.</summary>
    public string? As { get; init; }

    /// <summary>What must be true of the answer; empty = nothing is expected.</summary>
    public ImmutableArray<KeptExpectation> Expectations { get; init; } = [];

    /// <summary>Variables of its file.</summary>
    public ImmutableDictionary<string, string> Variables { get; init; } = ImmutableDictionary<string, string>.Empty;

    /// <summary>Nothing in it stands for a variable.</summary>
    public bool IsLiteral { get; init; }

    /// <summary>The path and query, whatever host the address names.</summary>
    public string Path
    {
        get
        {
            if (IsLiteral)
                return Target;
            var filled = KeptVariables.Fill(Target, name => name == "host" ? "" : Variables.GetValueOrDefault(name));
            var start = filled.IndexOf("://", StringComparison.Ordinal);
            if (start < 0)
                return filled.StartsWith('/') ? filled : "/" + filled;
            var path = filled.IndexOf('/', start + 3);
            return path < 0 ? "/" : filled[path..];
        }
    }

    /// <summary>It may change something.</summary>
    public bool Changes => Method is not ("GET" or "HEAD" or "OPTIONS");
}

/// <summary>Something that must be true of an answer: a word, and what it is about.</summary>
/// <param name="Word">One of <see cref="Words"/>.</param>
public sealed record KeptExpectation(string Word, string Text, SourceLocation Location)
{
    /// <summary>The words, each with how it is written.</summary>
    public static readonly ImmutableDictionary<string, string> Words = new Dictionary<string, string>
    {
        ["status"] = "status 200",
        ["header"] = "header Content-Type application/json",
        ["count"] = "count >= 1",
        ["value"] = "value rows[0].name = \"Ashford Weir\"",
        ["order"] = "order name desc",
        ["schema"] = "schema",
        ["time"] = "time 500 ms",
        ["without"] = "without access_notes",
    }.ToImmutableDictionary();
}

/// <summary>Reads <c>requests/*.http</c>: the plain text form that editors send.</summary>
/// <remarks>
/// <c>###</c> separates requests, and names the one below it. Lines with <c>#</c> or <c>//</c> are comments; those that go on with <c>@</c>
/// say the name, the caller and what is expected. <c>@name = value</c> is a variable, and <c>{{name}}</c> stands for its value.
/// </remarks>
internal sealed class KeptRequestReader(string file, string text, Diagnostics diagnostics)
{
    /// <summary>Variables that are given when a request is sent.</summary>
    public static readonly string[] Given = ["host", "caller"];

    private static readonly string[] Methods = ["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"];

    private readonly string[] _lines = text.ReplaceLineEndings("\n").Split('\n');
    private readonly Dictionary<string, string> _variables = [];
    private readonly List<KeptRequest> _found = [];

    private string FileName => Path.GetFileNameWithoutExtension(file);

    public ImmutableArray<KeptRequest> Read()
    {
        if (text.Contains('\0'))
        {
            diagnostics.Error("request", "The file is no text.", SourceLocation.WholeFile(file));
            return [];
        }
        var start = 0;
        for (var line = 0; line <= _lines.Length; line++)
        {
            if (line < _lines.Length && !_lines[line].StartsWith("###", StringComparison.Ordinal))
                continue;
            Part(start, line);
            start = line;
        }
        var variables = _variables.ToImmutableDictionary();
        foreach (var twice in _found.GroupBy(r => r.Name).Where(g => g.Count() > 1))
            diagnostics.Error(
                "request",
                $"Two requests are called '{twice.Key}'.",
                twice.Last().Location,
                "Say another name with '# @name'."
            );
        return [.. _found.Select(r => Checked(r with { Variables = variables }))];
    }

    private SourceLocation Place(int line) => new(file, line + 1, 1, Math.Max(1, _lines[line].Length), _lines[line]);

    /// <summary>The lines of one request.</summary>
    private void Part(int start, int end)
    {
        var title =
            start < _lines.Length && _lines[start].StartsWith("###", StringComparison.Ordinal) ? _lines[start].TrimStart('#').Trim() : "";
        string? name = null;
        string? caller = null;
        var expectations = ImmutableArray.CreateBuilder<KeptExpectation>();
        for (var line = start; line < end; line++)
        {
            var here = _lines[line].Trim();
            if (here.Length == 0 || here.StartsWith("###", StringComparison.Ordinal))
                continue;
            if (Comment(here) is { } comment)
            {
                if (comment.StartsWith("@name ", StringComparison.Ordinal))
                    name = comment["@name ".Length..].Trim();
                else if (comment.StartsWith("@as ", StringComparison.Ordinal))
                    caller = comment["@as ".Length..].Trim();
                else if (
                    comment.StartsWith("@expect", StringComparison.Ordinal)
                    && Expectation(comment["@expect".Length..].Trim(), line) is { } one
                )
                    expectations.Add(one);
            }
            else if (here[0] == '@')
                Variable(here, line);
            else
            {
                Request(line, end, title, name, caller, expectations.ToImmutable());
                return;
            }
        }
        if (name is not null || expectations.Count > 0)
            diagnostics.Error("request", "The request has no line with its method and address.", Place(start));
    }

    /// <summary>What a comment says; null = the line is none.</summary>
    private static string? Comment(string line) =>
        line[0] == '#' ? line.TrimStart('#').Trim()
        : line.StartsWith("//", StringComparison.Ordinal) ? line[2..].Trim()
        : null;

    private void Variable(string line, int number)
    {
        var parts = line[1..].Split('=', 2);
        if (parts.Length < 2 || parts[0].Trim().Length == 0)
            diagnostics.Error("request", "A variable is written '@name = value'.", Place(number));
        else
            _variables[parts[0].Trim()] = parts[1].Trim();
    }

    private KeptExpectation? Expectation(string said, int line)
    {
        var word = said.Split(' ')[0];
        if (KeptExpectation.Words.ContainsKey(word))
            return new KeptExpectation(word, said[word.Length..].Trim(), Place(line));
        diagnostics.Error(
            "request",
            $"'{word}' is nothing that can be expected.{Model.NearestName.Hint(word, KeptExpectation.Words.Keys)}",
            Place(line),
            "Write for example: " + string.Join("; ", KeptExpectation.Words.Values.Order(StringComparer.Ordinal)) + "."
        );
        return null;
    }

    private void Request(int line, int end, string title, string? name, string? caller, ImmutableArray<KeptExpectation> expectations)
    {
        var (method, target) = FirstLine(_lines[line].Trim());
        if (name is not null && !name.All(c => char.IsAsciiLetterOrDigit(c) || c is '-' or '_'))
            diagnostics.Error(
                "request",
                $"'{name}' cannot be the name of a request: it becomes the name of a file.",
                Place(line),
                "Write letters, digits, '-' and '_'."
            );
        if (!Methods.Contains(method))
        {
            diagnostics.Error("request", $"'{method}' is no method.", Place(line), $"Methods: {string.Join(", ", Methods)}.");
            return;
        }
        var first = line++;
        // An address may go on in lines that are indented.
        while (line < end && _lines[line].Length > 0 && char.IsWhiteSpace(_lines[line][0]) && _lines[line].Trim().Length > 0)
            target += _lines[line++].Trim();
        var headers = ImmutableArray.CreateBuilder<(string, string)>();
        for (; line < end && _lines[line].Trim().Length > 0; line++)
        {
            if (Comment(_lines[line].Trim()) is not null)
                continue;
            var parts = _lines[line].Split(':', 2);
            if (parts.Length < 2)
                diagnostics.Error("request", "A header is written 'Name: value', and a blank line comes before the body.", Place(line));
            else
                headers.Add((parts[0].Trim(), parts[1].Trim()));
        }
        var body = string.Join('\n', _lines[Math.Min(line, end)..end]).Trim('\n', ' ');
        if (body.StartsWith("< ", StringComparison.Ordinal))
            diagnostics.Error("request", "A body from a file is not sent; write it into the request.", Place(Math.Min(line + 1, end - 1)));
        _found.Add(
            new KeptRequest(
                name ?? $"{FileName}-{_found.Count + 1}",
                title,
                method,
                target,
                headers.ToImmutable(),
                body.Length == 0 ? null : body,
                Place(first)
            )
            {
                As = caller,
                Expectations = expectations,
            }
        );
    }

    /// <summary>The method and the address; an address alone is asked with GET.</summary>
    private static (string Method, string Target) FirstLine(string line)
    {
        var space = line.IndexOf(' ');
        if (space < 0)
            return ("GET", line);
        var (method, rest) = (line[..space], line[(space + 1)..].Trim());
        var version = rest.LastIndexOf(" HTTP/", StringComparison.Ordinal);
        return (method, version < 0 ? rest : rest[..version].Trim());
    }

    /// <summary>All variables that a request names must be known.</summary>
    private KeptRequest Checked(KeptRequest request)
    {
        foreach (var part in request.Headers.Select(h => h.Value).Append(request.Target).Append(request.Body ?? ""))
        {
            foreach (var variable in KeptVariables.In(part).Where(v => !Given.Contains(v) && !request.Variables.ContainsKey(v)))
                diagnostics.Error(
                    "request",
                    $"There is no variable '{variable}'.{Model.NearestName.Hint(variable, request.Variables.Keys.Concat(Given))}",
                    request.Location,
                    $"Write '@{variable} = value' at the start of the file; {string.Join(" and ", Given)} are given."
                );
        }
        return request;
    }
}

/// <summary>Variables in the texts of requests.</summary>
public static class KeptVariables
{
    /// <summary>The names that stand in a text between double braces.</summary>
    public static IEnumerable<string> In(string text)
    {
        for (var at = 0; (at = text.IndexOf("{{", at, StringComparison.Ordinal)) >= 0; )
        {
            var end = text.IndexOf("}}", at, StringComparison.Ordinal);
            if (end < 0)
                yield break;
            yield return text[(at + 2)..end].Trim();
            at = end + 2;
        }
    }

    /// <summary>A text with the values of its variables, which may hold others.</summary>
    /// <param name="valueOf">The value of a variable; null = it stays as it is written.</param>
    public static string Fill(string text, Func<string, string?> valueOf)
    {
        // A variable that leads to itself ends here.
        for (var depth = 0; depth < 10 && In(text).ToList() is { Count: > 0 } names; depth++)
        {
            var before = text;
            foreach (var name in names)
            {
                if (valueOf(name) is { } value)
                    text = text.Replace("{{" + name + "}}", value).Replace("{{ " + name + " }}", value);
            }
            if (text == before)
                break;
        }
        return text;
    }
}
