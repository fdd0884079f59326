using System.Collections.Immutable;

namespace RapidGable.Sources;

/// <summary>How an engine tells texts, names and comments of a statement from the rest of it.</summary>
/// <param name="HasBackslashEscapes">A backslash in a text takes the next character as it is.</param>
/// <param name="HasHashComments"><c>#</c> starts a comment.</param>
/// <param name="NeedsBlankAfterDashes"><c>--</c> starts a comment only with a blank behind it.</param>
/// <param name="HasNestedComments">Comments stand within comments.</param>
/// <param name="HasDollarQuotes"><c>$tag$ … $tag$</c> is a text.</param>
/// <param name="HasBracketNames"><c>[…]</c> is a name.</param>
/// <param name="OwnPlaceholders">What starts placeholders of the engine's own, which a declaration must not have.</param>
public sealed record SqlLexis(
    bool HasBackslashEscapes = false,
    bool HasHashComments = false,
    bool NeedsBlankAfterDashes = false,
    bool HasNestedComments = false,
    bool HasDollarQuotes = false,
    bool HasBracketNames = false,
    string OwnPlaceholders = ""
);

/// <summary>A parameter in the text of a statement.</summary>
/// <param name="Position">Of its colon, from 0.</param>
public sealed record SqlMark(string Name, int Position);

/// <summary>A statement cut at its parameters, which are written <c>:name</c>.</summary>
/// <param name="Pieces">One more than there are marks.</param>
/// <param name="Fault">What keeps it from being one statement with named parameters; null = nothing.</param>
/// <param name="FaultPosition">Where, from 0.</param>
public sealed record SqlMarks(ImmutableArray<string> Pieces, ImmutableArray<SqlMark> Marks, string? Fault, int FaultPosition)
{
    /// <summary>Cuts a statement; texts, quoted names, comments and casts hold no parameters.</summary>
    /// <param name="sql">One statement, without a semicolon at its end.</param>
    public static SqlMarks Read(string sql, SqlLexis lexis) => new SqlMarkReader(sql, lexis, isScript: false).Read();
}

/// <summary>Statements that may change something, each cut at its parameters.</summary>
/// <param name="Statements">In their order; the first fault of any of them is that of the script.</param>
public sealed record SqlScript(ImmutableArray<SqlMarks> Statements, string? Fault, int FaultPosition)
{
    /// <summary>Cuts statements with semicolons between them; one that holds nothing but comments is passed over.</summary>
    public static SqlScript Read(string sql, SqlLexis lexis) => new SqlMarkReader(sql, lexis, isScript: true).ReadScript();
}

/// <summary>Goes through the characters of one statement, or of several that may change something, once.</summary>
internal sealed class SqlMarkReader(string sql, SqlLexis lexis, bool isScript)
{
    /// <summary>What statements of a script start with: nothing that ends a transaction or changes how the session works.</summary>
    private static readonly string[] Starts = ["SELECT", "WITH", "VALUES", "INSERT", "UPDATE", "DELETE", "REPLACE", "MERGE", "CALL"];

    /// <summary>Words before an INTO that names the table of a change.</summary>
    private static readonly string[] BeforeTable =
    [
        "INSERT",
        "REPLACE",
        "MERGE",
        "IGNORE",
        "ABORT",
        "FAIL",
        "ROLLBACK",
        "LOW_PRIORITY",
        "HIGH_PRIORITY",
        "DELAYED",
    ];

    private readonly ImmutableArray<SqlMarks>.Builder _statements = ImmutableArray.CreateBuilder<SqlMarks>();
    private readonly ImmutableArray<string>.Builder _pieces = ImmutableArray.CreateBuilder<string>();
    private readonly ImmutableArray<SqlMark>.Builder _marks = ImmutableArray.CreateBuilder<SqlMark>();
    private readonly List<(string Word, int Position)> _words = [];
    private int _at;
    private int _pieceStart;
    private (string Message, int Position)? _fault;

    /// <summary>Where a statement of a script begins, behind blanks and comments; null = it has not begun.</summary>
    private int? _begin;

    public SqlMarks Read()
    {
        while (_at < sql.Length && _fault is null)
            Step();
        if (_fault is null)
            RefuseWrites();
        _pieces.Add(sql[_pieceStart..]);
        return new SqlMarks(_pieces.ToImmutable(), _marks.ToImmutable(), _fault?.Message, _fault?.Position ?? 0);
    }

    public SqlScript ReadScript()
    {
        while (_at < sql.Length && _fault is null)
            Step();
        if (_fault is null)
            EndStatement(sql.Length);
        if (_fault is null && _statements.Count == 0)
            Fail("it holds no statement.", 0);
        return new SqlScript(_statements.ToImmutable(), _fault?.Message, _fault?.Position ?? 0);
    }

    /// <param name="end">Behind its last character.</param>
    private void EndStatement(int end)
    {
        if (_words.Count > 0)
        {
            RefuseScript();
            _pieces.Add(sql[_pieceStart..end]);
            _statements.Add(new SqlMarks(_pieces.ToImmutable(), _marks.ToImmutable(), null, 0));
        }
        _pieces.Clear();
        _marks.Clear();
        _words.Clear();
        if (_fault is null)
            (_at, _pieceStart, _begin) = (end + 1, end + 1, null);
    }

    /// <summary>What is no part of a transaction, or writes elsewhere than into tables.</summary>
    private void RefuseScript()
    {
        var (first, start) = _words[0];
        if (!Starts.Contains(first))
            Fail($"a statement of it starts with {first}; it may start with {string.Join(", ", Starts)}.", start);
        for (var i = 1; i < _words.Count; i++)
        {
            if (_words[i].Word == "INTO" && !BeforeTable.Contains(_words[i - 1].Word))
                Fail("it puts what it finds somewhere (INTO).", _words[i].Position);
        }
    }

    /// <summary>
    /// What would write or lock, though it is a SELECT. Engines refuse some of it by themselves, and others not when they only read.
    /// </summary>
    private void RefuseWrites()
    {
        for (var i = 0; i < _words.Count; i++)
        {
            string WordAt(int offset) => i + offset < _words.Count ? _words[i + offset].Word : "";
            var position = _words[i].Position;
            if (WordAt(0) == "INTO")
                Fail("it puts what it finds somewhere (INTO).", position);
            else if (
                WordAt(0) == "FOR"
                && (WordAt(1) is "UPDATE" or "SHARE" || (WordAt(1) is "NO" or "KEY" && WordAt(2) is "KEY" or "SHARE"))
            )
                Fail("it locks what it finds.", position);
            else if (WordAt(0) == "LOCK" && WordAt(1) == "IN" && WordAt(2) == "SHARE")
                Fail("it locks what it finds.", position);
        }
    }

    private void Step()
    {
        var sign = sql[_at];
        if (IsComment())
            return;
        if (isScript && _begin is null && !char.IsWhiteSpace(sign))
            _pieceStart = (_begin = _at).Value;
        if (char.IsLetter(sign) || sign == '_')
        {
            Word();
            return;
        }
        switch (sign)
        {
            case '\'':
                Text(sign, lexis.HasBackslashEscapes || IsEscapeText());
                break;
            case '"':
                Text(sign, lexis.HasBackslashEscapes);
                break;
            case '`':
                Text(sign, false);
                break;
            case '[' when lexis.HasBracketNames:
                Until("]", 1, "a name in brackets");
                break;
            case '$' when lexis.HasDollarQuotes && DollarTag() is { } tag:
                Until(tag, tag.Length, "a text between " + tag);
                break;
            case ':':
                Colon();
                break;
            case ';' when isScript:
                EndStatement(_at);
                break;
            case ';':
                Fail("it is more than one statement.", _at);
                break;
            case '@' when Next(1) == '@':
                _at += 2;
                break;
            default:
                if (lexis.OwnPlaceholders.Contains(sign) && !IsNamePart(Previous()) && IsOwnPlaceholder(sign))
                    Fail($"'{sign}' stands for a value by itself; write parameters as :name.", _at);
                else
                    _at++;
                break;
        }
    }

    private void Word()
    {
        var start = _at;
        while (_at < sql.Length && IsNamePart(sql[_at]))
            _at++;
        // A name behind a point is one, whatever it is called.
        if (start == 0 || sql[start - 1] != '.')
            _words.Add((sql[start.._at].ToUpperInvariant(), start));
    }

    /// <summary><c>::</c> is a cast and <c>:=</c> names an argument; a colon before a name makes it a parameter.</summary>
    private void Colon()
    {
        if (Next(1) is ':' or '=')
        {
            _at += 2;
            return;
        }
        var end = _at + 1;
        while (end < sql.Length && IsNamePart(sql[end]))
            end++;
        if (end == _at + 1 || char.IsDigit(sql[_at + 1]))
        {
            _at++;
            return;
        }
        _pieces.Add(sql[_pieceStart.._at]);
        _marks.Add(new SqlMark(sql[(_at + 1)..end], _at));
        (_at, _pieceStart) = (end, end);
    }

    private bool IsComment()
    {
        var isLine = sql[_at] == '#' && lexis.HasHashComments || Is("--") && (!lexis.NeedsBlankAfterDashes || Next(2) is '\0' or <= ' ');
        if (isLine)
        {
            var end = sql.IndexOf('\n', _at);
            _at = end < 0 ? sql.Length : end + 1;
            return true;
        }
        if (!Is("/*"))
            return false;
        if (lexis.HasHashComments && (Next(2) == '!' || (Next(2) == 'M' && Next(3) == '!')))
            Fail("a comment with '!' is carried out by the server; write what it holds without it.", _at);
        else
            BlockComment();
        return true;
    }

    private void BlockComment()
    {
        var (start, depth) = (_at, 0);
        do
        {
            if (_at >= sql.Length)
            {
                Fail("a comment is not closed.", start);
                return;
            }
            if (Is("/*") && (depth == 0 || lexis.HasNestedComments))
                (depth, _at) = (depth + 1, _at + 2);
            else if (Is("*/"))
                (depth, _at) = (depth - 1, _at + 2);
            else
                _at++;
        } while (depth > 0);
    }

    /// <summary>A text or a quoted name; two quotes within stand for one.</summary>
    private void Text(char quote, bool hasEscapes)
    {
        var start = _at++;
        while (_at < sql.Length)
        {
            if (sql[_at] == '\\' && hasEscapes)
                _at += 2;
            else if (sql[_at] != quote)
                _at++;
            else if (Next(1) == quote)
                _at += 2;
            else
            {
                _at++;
                return;
            }
        }
        Fail($"a text or name in {quote} is not closed.", start);
    }

    private void Until(string end, int start, string what)
    {
        var found = sql.IndexOf(end, _at + start, StringComparison.Ordinal);
        if (found < 0)
            Fail(what + " is not closed.", _at);
        else
            _at = found + end.Length;
    }

    /// <summary><c>$$</c> or <c>$tag$</c> here; null = neither.</summary>
    private string? DollarTag()
    {
        if (IsNamePart(Previous()))
            return null;
        var end = _at + 1;
        while (end < sql.Length && IsNamePart(sql[end]))
            end++;
        return end < sql.Length && sql[end] == '$' && !char.IsDigit(sql[_at + 1]) ? sql[_at..(end + 1)] : null;
    }

    /// <summary>A text with an <c>E</c> before it, in which a backslash escapes.</summary>
    private bool IsEscapeText() => lexis.HasDollarQuotes && Previous() is 'e' or 'E' && (_at < 2 || !IsNamePart(sql[_at - 2]));

    private bool IsOwnPlaceholder(char sign) =>
        sign == '?' || (sign == '$' && lexis.HasDollarQuotes ? char.IsDigit(Next(1)) : IsNamePart(Next(1)));

    private void Fail(string message, int position) => (_fault, _at) = ((message, position), sql.Length);

    private bool Is(string text) => string.CompareOrdinal(sql, _at, text, 0, text.Length) == 0;

    private char Next(int offset) => _at + offset < sql.Length ? sql[_at + offset] : '\0';

    private char Previous() => _at > 0 ? sql[_at - 1] : '\0';

    private static bool IsNamePart(char sign) => char.IsLetterOrDigit(sign) || sign == '_';
}
