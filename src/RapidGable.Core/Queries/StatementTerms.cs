using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Requests.Statements;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>Terms of a statement -> SQL, in which nulls mean what they mean in SQL.</summary>
/// <param name="writer">Takes the parameters.</param>
/// <param name="select">Writes an inner SELECT; what is given stands for its one column, or null for all as they are.</param>
/// <param name="text">The statement as it was sent, for faults.</param>
/// <param name="steps">Of the request.</param>
internal sealed class StatementTerms(
    SqlDialect dialect,
    SqlWriter writer,
    Func<StatementSelect, string?, string> select,
    string text,
    StepBudget steps
)
{
    private readonly Dictionary<BoundTerm, SqlOperand> _written = new(ReferenceEqualityComparer.Instance);

    /// <summary>A value in the form in which its type is read from a result.</summary>
    public string Output(BoundTerm term)
    {
        var operand = Operand(term, null);
        return term is ColumnTerm or AggregateTerm { Function: "MIN" or "MAX", Operand: ColumnTerm }
            ? operand.Sql
            : dialect.Result(operand.Sql, term.Type!, operand.StorageForm)
                ?? throw NotSupported($"A value of {term.Type!.Name} cannot be computed by this source.");
    }

    public string Value(BoundTerm term) => Operand(term, null).Sql;

    private FaultException NotSupported(string message) => new(RequestFault.NotImplemented(message, StatementFaults.Target));

    /// <summary>A term that several others share is written once, and is the same text in each.</summary>
    /// <param name="partner">What it is compared with, whose form values take; null = nothing.</param>
    private SqlOperand Operand(BoundTerm term, BoundTerm? partner)
    {
        if (term is ValueTerm or NowTerm)
            return Written(term, partner);
        if (!_written.TryGetValue(term, out var known))
            _written[term] = known = Written(term, partner);
        return known;
    }

    private SqlOperand Written(BoundTerm term, BoundTerm? partner)
    {
        steps.Step();
        var operand = term switch
        {
            ColumnTerm column => new SqlOperand(Column(column), column.Property.StoredType, column.Property.StorageForm)
            {
                Collation = column.Property.Collation,
            },
            ValueTerm value => Value(value, value.Like?.StorageForm ?? (partner is null ? null : FormOf(partner))),
            NowTerm => Now(partner is null ? null : FormOf(partner)),
            OperatorTerm { Operator: < StatementOperator.Add } => new SqlOperand(Condition(term), EdmType.Boolean),
            OperatorTerm arithmetic => Arithmetic(arithmetic),
            MinusTerm minus => new SqlOperand($"(- {Value(minus.Operand)})", minus.ResultType),
            FunctionTerm call => new SqlOperand(Call(call), call.ResultType),
            CoalesceTerm first => new SqlOperand(
                $"COALESCE({string.Join(", ", first.Arguments.Select(Value))})",
                first.ResultType,
                FormOf(first)
            ),
            CaseTerm branches => new SqlOperand(Case(branches), branches.ResultType, FormOf(branches)),
            CastTerm cast => new SqlOperand(
                dialect.Cast(Operand(cast.Operand, null), cast.ResultType)
                    ?? throw NotSupported(
                        $"A cast of {cast.Operand.Type!.Name} to {cast.ResultType.Name} is not supported on this source."
                    ),
                cast.ResultType
            ),
            AggregateTerm aggregate => Aggregate(aggregate),
            _ => new SqlOperand(Condition(term), EdmType.Boolean),
        };
        // Some engines name an operand twice where it is written once.
        return operand.Sql.Length <= Limits.StatementTermCharacters
            ? operand
            : throw new FaultException(
                new RequestFault(
                    400,
                    "too-large",
                    "An expression of the statement becomes too large for the database: it nests divisions or casts too deep.",
                    StatementFaults.Target
                )
            );
    }

    private string Column(ColumnTerm column) =>
        dialect.Column($"t{column.Table.Number}.{dialect.Quote(column.Property.Column)}", column.Property);

    /// <summary>The form in which a term's values are kept; null = the usual one of its type.</summary>
    private string? FormOf(BoundTerm term) =>
        term switch
        {
            ColumnTerm column => column.Property.StorageForm,
            ValueTerm value => value.Like?.StorageForm,
            OperatorTerm { Operator: >= StatementOperator.Add, ResultType: { IsNumeric: false, Kind: not EdmKind.String } type } =>
                dialect.ComputedForm(type),
            AggregateTerm { Function: "MIN" or "MAX", Operand: { } operand } => FormOf(operand),
            CoalesceTerm first => FormOf(first.Arguments),
            CaseTerm branches => FormOf(branches.Branches.Select(b => b.Then).Concat(branches.Otherwise is { } other ? [other] : [])),
            _ => null,
        };

    /// <summary>The form that several terms share.</summary>
    private string? FormOf(IEnumerable<BoundTerm> terms)
    {
        var forms = terms.Where(t => t is not ValueTerm).Select(FormOf).Distinct().ToList();
        return forms.Count == 1 ? forms[0] : null;
    }

    private SqlOperand Value(ValueTerm term, string? form)
    {
        if (term.Value is not { } published)
            return new SqlOperand("NULL", term.Type ?? EdmType.String, form);
        var conversion = term.Like?.Conversion is { Use: not ConvertedUse.Anything } own ? own : null;
        var type = conversion?.Parameter ?? term.Type!;
        var stored = conversion is null ? published : conversion.Encode(published);
        if (stored is null)
            throw Fault("type", $"'{ValueConversion.Text(published)}' stands for no stored value of '{term.Like!.Name}'.", term.Position);
        if (stored is double number && !dialect.Has(number))
            throw NotSupported($"This database has no {ValueConversion.Text(number)}.");
        if (stored is LongDecimal digits && !dialect.Has(digits))
            throw NotSupported("This database has no decimal numbers of so many digits.");
        return new SqlOperand(writer.Placeholder(new ValueParameter(dialect.Encode(stored, type, form), type, form)), type, form);
    }

    private FaultException Fault(string code, string message, int position) => StatementFaults.Of(code, message, text, position);

    private SqlOperand Now(string? form) => new(writer.Placeholder(new NowParameter(form)), EdmType.DateTimeOffset, form);

    private SqlOperand Arithmetic(OperatorTerm term)
    {
        var op = StatementBinder.ArithmeticOf(term.Operator);
        if (term.ResultType.IsNumeric && term.Left.Type!.IsNumeric)
            return new SqlOperand(
                dialect.Arithmetic(op, Operand(term.Left, null), Operand(term.Right, null), term.ResultType),
                term.ResultType
            );
        var written = dialect.Temporal(op, Computing(term.Left), Computing(term.Right), term.ResultType);
        return written is null
            ? throw NotSupported($"{term.Left.Type!.Name} and {term.Right.Type!.Name} cannot be computed with on this source.")
            : new SqlOperand(written, term.ResultType, FormOf(term));
    }

    /// <summary>Durations that are values take the form in which the engine computes with them.</summary>
    private SqlOperand Computing(BoundTerm term) =>
        term is ValueTerm { Like: null, Type.Kind: EdmKind.Duration } value && dialect.ComputedForm(EdmType.Duration) is { } form
            ? Value(value, form)
            : Operand(term, null);

    private string Call(FunctionTerm call)
    {
        var arguments = call.Arguments.Select(a => Operand(a, null)).ToList();
        if (call is { Function: CanonicalFunction.MatchesPattern, Arguments: [_, ValueTerm pattern] })
        {
            var literal = new Literal(LiteralKind.String, pattern.Value!, StatementFaults.Target, text, pattern.Position);
            if (LiteralValues.BindPattern(literal, dialect, out var stored) is { } fault)
                throw new FaultException(fault);
            arguments[1] = new SqlOperand(writer.Placeholder(new ValueParameter(stored, EdmType.String, null)), EdmType.String);
        }
        return dialect.Call(call.Function, arguments)
            ?? throw NotSupported($"The function {call.Function.ToString().ToLowerInvariant()} is not supported on this source.");
    }

    private string Case(CaseTerm term)
    {
        var branches = string.Concat(term.Branches.Select(b => $"WHEN {Predicate(b.When)} THEN {Value(b.Then)} "));
        return $"(CASE {branches}{(term.Otherwise is { } other ? $"ELSE {Value(other)} " : "")}END)";
    }

    private SqlOperand Aggregate(AggregateTerm term)
    {
        if (term.Operand is not { } over)
            return new SqlOperand("COUNT(*)", EdmType.Int64);
        var operand = Operand(over, null);
        return term is { Function: "COUNT", IsDistinct: false }
            ? new SqlOperand($"COUNT({operand.Sql})", EdmType.Int64)
            : new SqlOperand(dialect.Aggregate(term.Function, operand.Sql, term.ResultType), term.ResultType, FormOf(term));
    }

    /// <summary>A condition.</summary>
    public string Predicate(BoundTerm term) => Operand(term, null).Sql;

    private string Condition(BoundTerm term) =>
        term switch
        {
            OperatorTerm { Operator: StatementOperator.And } both => $"({Predicate(both.Left)} AND {Predicate(both.Right)})",
            OperatorTerm { Operator: StatementOperator.Or } either => $"({Predicate(either.Left)} OR {Predicate(either.Right)})",
            OperatorTerm { Operator: < StatementOperator.Add } comparison => Comparison(comparison),
            NotTerm not => $"(NOT {Predicate(not.Operand)})",
            IsNullTerm isNull => $"({Value(isNull.Operand)} IS {(isNull.IsNegated ? "NOT " : "")}NULL)",
            BetweenTerm between => Between(between),
            InListTerm list => InList(list),
            InSelectTerm among => InSelect(among),
            ExistsTerm exists => $"(EXISTS ({select(exists.Select, null)}))",
            _ => throw new InvalidOperationException(term.GetType().Name),
        };

    private string Comparison(OperatorTerm comparison)
    {
        var sign = comparison.Operator switch
        {
            StatementOperator.Equal => "=",
            StatementOperator.NotEqual => "<>",
            StatementOperator.Less => "<",
            StatementOperator.LessOrEqual => "<=",
            StatementOperator.Greater => ">",
            _ => ">=",
        };
        var (left, right) = Pair(comparison.Left, comparison.Right);
        return $"({left} {sign} {right})";
    }

    private (string Left, string Right) Pair(BoundTerm left, BoundTerm right) =>
        dialect.Comparable(Operand(left, right), Operand(right, left));

    private string Between(BetweenTerm between)
    {
        var (left, low) = Pair(between.Operand, between.Low);
        var (same, high) = Pair(between.Operand, between.High);
        return left == same ? $"({left} BETWEEN {low} AND {high})" : $"({left} >= {low} AND {same} <= {high})";
    }

    private string InList(InListTerm list)
    {
        var pairs = list.Members.Select(m => Pair(list.Operand, m)).ToList();
        return pairs.TrueForAll(p => p.Left == pairs[0].Left)
            ? $"({pairs[0].Left} IN ({string.Join(", ", pairs.Select(p => p.Right))}))"
            : $"({string.Join(" OR ", pairs.Select(p => $"{p.Left} = {p.Right}"))})";
    }

    private string InSelect(InSelectTerm among)
    {
        var (left, right) = Pair(among.Operand, among.Select.Items[0].Term);
        return $"({left} IN ({select(among.Select, right)}))";
    }
}
