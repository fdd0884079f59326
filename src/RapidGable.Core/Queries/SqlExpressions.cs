using System.Collections.Immutable;
using System.Text;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>Where the key of the entity is that the request's own row is about.</summary>
/// <param name="Alias">Of its table, or of rows that carry it as <c>r0</c>, <c>r1</c> ….</param>
internal sealed record RootAlias(string Alias, bool IsTable);

/// <summary>
/// Bound expressions -> SQL operands and predicates. Comparisons are never null in the standard and may be unknown in
/// SQL: where a null would be seen (below <c>not</c>, or as a value) they are written so that they say false instead.
/// </summary>
/// <param name="table">Writes a table, or what of it the caller may see.</param>
internal sealed class SqlExpressions(
    SqlDialect dialect,
    Func<RowSource, string> table,
    ImmutableDictionary<string, string> aliases,
    Func<PlanParameter, string> parameter,
    RootAlias? root = null
)
{
    /// <summary>
    /// What must hold of the rows around an expression before it may be evaluated, see <see cref="RowGuard"/>; empty = nothing.
    /// </summary>
    public ImmutableArray<string> Guards { get; init; } = [];

    /// <summary>Guards expressions over related rows; null = none of the statement are restricted.</summary>
    public RowGuard? Guard { get; init; }

    /// <summary>The work that writing may take.</summary>
    public StepBudget Steps { get; init; } = new();

    /// <summary>Texts are compared character by character, whatever the collations of their columns say.</summary>
    public bool ComparesExactly { get; init; }

    /// <summary>
    /// The condition of a WHERE clause. Its parts that could tell of rows which rules take away are only evaluated for rows that are
    /// seen.
    /// </summary>
    public string Condition(BoundExpression condition) =>
        Guards.IsEmpty || !RowGuard.IsNeeded(condition) ? Predicate(condition, exact: false)
        : condition is BoundLogical { Operator: BinaryOperator.And } both ? $"{Condition(both.Left)} AND {Condition(both.Right)}"
        : RowGuard.Of(Guards, Predicate(condition, exact: false));

    /// <summary>A value that may stand in a WHERE clause, guarded as <see cref="Condition"/>.</summary>
    public string GuardedValue(PlanValue value) =>
        !Guards.IsEmpty && value is PlanExpression expression && RowGuard.IsNeeded(expression.Expression)
            ? RowGuard.Of(Guards, Value(value))
            : Value(value);

    public string Value(PlanValue value) =>
        value switch
        {
            PlanColumn column => Column(column.Alias, column.Property),
            PlanExpression expression => From(expression.Base).Value(expression.Expression, null),
            PlanParentNumber => "p.n",
            PlanTotal => "COUNT(*) OVER ()",
            _ => throw new InvalidOperationException(value.GetType().Name),
        };

    /// <summary>A property's column as it is kept, for statements around this one that read it like the table's.</summary>
    public string Raw(BoundProperty property) =>
        $"{aliases[Planner.AliasKey(property.Scope, Planner.PathOf(property.Hops))]}.{dialect.Quote(property.Property.Column)}";

    /// <summary>The same in a form that rows can be grouped by: not every type of a database has an equality.</summary>
    public string Groupable(BoundProperty property) => dialect.Groupable(Raw(property), property.Property);

    /// <summary>As a column of the result; a computed one in the form in which its type is read.</summary>
    public string Output(PlanValue value) =>
        value is PlanExpression { Expression: not BoundProperty } expression
            ? dialect.Result(Value(value), expression.Expression.Type!, Form(expression.Expression))
                ?? throw new FaultException(
                    RequestFault.NotImplemented($"A value of type {expression.Expression.Type!.Name} cannot be computed by this source.")
                )
            : Value(value);

    /// <summary>Expressions about the entity that a path leads to.</summary>
    public SqlExpressions From(string path) =>
        path.Length == 0
            ? this
            : new SqlExpressions(dialect, table, Below(path), parameter, root)
            {
                Guards = Guards,
                Guard = Guard,
                ComparesExactly = ComparesExactly,
                Steps = Steps,
            };

    /// <summary>The aliases as they are seen from an entity that a path leads to.</summary>
    private ImmutableDictionary<string, string> Below(string path) =>
        aliases
            .Where(a => a.Key == path || a.Key.StartsWith(path + "/", StringComparison.Ordinal))
            .ToImmutableDictionary(a => a.Key.Length == path.Length ? "" : a.Key[(path.Length + 1)..], a => a.Value);

    /// <param name="exact">Null must not stand for false.</param>
    public string Predicate(BoundExpression expression, bool exact) => Bounded(Truth(expression, exact));

    /// <summary>Some engines name an operand twice, so that nesting could double the text again and again.</summary>
    private string Bounded(string sql)
    {
        Steps.Step();
        return sql.Length <= Limits.StatementTermCharacters
            ? sql
            : throw new FaultException(
                new RequestFault(400, "too-large", "An expression becomes too large for the database: it nests too deep.")
            );
    }

    private string Truth(BoundExpression expression, bool exact) =>
        expression switch
        {
            BoundLogical logical => $"({Predicate(logical.Left, exact)} {(logical.Operator == BinaryOperator.And ? "AND" : "OR")} "
                + $"{Predicate(logical.Right, exact)})",
            BoundNot not => $"(NOT {Predicate(not.Operand, exact: true)})",
            BoundComparison comparison => Comparison(comparison, exact),
            BoundIn isIn => In(isIn, exact),
            BoundLambda lambda => Lambda(lambda),
            BoundSearchTerm { Indexed: { } set } search => Matches(search, set),
            BoundSearchTerm search => Search(search),
            BoundOverValues { Asked: not OverValues.Count } values => Values(values),
            BoundAmong among => Among(among),
            _ => Value(expression, null),
        };

    /// <summary>The key in the form in which it is kept is among the rows of a query, which is evaluated once.</summary>
    private string Among(BoundAmong among)
    {
        var own = string.Join(", ", among.Key.Select(k => Raw(k.Own)));
        var named = string.Join(", ", among.Key.Select(k => "among." + dialect.Quote(k.Column)));
        return $"({own}) IN (SELECT {named} FROM {QuerySql.Write(among.Rows, dialect, parameter)} AS among)";
    }

    private string Value(BoundExpression expression, string? partnerForm) => Bounded(Written(expression, partnerForm));

    private string Written(BoundExpression expression, string? partnerForm) =>
        expression switch
        {
            BoundNull => "NULL",
            BoundLiteral literal => parameter(new LiteralParameter(literal.Slot, literal.LiteralType, partnerForm, literal.Conversion)),
            BoundTruth truth => $"({Value(truth.Operand, null)} = {parameter(new TruthParameter(truth.Operand.Property.Conversion!))})",
            BoundProperty property => Column(aliases[Planner.AliasKey(property.Scope, Planner.PathOf(property.Hops))], property.Property),
            BoundRelated related => Column(aliases[Planner.AliasKey(related.Scope, Planner.PathOf(related.Hops))], related.TargetKey),
            BoundNegation { Type.Kind: EdmKind.Duration } negation => dialect.Temporal(
                ArithmeticOperator.Mul,
                Operand(negation.Operand, null),
                new SqlOperand("-1", EdmType.Int64),
                EdmType.Duration
            )!,
            BoundNegation negation => $"(- {Value(negation.Operand, null)})",
            BoundConstant constant => parameter(new ConstantParameter(constant.Value, constant.ConstantType, partnerForm)),
            BoundItem item => dialect.Item(item.Scope, item.ItemType),
            BoundCase branches => $"(CASE {string.Concat(branches.Branches.Select(Branch))}END)",
            BoundCast cast => dialect.Cast(Operand(cast.Operand, null), cast.To)
                ?? throw new FaultException(
                    RequestFault.NotImplemented($"cast of {cast.Operand.Type!.Name} to {cast.To.Name} is not supported on this source.")
                ),
            BoundRootValue root => Root(root),
            BoundOverValues { Asked: OverValues.Count } values => $"(SELECT COUNT(*) FROM "
                + $"{Unnested(values)}{(values.Condition is { } kept ? " WHERE " + Predicate(kept, exact: false) : "")})",
            BoundArithmetic { Left.Type: { IsNumeric: true }, Right.Type.IsNumeric: false }
            or BoundArithmetic { Left.Type.IsNumeric: false } => Temporal((BoundArithmetic)expression),
            BoundArithmetic arithmetic => dialect.Arithmetic(
                arithmetic.Operator,
                Operand(arithmetic.Left, null),
                Operand(arithmetic.Right, null),
                arithmetic.ResultType
            ),
            BoundCount count => Count(count),
            BoundCall { Function: CanonicalFunction.Now } => parameter(new NowParameter(partnerForm)),
            BoundCall { Function: CanonicalFunction.MatchesPattern, Arguments: [var matched, BoundLiteral pattern] } => dialect.Call(
                CanonicalFunction.MatchesPattern,
                [Operand(matched, null), new SqlOperand(parameter(new PatternParameter(pattern.Slot)), EdmType.String)]
            )!,
            BoundCall { StoredPart: { } part } call => dialect.TextPart(Operand(call.Arguments[0], null), part),
            BoundCall call => dialect.Call(call.Function, [.. call.Arguments.Select(a => Operand(a, null))])
                ?? throw new FaultException(
                    RequestFault.NotImplemented(
                        $"The function {call.Function.ToString().ToLowerInvariant()} is not supported on this source."
                    )
                ),
            _ => Predicate(expression, exact: true),
        };

    private string Branch((BoundExpression Condition, BoundExpression Value) branch) =>
        $"WHEN {Predicate(branch.Condition, exact: false)} THEN {Operand(branch.Value, null).Sql} ";

    /// <summary>A subquery over the related rows: some that fulfil the condition, or none that do not.</summary>
    private string Lambda(BoundLambda lambda)
    {
        var (from, conditions, inner) = Related(lambda);
        if (lambda.Condition is { } condition)
        {
            // A condition that is null counts as not fulfilled.
            conditions.Add(lambda.IsAll ? $"(NOT COALESCE({inner.Exactly(condition)}, {dialect.False}))" : inner.Condition(condition));
        }
        return $"({(lambda.IsAll ? "NOT " : "")}EXISTS (SELECT 1 FROM {from} WHERE {string.Join(" AND ", conditions)}))";
    }

    private string Temporal(BoundArithmetic arithmetic)
    {
        // Literals take the form in which the engine computes with durations.
        string? Wanted(BoundExpression side) => side.Type!.Kind == EdmKind.Duration ? dialect.ComputedForm(side.Type) : null;
        var (left, right) = (arithmetic.Left, arithmetic.Right);
        return dialect.Temporal(arithmetic.Operator, Computing(left, Wanted(left)), Computing(right, Wanted(right)), arithmetic.ResultType)
            ?? throw new FaultException(
                RequestFault.NotImplemented(
                    $"'{arithmetic.Operator.ToString().ToLowerInvariant()}' of {left.Type!.Name} and {right.Type!.Name} is not "
                        + $"supported on this source."
                )
            );
    }

    private SqlOperand Computing(BoundExpression expression, string? form) =>
        IsFree(expression) && form is not null
            ? new SqlOperand(Value(expression, form), expression.Type!, form)
            : Operand(expression, null);

    /// <summary>Whether one of the texts holds the term; a null holds nothing.</summary>
    private string Search(BoundSearchTerm search)
    {
        var term = new SqlOperand(
            dialect.Call(CanonicalFunction.ToLower, [new SqlOperand(Value(search.Term, null), EdmType.String)])!,
            EdmType.String
        );
        return $"({string.Join(" OR ", search.Texts.Select(t => Holds(t)))})";

        string Holds(BoundExpression text)
        {
            var lower = new SqlOperand(dialect.Call(CanonicalFunction.ToLower, [Operand(text, null)])!, EdmType.String);
            var holds = dialect.Call(CanonicalFunction.Contains, [lower, term])!;
            return text.MayBeNull ? $"COALESCE({holds}, {dialect.False})" : holds;
        }
    }

    /// <summary>
    /// Rows are found by their key among those that the index knows, so that it does not matter what the table is joined with.
    /// </summary>
    private string Matches(BoundSearchTerm search, EntitySet set)
    {
        var own = search.Texts.Select(k => Raw((BoundProperty)k)).ToList();
        var (tuple, keys) = (
            own.Count == 1 ? own[0] : $"({string.Join(", ", own)})",
            string.Join(", ", set.Type.Key.Select(k => "s." + dialect.Quote(k.Column)))
        );
        return $"({tuple} IN (SELECT {keys} FROM {dialect.From(set.Source)} AS s WHERE "
            + $"{dialect.Matches(set.SearchIndex!, "s", Value(search.Term, null))}))";
    }

    private string Root(BoundRootValue value)
    {
        var joins = value.Hops.Select(
            (h, i) =>
            {
                var (left, right) = (i == 0 ? "r" : $"r{i}", $"r{i + 1}");
                var pairs = h.Navigation.Joins.Select(j =>
                    $"{right}.{dialect.Quote(j.Target.Column)} = {left}.{dialect.Quote(j.Own.Column)}"
                );
                return $" LEFT JOIN {table(h.Target.Source)} AS {right} ON {string.Join(" AND ", pairs)}";
            }
        );
        var key = value.Key is { } given
            ? given.Parts.Select(p =>
                $"{Column("r", p.Property)} = "
                + $"{parameter(new LiteralParameter(p.Value.Slot, p.Property.Type, p.Property.StorageForm, p.Value.Conversion))}"
            )
            : value.Set.Type.Key.Select(
                (k, i) => $"r.{dialect.Quote(k.Column)} = {root!.Alias}.{(root.IsTable ? dialect.Quote(k.Column) : $"r{i}")}"
            );
        return $"(SELECT {Column(value.Hops.IsEmpty ? "r" : $"r{value.Hops.Length}", value.Property)} FROM "
            + $"{table(value.Set.Source)} AS r{string.Concat(joins)} WHERE {string.Join(" AND ", key)})";
    }

    private string Values(BoundOverValues values)
    {
        var condition = values.Condition is null ? null : Predicate(values.Condition, exact: values.Asked == OverValues.All);
        var where =
            condition is null ? ""
            : values.Asked == OverValues.All ? $" WHERE (NOT COALESCE({condition}, {dialect.False}))"
            : $" WHERE {condition}";
        return $"({(values.Asked == OverValues.All ? "NOT " : "")}EXISTS (SELECT 1 FROM {Unnested(values)}{where}))";
    }

    private string Unnested(BoundOverValues values) =>
        dialect.Unnest(
            new SqlOperand(
                Column(aliases[Planner.AliasKey(values.Values.Scope, Planner.PathOf(values.Values.Hops))], values.Values.Property),
                values.Values.Property.StoredType,
                values.Values.Property.StorageForm
            ),
            values.Values.Property.Type with
            {
                IsCollection = false,
            },
            values.Scope
        )
        ?? throw new FaultException(
            RequestFault.NotImplemented($"The values of '{values.Values.Property.Name}' cannot be queried one by one on this source.")
        );

    private string Count(BoundCount count)
    {
        var (from, conditions, inner) = Related(count);
        if (count.Condition is { } condition)
            conditions.Add(inner.Condition(condition));
        return $"(SELECT COUNT(*) FROM {from} WHERE {string.Join(" AND ", conditions)})";
    }

    /// <summary>A predicate in which null does not stand for false, guarded as <see cref="Condition"/>.</summary>
    private string Exactly(BoundExpression condition) =>
        !Guards.IsEmpty && RowGuard.IsNeeded(condition)
            ? RowGuard.Of(Guards, Predicate(condition, exact: true))
            : Predicate(condition, exact: true);

    /// <summary>
    /// The related rows with what their condition needs, what ties them to the outer row, and what writes expressions about them.
    /// </summary>
    private (string From, List<string> Conditions, SqlExpressions Inner) Related(BoundOverRelated over)
    {
        var (navigation, alias) = (over.Navigation, over.Scope);
        var outer = aliases[Planner.AliasKey(over.OuterScope, Planner.PathOf(over.Hops))];
        var inside = aliases.SetItem(Planner.AliasKey(over.Scope, ""), alias);
        var from = new StringBuilder(table(over.Target.Source)).Append(" AS ").Append(alias);
        List<string> conditions;
        if (navigation.Link is { } link)
        {
            from.Append($" JOIN {table(link.Source)} AS {alias}_l ON ")
                .AppendJoin(
                    " AND ",
                    link.Target.Select(t => $"{alias}.{dialect.Quote(t.Target.Column)} = {alias}_l.{dialect.Quote(t.Link)}")
                );
            conditions = [.. link.Own.Select(o => $"{alias}_l.{dialect.Quote(o.Link)} = {outer}.{dialect.Quote(o.Own.Column)}")];
        }
        else
            conditions =
            [
                .. navigation.Joins.Select(j => $"{alias}.{dialect.Quote(j.Target.Column)} = {outer}.{dialect.Quote(j.Own.Column)}"),
            ];
        for (var i = 0; i < over.Joins.Length; i++)
        {
            var join = over.Joins[i];
            var parent = inside[Planner.AliasKey(over.Scope, join.ParentPath)];
            inside = inside.SetItem(Planner.AliasKey(over.Scope, join.Path), $"{alias}_{i}");
            from.Append($" LEFT JOIN {table(join.Target.Source)} AS {alias}_{i} ON ")
                .AppendJoin(
                    " AND ",
                    join.Navigation.Joins.Select(p =>
                        $"{alias}_{i}.{dialect.Quote(p.Target.Column)} = {parent}.{dialect.Quote(p.Own.Column)}"
                    )
                );
        }
        return (
            from.ToString(),
            conditions,
            new SqlExpressions(dialect, table, inside, parameter, root)
            {
                Guards = InnerGuards(over, alias, conditions),
                Guard = Guard,
                ComparesExactly = ComparesExactly,
                Steps = Steps,
            }
        );
    }

    /// <param name="related">That the row is related to the outer one: rules may leave it to be reached over that one only.</param>
    private ImmutableArray<string> InnerGuards(BoundOverRelated over, string alias, IEnumerable<string> related)
    {
        if (Guard is null)
            return [];
        var seen = Guard.Seen(over.Joins.Select((j, i) => ($"{alias}_{i}", j.Target.Source)).Prepend((alias, over.Target.Source))).ToList();
        return seen.Count == 0 && Guards.IsEmpty ? [] : [.. seen, .. Guard.Opaque(related)];
    }

    private SqlOperand Operand(BoundExpression expression, BoundExpression? partner)
    {
        var form = Form(expression) ?? (partner is null ? null : Form(partner));
        return new SqlOperand(
            Value(expression, form),
            StoredType(expression) ?? EdmType.String,
            IsFree(expression) ? form : Form(expression)
        )
        {
            Collation = IsText(expression) ? CollationOf(expression) : null,
        };
    }

    /// <summary>Of the first column that a text is made of.</summary>
    private static string? CollationOf(BoundExpression expression) =>
        expression is BoundProperty property
            ? property.Property.Collation
            : expression.Operands.Select(CollationOf).FirstOrDefault(c => c is not null);

    private static EdmType? StoredType(BoundExpression expression) =>
        expression switch
        {
            BoundProperty property => property.Property.StoredType,
            BoundLiteral { Conversion: { } conversion } => conversion.Parameter,
            _ => expression.Type,
        };

    private string? Form(BoundExpression expression) =>
        expression switch
        {
            BoundProperty property => property.Property.StorageForm,
            BoundRootValue root => root.Property.StorageForm,
            BoundNegation { Type.Kind: EdmKind.Duration } => dialect.ComputedForm(EdmType.Duration),
            BoundArithmetic { ResultType.IsNumeric: false } arithmetic => dialect.ComputedForm(arithmetic.ResultType),
            _ => null,
        };

    /// <summary>Literals and the current time have no form of their own and take their partner's.</summary>
    private static bool IsFree(BoundExpression expression) =>
        expression is BoundLiteral or BoundConstant or BoundCall { Function: CanonicalFunction.Now };

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
        // What is exactly equal is equal by every collation, so that the plain comparison may stay for the sake of indexes.
        var exactly = ComparesExactly && IsText(left) ? ExactTexts(left, a, right, b) : null;
        string Equal(Func<string, string, string> compare) =>
            exactly is { } texts ? $"{compare(a, b)} AND {compare(texts.Left, texts.Right)}" : compare(a, b);
        switch (comparison.Operator)
        {
            case BinaryOperator.Eq:
                return both || (nullable && exact) ? $"({Equal(dialect.NullSafeEqual)})" : $"({Equal((x, y) => $"{x} = {y}")})";
            case BinaryOperator.Ne when nullable:
                return $"(NOT ({Equal(dialect.NullSafeEqual)}))";
            case BinaryOperator.Ne:
                return exactly is null ? $"({a} <> {b})" : $"({exactly.Value.Left} <> {exactly.Value.Right})";
            default:
                (a, b) = exactly ?? (a, b);
                var sign = comparison.Operator switch
                {
                    BinaryOperator.Gt => ">",
                    BinaryOperator.Ge => ">=",
                    BinaryOperator.Lt => "<",
                    _ => "<=",
                };
                var plain = nullable && exact ? $"COALESCE({a} {sign} {b}, {dialect.False})" : $"({a} {sign} {b})";
                // Null is equal to itself, so it is also greater or equal (URL conventions 5.1.1.1.4).
                return both && sign.Length == 2 ? $"({plain} OR ({a} IS NULL AND {b} IS NULL))" : plain;
        }
    }

    private static bool IsText(BoundExpression expression) => expression.Type is { Kind: EdmKind.String, IsCollection: false };

    /// <summary>Both sides as texts that compare exactly; null = they do as they are.</summary>
    private (string Left, string Right)? ExactTexts(BoundExpression left, string a, BoundExpression right, string b)
    {
        string? Form(BoundExpression side) =>
            ExpressionPaths.All(side).OfType<BoundProperty>().Select(p => p.Property.StorageForm).FirstOrDefault(f => f is not null);
        var (x, y) = (
            dialect.Exact(new SqlOperand(a, EdmType.String, Form(left))),
            dialect.Exact(new SqlOperand(b, EdmType.String, Form(right)))
        );
        return x is null && y is null ? null : (x ?? a, y ?? b);
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
        if (
            ComparesExactly
            && IsText(isIn.Operand)
            && ExactTexts(isIn.Operand, members[0].Left, isIn.Operand, members[0].Left) is { } exactly
        )
            plain =
                $"({plain} AND {exactly.Left} IN "
                + $"({string.Join(", ", members.Select(m => dialect.Exact(new SqlOperand(m.Right, EdmType.String)) ?? m.Right))}))";
        if (isIn.WithNull)
            plain = $"({plain} OR {operand.Sql} IS NULL)";
        return exact && (isIn.Operand.MayBeNull || isIn.Members.Any(LacksStored)) ? $"COALESCE({plain}, {dialect.False})" : $"({plain})";
    }

    private string Column(string alias, Property property) => dialect.Column($"{alias}.{dialect.Quote(property.Column)}", property);
}
