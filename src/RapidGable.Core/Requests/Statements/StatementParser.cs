using System.Collections.Frozen;
using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Requests.Statements;

/// <summary>
/// Words and signs of a statement -> what it says. The grammar is that of docs/sql.md; whatever else SQL has is refused where it
/// starts.
/// </summary>
internal sealed partial class StatementParser
{
    private static readonly FrozenSet<string> Reserved = FrozenSet.Create(
        StringComparer.OrdinalIgnoreCase,
        "select",
        "distinct",
        "from",
        "inner",
        "left",
        "right",
        "full",
        "outer",
        "cross",
        "natural",
        "join",
        "on",
        "using",
        "where",
        "group",
        "by",
        "having",
        "order",
        "limit",
        "offset",
        "fetch",
        "as",
        "and",
        "or",
        "not",
        "is",
        "null",
        "between",
        "in",
        "like",
        "exists",
        "case",
        "when",
        "then",
        "else",
        "end",
        "cast",
        "true",
        "false",
        "union",
        "intersect",
        "except",
        "with",
        "window",
        "for",
        "into",
        "asc",
        "desc",
        "all",
        "any"
    );

    private readonly string _text;
    private readonly List<StatementToken> _tokens;
    private int _index;
    private int _depth;
    private int _terms;
    private int _tables;

    private StatementParser(string text)
    {
        _text = text;
        _tokens = new StatementLexer(text).Read();
    }

    /// <summary>Reads one SELECT; the fault says where it is none, or what of SQL is not offered.</summary>
    public static Result<SelectSyntax> Parse(string text)
    {
        try
        {
            var parser = new StatementParser(text);
            var select = parser.Whole();
            return select;
        }
        catch (FaultException exception)
        {
            return exception.Fault;
        }
    }

    private StatementToken Current => _tokens[_index];

    private StatementToken Following => _tokens[Math.Min(_index + 1, _tokens.Count - 1)];

    private StatementToken Take() => Current.Kind == StatementTokenKind.End ? Current : _tokens[_index++];

    private bool TryTake(string word)
    {
        if (!Current.Is(word))
            return false;
        _index++;
        return true;
    }

    private void Expect(string word)
    {
        if (!TryTake(word))
            throw Unexpected($"'{word.ToUpperInvariant()}'");
    }

    private FaultException Unexpected(string expected)
    {
        var found = Current.Kind == StatementTokenKind.End ? "the statement ends there" : $"'{Current.Text}' stands there";
        return Fault("syntax", $"Expected {expected}, but {found}.", Current.Position);
    }

    private FaultException Fault(string code, string message, int position) => StatementFaults.Of(code, message, _text, position);

    private FaultException NotOffered(string what) =>
        StatementFaults.NotSupported($"{what} cannot be used in a statement over sets.", _text, Current.Position);

    private SelectSyntax Whole()
    {
        if (Current.Is("with"))
            throw NotOffered("WITH");
        if (!Current.Is("select"))
            throw Unexpected("a SELECT");
        var select = Select(isWhole: true);
        RefuseOthers();
        TryTake(";");
        return Current.Kind == StatementTokenKind.End ? select : throw Unexpected("the end; one statement is run at a time");
    }

    /// <summary>Names what SQL knows and this does not, where it would stand.</summary>
    private void RefuseOthers()
    {
        string[] others =
        [
            "union",
            "intersect",
            "except",
            "window",
            "for",
            "into",
            "fetch",
            "using",
            "natural",
            "cross",
            "right",
            "full",
            "like",
        ];
        if (Array.Find(others, Current.Is) is { } other)
            throw NotOffered(other.ToUpperInvariant());
    }

    /// <param name="isWhole">It is not within another one, and may have an order and a limit.</param>
    private SelectSyntax Select(bool isWhole)
    {
        Enter();
        var position = Current.Position;
        Expect("select");
        var isDistinct = TryTake("distinct");
        if (!isDistinct)
            TryTake("all");
        var items = ListOf(Item, Limits.StatementColumns, "columns");
        RefuseOthers();
        Expect("from");
        var select = new SelectSyntax(items, Table(), position) { IsDistinct = isDistinct, Joins = Joins() };
        if (TryTake("where"))
            select = select with { Where = Term() };
        RefuseOthers();
        if (TryTake("group"))
        {
            Expect("by");
            select = select with { GroupBy = ListOf(Term, Limits.StatementColumns, "groups") };
        }
        if (TryTake("having"))
            select = select with { Having = Term() };
        RefuseOthers();
        if (!isWhole && (Current.Is("order") || Current.Is("limit") || Current.Is("offset")))
            throw NotOffered($"{Current.Text.ToUpperInvariant()} within another SELECT");
        if (isWhole)
            select = Arranged(select);
        _depth--;
        return select;
    }

    private SelectSyntax Arranged(SelectSyntax select)
    {
        if (TryTake("order"))
        {
            Expect("by");
            select = select with { OrderBy = ListOf(Order, Limits.OrderTerms, "terms to sort by") };
        }
        if (TryTake("limit"))
            select = select with { Limit = Number() };
        if (TryTake("offset"))
            select = select with { Offset = Number() };
        return select;
    }

    private TermSyntax Number()
    {
        var token = Take();
        return token.Kind switch
        {
            StatementTokenKind.Number when token.Value is long => new ValueSyntax(token.Value, token.Position),
            StatementTokenKind.Parameter => new ParameterSyntax(token.Text, token.Position),
            _ => throw Fault("syntax", "Expected a whole number or a parameter.", token.Position),
        };
    }

    private OrderSyntax Order()
    {
        var term = Term();
        var isDescending = TryTake("desc");
        if (!isDescending)
            TryTake("asc");
        return new OrderSyntax(term, isDescending);
    }

    private ImmutableArray<T> ListOf<T>(Func<T> read, int most, string what)
    {
        var list = ImmutableArray.CreateBuilder<T>();
        do
        {
            if (list.Count == most)
                throw Fault("too-large", $"The statement has more than {most} {what}.", Current.Position);
            list.Add(read());
        } while (TryTake(","));
        return list.ToImmutable();
    }

    private ItemSyntax Item()
    {
        var position = Current.Position;
        if (TryTake("*"))
            return new ItemSyntax(null, null, null, position);
        if (IsName(Current) && Following.Is(".") && _tokens[Math.Min(_index + 2, _tokens.Count - 1)].Is("*"))
        {
            var table = Name("a table");
            _index += 2;
            return new ItemSyntax(null, table, null, position);
        }
        var term = Term();
        return new ItemSyntax(term, null, Alias(), position);
    }

    /// <summary>A name after AS, or just behind; null = none.</summary>
    private StatementName? Alias() =>
        TryTake("as") ? Name("a name")
        : IsName(Current) ? Name("a name")
        : null;

    private TableSyntax Table()
    {
        if (Current.Is("("))
            throw NotOffered("A SELECT after FROM");
        if (++_tables > Limits.StatementTables)
            throw Fault("too-large", $"The statement reads more than {Limits.StatementTables} sets.", Current.Position);
        var name = Name("the name of a set");
        if (Current.Is("."))
            throw Fault("syntax", "Sets are named without a schema.", Current.Position);
        return new TableSyntax(name, Alias());
    }

    private ImmutableArray<JoinSyntax> Joins()
    {
        var joins = ImmutableArray.CreateBuilder<JoinSyntax>();
        while (true)
        {
            RefuseOthers();
            if (Current.Is(","))
                throw NotOffered("Several sets after FROM without a JOIN");
            var isOuter = TryTake("left");
            if (isOuter)
                TryTake("outer");
            else if (!TryTake("inner") && !Current.Is("join"))
                return joins.ToImmutable();
            Expect("join");
            var table = Table();
            RefuseOthers();
            if (!Current.Is("on"))
                throw Unexpected("ON with what ties the two together");
            _index++;
            joins.Add(new JoinSyntax(table, Term(), isOuter));
        }
    }

    private static bool IsName(StatementToken token) =>
        token.Kind == StatementTokenKind.QuotedName || (token.Kind == StatementTokenKind.Word && !Reserved.Contains(token.Text));

    private StatementName Name(string what)
    {
        if (!IsName(Current))
            throw Current.Kind == StatementTokenKind.Word
                ? Fault(
                    "syntax",
                    $"Expected {what}, but '{Current.Text}' is a word of SQL. A name that is one stands in double quotes.",
                    Current.Position
                )
                : Unexpected(what);
        var token = Take();
        return new StatementName(token.Text, token.Kind == StatementTokenKind.QuotedName, token.Position);
    }

    private void Enter()
    {
        if (++_depth > Limits.ExpressionDepth)
            throw Fault("too-deep", $"The statement nests more than {Limits.ExpressionDepth} levels deep.", Current.Position);
    }

    private T Counted<T>(T term)
        where T : TermSyntax
    {
        if (++_terms > Limits.ExpressionNodes)
            throw Fault(
                "too-large",
                $"The statement has more than {Limits.ExpressionNodes} operators, calls, names and values.",
                term.Position
            );
        return term;
    }
}
