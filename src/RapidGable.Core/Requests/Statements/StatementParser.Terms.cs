using System.Collections.Frozen;
using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Requests.Statements;

/// <summary>Terms, from what binds least to what binds most.</summary>
internal sealed partial class StatementParser
{
    private static readonly FrozenDictionary<string, StatementOperator> Comparisons = new Dictionary<string, StatementOperator>
    {
        ["="] = StatementOperator.Equal,
        ["<>"] = StatementOperator.NotEqual,
        ["!="] = StatementOperator.NotEqual,
        ["<"] = StatementOperator.Less,
        ["<="] = StatementOperator.LessOrEqual,
        [">"] = StatementOperator.Greater,
        [">="] = StatementOperator.GreaterOrEqual,
    }.ToFrozenDictionary();

    private static readonly FrozenDictionary<string, EdmType> Types = new Dictionary<string, EdmType>
    {
        ["boolean"] = EdmType.Boolean,
        ["smallint"] = new EdmType(EdmKind.Int16),
        ["integer"] = EdmType.Int32,
        ["bigint"] = EdmType.Int64,
        ["decimal"] = EdmType.Decimal,
        ["double"] = EdmType.Double,
        ["varchar"] = EdmType.String,
        ["date"] = EdmType.Date,
        ["time"] = EdmType.TimeOfDay,
        ["timestamp"] = EdmType.DateTimeOffset,
        ["uuid"] = EdmType.Guid,
        ["interval"] = EdmType.Duration,
    }.ToFrozenDictionary(StringComparer.OrdinalIgnoreCase);

    private TermSyntax Term()
    {
        Enter();
        var left = Conjunction();
        while (Current.Is("or"))
            left = Operated(StatementOperator.Or, left, Conjunction);
        _depth--;
        return left;
    }

    private TermSyntax Conjunction()
    {
        var left = Negation();
        while (Current.Is("and"))
            left = Operated(StatementOperator.And, left, Negation);
        return left;
    }

    /// <summary>Takes the operator, and what stands behind it.</summary>
    private TermSyntax Operated(StatementOperator op, TermSyntax left, Func<TermSyntax> right)
    {
        var position = Take().Position;
        return Counted(new OperatorSyntax(op, left, right(), position));
    }

    private TermSyntax Negation()
    {
        if (!Current.Is("not") || Following.Is("exists"))
            return Predicate();
        Enter();
        var position = Take().Position;
        var operand = Negation();
        _depth--;
        return Counted(new NotSyntax(operand, position));
    }

    private TermSyntax Predicate()
    {
        var left = Sum();
        while (true)
        {
            var position = Current.Position;
            if (Current.Kind == StatementTokenKind.Symbol && Comparisons.TryGetValue(Current.Text, out var comparison))
            {
                left = Operated(comparison, left, Sum);
                continue;
            }
            if (TryTake("is"))
            {
                var isNot = TryTake("not");
                Expect("null");
                left = Counted(new IsNullSyntax(left, isNot, position));
                continue;
            }
            if (Current.Is("like") || (Current.Is("not") && Following.Is("like")))
                throw StatementFaults.NotSupported(
                    "LIKE cannot be used; write contains, startswith, endswith or matchespattern.",
                    _text,
                    position
                );
            var isNegated = Current.Is("not") && (Following.Is("between") || Following.Is("in"));
            if (isNegated)
                _index++;
            if (TryTake("between"))
            {
                var low = Sum();
                Expect("and");
                left = Counted(new BetweenSyntax(left, low, Sum(), isNegated, position));
            }
            else if (TryTake("in"))
                left = Counted(In(left, isNegated, position));
            else
                return left;
        }
    }

    private TermSyntax In(TermSyntax operand, bool isNegated, int position)
    {
        Expect("(");
        if (Current.Is("select"))
        {
            var select = Select(isWhole: false);
            Expect(")");
            return new InSelectSyntax(operand, select, isNegated, position);
        }
        // The members of a list have a limit of their own.
        var terms = _terms;
        var members = ListOf(Sum, Limits.InMembers, "members of a list");
        if (members.All(m => m is ValueSyntax))
            _terms = terms;
        Expect(")");
        return new InListSyntax(operand, members, isNegated, position);
    }

    private TermSyntax Sum()
    {
        var left = Product();
        while (true)
        {
            if (Current.Is("+"))
                left = Operated(StatementOperator.Add, left, Product);
            else if (Current.Is("-"))
                left = Operated(StatementOperator.Subtract, left, Product);
            else if (Current.Is("||"))
                left = Operated(StatementOperator.Concat, left, Product);
            else
                return left;
        }
    }

    private TermSyntax Product()
    {
        var left = Signed();
        while (true)
        {
            if (Current.Is("*"))
                left = Operated(StatementOperator.Multiply, left, Signed);
            else if (Current.Is("/"))
                left = Operated(StatementOperator.Divide, left, Signed);
            else if (Current.Is("%"))
                left = Operated(StatementOperator.Modulo, left, Signed);
            else
                return left;
        }
    }

    private TermSyntax Signed()
    {
        if (!Current.Is("-"))
            return Primary();
        Enter();
        var position = Take().Position;
        var operand = Signed();
        _depth--;
        return operand is ValueSyntax { Value: long or decimal or double } number
            ? number with
            {
                Value = Negative(number.Value!),
                Position = position,
            }
            : Counted(new MinusSyntax(operand, position));
    }

    private static object Negative(object number) =>
        number switch
        {
            long whole => -whole,
            decimal value => -value,
            _ => -(double)number,
        };

    private TermSyntax Primary()
    {
        var token = Current;
        switch (token.Kind)
        {
            case StatementTokenKind.Number:
                return Counted(new ValueSyntax(Take().Value, token.Position));
            case StatementTokenKind.Text:
                return Counted(new ValueSyntax(Take().Text, token.Position));
            case StatementTokenKind.Parameter:
                return Counted(new ParameterSyntax(Take().Text, token.Position));
            case StatementTokenKind.Symbol when token.Is("("):
                return Parenthesized();
            case StatementTokenKind.Word when Word() is { } word:
                return Counted(word);
            default:
                return Counted(Column());
        }
    }

    private TermSyntax Parenthesized()
    {
        Expect("(");
        if (Current.Is("select"))
            throw StatementFaults.NotSupported("A SELECT within another stands after EXISTS or IN only.", _text, Current.Position);
        var inner = Term();
        Expect(")");
        return inner;
    }

    private ColumnSyntax Column()
    {
        var name = Name("a column, a value or a function");
        return TryTake(".") ? new ColumnSyntax(name, Name("a column")) : new ColumnSyntax(null, name);
    }

    /// <summary>A term that starts with a word which is no column; null = it is one.</summary>
    private TermSyntax? Word()
    {
        var position = Current.Position;
        if (TryTake("null"))
            return new ValueSyntax(null, position);
        if (TryTake("true"))
            return new ValueSyntax(true, position);
        if (TryTake("false"))
            return new ValueSyntax(false, position);
        if (Current.Is("case"))
            return Case();
        if (TryTake("cast"))
            return Cast(position);
        if (Current.Is("exists") || Current.Is("not"))
            return Exists(position);
        if (Following.Kind == StatementTokenKind.Text && Types.TryGetValue(Current.Text, out var type))
        {
            _index++;
            return new TypedValueSyntax(type, Take().Text, position);
        }
        return Following.Is("(") && !Reserved.Contains(Current.Text) ? Call(position) : null;
    }

    private TermSyntax Exists(int position)
    {
        var isNot = TryTake("not");
        Expect("exists");
        Expect("(");
        var exists = new ExistsSyntax(Select(isWhole: false), position);
        Expect(")");
        return isNot ? new NotSyntax(exists, position) : exists;
    }

    private CastSyntax Cast(int position)
    {
        Expect("(");
        var operand = Term();
        Expect("as");
        var name = Take();
        if (!Types.TryGetValue(name.Text, out var type) || name.Kind != StatementTokenKind.Word)
            throw Fault(
                "syntax",
                $"There is no type '{name.Text}'. The types are {string.Join(", ", Types.Keys.Order(StringComparer.Ordinal))}.",
                name.Position
            );
        if (name.Is("double"))
            TryTake("precision");
        Expect(")");
        return new CastSyntax(operand, type, position);
    }

    private CaseSyntax Case()
    {
        var position = Take().Position;
        Enter();
        var subject = Current.Is("when") ? null : Term();
        var branches = ImmutableArray.CreateBuilder<(TermSyntax, TermSyntax)>();
        while (Current.Is("when"))
        {
            var at = Take().Position;
            var when = Term();
            Expect("then");
            branches.Add((subject is null ? when : Counted(new OperatorSyntax(StatementOperator.Equal, subject, when, at)), Term()));
        }
        if (branches.Count == 0)
            throw Unexpected("'WHEN'");
        var otherwise = TryTake("else") ? Term() : null;
        Expect("end");
        _depth--;
        return new CaseSyntax(branches.ToImmutable(), otherwise, position);
    }

    private CallSyntax Call(int position)
    {
        Enter();
        var name = Take().Text;
        Expect("(");
        var isStar = TryTake("*");
        var isDistinct = !isStar && TryTake("distinct");
        var arguments = isStar || Current.Is(")") ? [] : ListOf(Term, Limits.InMembers, "arguments");
        Expect(")");
        if (Current.Is("over"))
            throw NotOffered("OVER");
        _depth--;
        return new CallSyntax(name, arguments, isStar, isDistinct, position);
    }
}
