using System.Collections.Immutable;
using System.Text;
using RapidGable.Model;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>
/// Bound expressions -> SQL operands and predicates. Comparisons are never null in the standard and may be unknown in
/// SQL: where a null would be seen (below <c>not</c>, or as a value) they are written so that they say false instead.
/// </summary>
internal sealed class SqlExpressions(SqlDialect dialect, ImmutableDictionary<string, string> aliases, Func<PlanParameter, string> parameter)
{
    public string Value(PlanValue value) => value switch
    {
        PlanColumn column => Column(column.Alias, column.Property),
        PlanExpression expression => Value(expression.Expression, null),
        _ => throw new InvalidOperationException(value.GetType().Name),
    };

    /// <param name="exact">Null must not stand for false.</param>
    public string Predicate(BoundExpression expression, bool exact) => expression switch
    {
        BoundLogical logical => $"({Predicate(logical.Left, exact)} {(logical.Operator == BinaryOperator.And ? "AND" : "OR")} {Predicate(logical.Right, exact)})",
        BoundNot not => $"(NOT {Predicate(not.Operand, exact: true)})",
        BoundComparison comparison => Comparison(comparison, exact),
        BoundIn isIn => In(isIn, exact),
        BoundLambda lambda => Lambda(lambda),
        _ => Value(expression, null),
    };

    private string Value(BoundExpression expression, string? partnerForm) => expression switch
    {
        BoundNull => "NULL",
        BoundLiteral literal => parameter(new LiteralParameter(literal.Slot, literal.LiteralType, partnerForm, literal.Conversion)),
        BoundTruth truth => $"({Value(truth.Operand, null)} = {parameter(new TruthParameter(truth.Operand.Property.Conversion!))})",
        BoundProperty property => Column(aliases[Planner.AliasKey(property.Scope, Planner.PathOf(property.Hops))], property.Property),
        BoundRelated related => Column(aliases[Planner.AliasKey(related.Scope, Planner.PathOf(related.Hops))], related.TargetKey),
        BoundNegation negation => $"(- {Value(negation.Operand, null)})",
        BoundArithmetic arithmetic => dialect.Arithmetic(arithmetic.Operator, Operand(arithmetic.Left, null), Operand(arithmetic.Right, null), arithmetic.ResultType),
        BoundCount count => Count(count),
        BoundCall { Function: CanonicalFunction.Now } => parameter(new NowParameter(partnerForm)),
        BoundCall call => dialect.Call(call.Function, [.. call.Arguments.Select(a => Operand(a, null))])
            ?? throw new FaultException(RequestFault.NotImplemented($"The function {call.Function.ToString().ToLowerInvariant()} is not supported on this source.")),
        _ => Predicate(expression, exact: true),
    };

    /// <summary>A subquery over the related rows: some that fulfil the condition, or none that do not.</summary>
    private string Lambda(BoundLambda lambda)
    {
        var (from, conditions, inside) = Related(lambda);
        if (lambda.Condition is { } condition)
        {
            var inner = new SqlExpressions(dialect, inside, parameter);
            // A condition that is null counts as not fulfilled.
            conditions.Add(lambda.IsAll ? $"(NOT COALESCE({inner.Predicate(condition, exact: true)}, {dialect.False}))" : inner.Predicate(condition, exact: false));
        }
        return $"({(lambda.IsAll ? "NOT " : "")}EXISTS (SELECT 1 FROM {from} WHERE {string.Join(" AND ", conditions)}))";
    }

    private string Count(BoundCount count)
    {
        var (from, conditions, _) = Related(count);
        return $"(SELECT COUNT(*) FROM {from} WHERE {string.Join(" AND ", conditions)})";
    }

    /// <summary>The related rows with what their condition needs, what ties them to the outer row, and the aliases that hold inside.</summary>
    private (string From, List<string> Conditions, ImmutableDictionary<string, string> Aliases) Related(BoundOverRelated over)
    {
        var (navigation, alias) = (over.Navigation, over.Scope);
        var outer = aliases[Planner.AliasKey(over.OuterScope, Planner.PathOf(over.Hops))];
        var inside = aliases.SetItem(Planner.AliasKey(over.Scope, ""), alias);
        var from = new StringBuilder(dialect.From(over.Target.Source)).Append(" AS ").Append(alias);
        List<string> conditions;
        if (navigation.Link is { } link)
        {
            from.Append($" JOIN {dialect.From(link.Source)} AS {alias}_l ON ").AppendJoin(" AND ", link.Target.Select(t => $"{alias}.{dialect.Quote(t.Target.Column)} = {alias}_l.{dialect.Quote(t.Link)}"));
            conditions = [.. link.Own.Select(o => $"{alias}_l.{dialect.Quote(o.Link)} = {outer}.{dialect.Quote(o.Own.Column)}")];
        }
        else
            conditions = [.. navigation.Joins.Select(j => $"{alias}.{dialect.Quote(j.Target.Column)} = {outer}.{dialect.Quote(j.Own.Column)}")];
        for (var i = 0; i < over.Joins.Length; i++)
        {
            var join = over.Joins[i];
            var parent = inside[Planner.AliasKey(over.Scope, join.ParentPath)];
            inside = inside.SetItem(Planner.AliasKey(over.Scope, join.Path), $"{alias}_{i}");
            from.Append($" LEFT JOIN {dialect.From(join.Target.Source)} AS {alias}_{i} ON ").AppendJoin(" AND ", join.Navigation.Joins.Select(p => $"{alias}_{i}.{dialect.Quote(p.Target.Column)} = {parent}.{dialect.Quote(p.Own.Column)}"));
        }
        return (from.ToString(), conditions, inside);
    }

    private SqlOperand Operand(BoundExpression expression, BoundExpression? partner)
    {
        var form = Form(expression) ?? (partner is null ? null : Form(partner));
        return new SqlOperand(Value(expression, form), StoredType(expression) ?? EdmType.String, IsFree(expression) ? form : Form(expression));
    }

    private static EdmType? StoredType(BoundExpression expression) => expression switch
    {
        BoundProperty property => property.Property.StoredType,
        BoundLiteral { Conversion: { } conversion } => conversion.Parameter,
        _ => expression.Type,
    };

    private static string? Form(BoundExpression expression) => expression is BoundProperty property ? property.Property.StorageForm : null;

    /// <summary>Literals and the current time have no form of their own and take their partner's.</summary>
    private static bool IsFree(BoundExpression expression) => expression is BoundLiteral or BoundCall { Function: CanonicalFunction.Now };

    private string Comparison(BoundComparison comparison, bool exact)
    {
        var (left, right) = (comparison.Left, comparison.Right);
        if (left is BoundNull || right is BoundNull)
            return NullComparison(comparison.Operator, left is BoundNull ? right : left);
        var (a, b) = dialect.Comparable(Operand(left, right), Operand(right, left));
        if (LacksStored(left) || LacksStored(right))
        {
            // Such a literal is a null when nothing stored stands for it: then it equals nothing, not even a null.
            var equal = exact || comparison.Operator == BinaryOperator.Ne ? $"COALESCE({a} = {b}, {dialect.False})" : $"({a} = {b})";
            return comparison.Operator == BinaryOperator.Ne ? $"(NOT {equal})" : equal;
        }
        var nullable = left.MayBeNull || right.MayBeNull;
        var both = left.MayBeNull && right.MayBeNull;
        switch (comparison.Operator)
        {
            case BinaryOperator.Eq:
                return both || (nullable && exact) ? $"({dialect.NullSafeEqual(a, b)})" : $"({a} = {b})";
            case BinaryOperator.Ne:
                return nullable ? $"(NOT ({dialect.NullSafeEqual(a, b)}))" : $"({a} <> {b})";
            default:
                var sign = comparison.Operator switch { BinaryOperator.Gt => ">", BinaryOperator.Ge => ">=", BinaryOperator.Lt => "<", _ => "<=" };
                var plain = nullable && exact ? $"COALESCE({a} {sign} {b}, {dialect.False})" : $"({a} {sign} {b})";
                // Null is equal to itself, so it is also greater or equal (URL conventions 5.1.1.1.4).
                return both && sign.Length == 2 ? $"({plain} OR ({a} IS NULL AND {b} IS NULL))" : plain;
        }
    }

    private static bool LacksStored(BoundExpression expression) => expression is BoundLiteral { Conversion.MayLackStored: true };

    private string NullComparison(BinaryOperator op, BoundExpression other)
    {
        var equal = op is BinaryOperator.Eq or BinaryOperator.Ge or BinaryOperator.Le;
        if (other is BoundNull)
            return equal ? dialect.True : dialect.False;
        return op is BinaryOperator.Gt or BinaryOperator.Lt ? dialect.False : $"({Value(other, null)} IS {(equal ? "" : "NOT ")}NULL)";
    }

    private string In(BoundIn isIn, bool exact)
    {
        var operand = Operand(isIn.Operand, null);
        var members = isIn.Members.Select(m => dialect.Comparable(operand, Operand(m, isIn.Operand))).ToList();
        if (members.Count == 0)
            return isIn.WithNull ? $"({operand.Sql} IS NULL)" : dialect.False;
        var plain = $"{members[0].Left} IN ({string.Join(", ", members.Select(m => m.Right))})";
        if (isIn.WithNull)
            plain = $"({plain} OR {operand.Sql} IS NULL)";
        return exact && (isIn.Operand.MayBeNull || isIn.Members.Any(LacksStored)) ? $"COALESCE({plain}, {dialect.False})" : $"({plain})";
    }

    private string Column(string alias, Property property) => dialect.Column($"{alias}.{dialect.Quote(property.Column)}", property.StorageForm);
}
