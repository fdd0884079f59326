using System.Collections.Frozen;
using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Requests.Statements;

/// <summary>Terms of a statement, with their types.</summary>
public sealed partial class StatementBinder
{
    private static readonly FrozenDictionary<string, CanonicalFunction> Functions = Enum.GetValues<CanonicalFunction>()
        .Where(f => f is not (CanonicalFunction.MinDateTime or CanonicalFunction.MaxDateTime))
        .ToFrozenDictionary(f => f.ToString(), StringComparer.OrdinalIgnoreCase);

    private static readonly FrozenDictionary<string, CanonicalFunction> OfSql = new Dictionary<string, CanonicalFunction>
    {
        ["lower"] = CanonicalFunction.ToLower,
        ["upper"] = CanonicalFunction.ToUpper,
    }.ToFrozenDictionary(StringComparer.OrdinalIgnoreCase);

    private static readonly FrozenSet<string> Aggregates = FrozenSet.Create(
        StringComparer.OrdinalIgnoreCase,
        "count",
        "sum",
        "min",
        "max",
        "avg"
    );

    private BoundTerm Term(TermSyntax syntax)
    {
        _steps.Step();
        // Some syntax stands for more than one term.
        if (++_terms > Limits.BoundParts)
            throw Fault("too-large", $"The statement has more than {Limits.BoundParts} parts.", syntax.Position);
        return syntax switch
        {
            ColumnSyntax column => Column(column),
            ValueSyntax { Value: null } => new ValueTerm(null, null, null, syntax.Position) { IsFree = true },
            ValueSyntax { Value: { } value } => Value(value, syntax.Position),
            ParameterSyntax parameter => Argument(parameter) is { } value
                ? Value(value, syntax.Position)
                : new ValueTerm(null, null, null, syntax.Position) { IsFree = true },
            TypedValueSyntax typed => Typed(typed.Text, typed.Type, typed.Position),
            OperatorSyntax { Operator: StatementOperator.And or StatementOperator.Or } logic => new OperatorTerm(
                logic.Operator,
                Condition(logic.Left),
                Condition(logic.Right),
                EdmType.Boolean
            ),
            OperatorSyntax { Operator: < StatementOperator.Add } comparison => Comparison(
                comparison.Operator,
                Term(comparison.Left),
                Term(comparison.Right),
                comparison
            ),
            OperatorSyntax arithmetic => Arithmetic(arithmetic),
            NotSyntax not => new NotTerm(Condition(not.Operand)),
            MinusSyntax minus => Minus(minus),
            IsNullSyntax isNull => new IsNullTerm(Filterable(Term(isNull.Operand), isNull.Operand.Position), isNull.IsNegated),
            BetweenSyntax between => Between(between),
            InListSyntax list => InList(list),
            InSelectSyntax inner => InSelect(inner),
            ExistsSyntax exists => new ExistsTerm(Select(exists.Select, _scope)),
            CallSyntax call => Call(call),
            CaseSyntax branches => Case(branches),
            CastSyntax cast => Cast(cast),
            _ => throw new InvalidOperationException(syntax.GetType().Name),
        };
    }

    private static ValueTerm Value(object value, int position) =>
        new(value, StatementValues.TypeOf(value), null, position) { IsFree = true };

    private ValueTerm Typed(string text, EdmType type, int position) =>
        Lexer.Plain(text, type) is { } value
            ? new ValueTerm(value, type, null, position)
            : throw Fault("literal", $"'{text}' is not a value of {type.Name}.", position);

    private ColumnTerm Column(ColumnSyntax syntax)
    {
        var name = syntax.Name;
        if (syntax.Table is { } qualifier)
        {
            var table = TableOf(qualifier);
            return Find(table, name) ?? throw Unknown(name, table.Set.Type.Properties);
        }
        for (var scope = _scope; scope is not null; scope = scope.Outer)
        {
            var found = scope.Tables.Select(t => Find(t, name)).OfType<ColumnTerm>().Take(2).ToList();
            if (found.Count == 1)
                return found[0];
            if (found.Count > 1)
                throw Fault(
                    "ambiguous",
                    $"'{name.Text}' is a column of {found[0].Table.Set.Name} and of {found[1].Table.Set.Name}; write which one before it.",
                    name.Position
                );
        }
        throw Unknown(name, _scope.Tables.SelectMany(t => t.Set.Type.Properties));
    }

    private ColumnTerm? Find(StatementTable table, StatementName name)
    {
        if (Names.Find(table.Set.Type.Properties, p => p.Name, name) is not { } property)
            return null;
        return Names.IsColumn(property)
            ? new ColumnTerm(table, property)
            : throw NotSupported($"'{property.Name}' has no plain values, and cannot be read by a statement.", name.Position);
    }

    private FaultException Unknown(StatementName name, IEnumerable<Property> properties) =>
        Fault(
            "unknown-property",
            $"There is no column '{name.Text}'.{NearestName.Hint(name.Text, properties.Where(Names.IsColumn).Select(p => p.Name))}",
            name.Position
        );

    /// <summary>A term where a condition is needed.</summary>
    private BoundTerm Condition(TermSyntax syntax)
    {
        var term = Term(syntax);
        if (term.Type is not { Kind: EdmKind.Boolean })
            throw Fault("type", $"A condition is needed here, and this is {Describe(term)}.", syntax.Position);
        // What is stored for true need not be true for the database.
        return term is ColumnTerm { Property.Conversion: not null } column
            ? new OperatorTerm(
                StatementOperator.Equal,
                Filterable(column, syntax.Position),
                new ValueTerm(true, EdmType.Boolean, column.Property, syntax.Position),
                EdmType.Boolean
            )
            : Filterable(term, syntax.Position);
    }

    private BoundTerm Filterable(BoundTerm term, int position) =>
        term is ColumnTerm { Property: { IsFilterable: false } property }
            ? throw Fault("not-filterable", $"'{property.Name}' may not be filtered by.", position)
            : term;

    private static string Describe(BoundTerm term) => term.Type?.Name ?? "NULL";

    private BoundTerm Comparison(StatementOperator op, BoundTerm left, BoundTerm right, OperatorSyntax syntax)
    {
        var word = syntax.Operator;
        (left, right) = Meeting(left, right, word is StatementOperator.Equal or StatementOperator.NotEqual, syntax.Position);
        return new OperatorTerm(op, left, right, EdmType.Boolean);
    }

    /// <summary>Two terms that are compared, in types that can be.</summary>
    private (BoundTerm Left, BoundTerm Right) Meeting(BoundTerm left, BoundTerm right, bool isEquality, int position)
    {
        (left, right) = (Adapted(Filterable(left, position), right), Adapted(Filterable(right, position), left));
        if (left.Type is { } a && right.Type is { } b)
        {
            if (!AreAlike(a, b))
                throw Fault("type", $"{Describe(left)} cannot be compared with {Describe(right)}.{AboutDates(a, b)}", position);
            var isUnordered = a.Kind is EdmKind.Boolean or EdmKind.Enum or EdmKind.Guid or EdmKind.Binary;
            if (!isEquality && isUnordered)
                throw Fault("type", $"The values of {a.Name} have no order.", position);
        }
        CheckConverted(left, right, isEquality, position);
        CheckConverted(right, left, isEquality, position);
        return (left, right);
    }

    private static bool AreAlike(EdmType a, EdmType b) =>
        a.IsNumeric ? b.IsNumeric : a.Kind == b.Kind && a.Enum?.QualifiedName == b.Enum?.QualifiedName;

    private static string AboutDates(EdmType a, EdmType b) =>
        (a.Kind, b.Kind) is (EdmKind.Date, EdmKind.DateTimeOffset) or (EdmKind.DateTimeOffset, EdmKind.Date)
            ? " The function date gives the day of a point in time."
            : "";

    /// <summary>A value takes the type and the stored form of what it meets.</summary>
    private BoundTerm Adapted(BoundTerm term, BoundTerm other)
    {
        if (term is not ValueTerm value || other is ValueTerm { IsFree: true } || other.Type is not { } type)
            return term;
        var like = (other as ColumnTerm)?.Property;
        if (value.IsFree && value.Value is not null)
            value = Converted(value, type);
        return value with { Like = like, IsFree = value.IsFree && value.Value is null };
    }

    /// <summary>A free value as one of a type.</summary>
    private ValueTerm Converted(ValueTerm value, EdmType type)
    {
        object? converted = value.Value switch
        {
            string text => Lexer.Plain(text, type),
            bool => type.Kind == EdmKind.Boolean ? value.Value : null,
            long or decimal or LongDecimal when type.IsFloating => Lexer.Plain(ValueConversion.Text(value.Value), EdmType.Double),
            long number when type.Kind == EdmKind.Decimal => (decimal)number,
            _ => type.IsNumeric ? value.Value : null,
        };
        if (converted is null)
            throw Fault("type", $"'{ValueConversion.Text(value.Value!)}' is not a value of {type.Name}.", value.Position);
        // A number beside a narrower one keeps its own type.
        var kept = value.Value is not string && type.IsNumeric && !type.IsFloating ? StatementValues.TypeOf(converted) : type;
        return value with { Value = converted, Type = kept };
    }

    /// <summary>
    /// As for filters: a converted property is compared in its stored form, with values and with others of the same form.
    /// </summary>
    private void CheckConverted(BoundTerm term, BoundTerm other, bool isEquality, int position)
    {
        if (
            term is not ColumnTerm { Property: { Conversion: { Use: not ConvertedUse.Anything } conversion } property }
            || other is ValueTerm { Value: null }
        )
            return;
        if (conversion.Use == ConvertedUse.Read || (conversion.Use is ConvertedUse.Equality or ConvertedUse.Sorting && !isEquality))
            throw Stored(property, isEquality ? "compared" : "compared by order", position);
        if (other is not ValueTerm && (other as ColumnTerm)?.Property.Conversion != conversion)
            throw Stored(property, "compared with an expression", position);
    }

    private FaultException Stored(Property property, string use, int position) =>
        NotSupported($"'{property.Name}' is stored in another form and cannot be {use}.", position);

    /// <summary>Refuses a property whose stored values are not the published ones, where only the latter make sense.</summary>
    /// <param name="enough">The least use that is enough.</param>
    private void NotConverted(BoundTerm term, string use, int position, ConvertedUse enough = ConvertedUse.Anything)
    {
        if (term is ColumnTerm { Property: { Conversion: { } conversion } property } && conversion.Use < enough)
            throw Stored(property, use, position);
    }

    private BoundTerm Operand(TermSyntax syntax)
    {
        var term = Filterable(Term(syntax), syntax.Position);
        NotConverted(term, "computed with", syntax.Position);
        return term;
    }

    private BoundTerm Arithmetic(OperatorSyntax syntax)
    {
        var (left, right) = (Operand(syntax.Left), Operand(syntax.Right));
        var sign = syntax.Operator;
        if (sign == StatementOperator.Concat)
            return Function(CanonicalFunction.Concat, [left, right], [syntax.Left.Position, syntax.Right.Position], syntax.Position);
        (left, right) = (AsOperand(left, right), AsOperand(right, left));
        if (left.Type is not { } a || right.Type is not { } b)
            throw Fault("type", "NULL cannot be computed with.", syntax.Position);
        if (a.IsNumeric && b.IsNumeric)
            return new OperatorTerm(sign, left, right, NumericPromotion.Result(ArithmeticOf(sign), a, b));
        return sign != StatementOperator.Modulo && TemporalPromotion.Result(TemporalOf(sign), a, b) is { } type
            ? new OperatorTerm(sign, left, right, type)
            : throw Fault("type", $"{Describe(left)} and {Describe(right)} cannot be computed with each other.", syntax.Position);
    }

    /// <summary>A text beside a number is a number, and beside a time a duration.</summary>
    private BoundTerm AsOperand(BoundTerm term, BoundTerm other) =>
        term is ValueTerm { IsFree: true, Value: not null } value && other is not ValueTerm { IsFree: true } && other.Type is { } type
            ? value.Value is string
                ? Converted(
                    value,
                    type.IsIntegral ? EdmType.Int64
                        : type.IsNumeric ? type
                        : EdmType.Duration
                )
                : value
            : term;

    /// <summary>The operator of the filter language.</summary>
    internal static ArithmeticOperator ArithmeticOf(StatementOperator op) =>
        op switch
        {
            StatementOperator.Add => ArithmeticOperator.Add,
            StatementOperator.Subtract => ArithmeticOperator.Sub,
            StatementOperator.Multiply => ArithmeticOperator.Mul,
            StatementOperator.Divide => ArithmeticOperator.Div,
            _ => ArithmeticOperator.Mod,
        };

    private static BinaryOperator TemporalOf(StatementOperator op) =>
        op switch
        {
            StatementOperator.Add => BinaryOperator.Add,
            StatementOperator.Subtract => BinaryOperator.Sub,
            StatementOperator.Multiply => BinaryOperator.Mul,
            _ => BinaryOperator.Div,
        };

    private MinusTerm Minus(MinusSyntax syntax)
    {
        var operand = Operand(syntax.Operand);
        return operand.Type is { IsNumeric: true } type
            ? new MinusTerm(operand, type.IsIntegral ? EdmType.Int64 : type)
            : throw Fault("type", $"A minus stands before a number, and this is {Describe(operand)}.", syntax.Position);
    }

    private BoundTerm Between(BetweenSyntax syntax)
    {
        var (operand, low, high) = (Term(syntax.Operand), Term(syntax.Low), Term(syntax.High));
        var (above, least) = Meeting(operand, low, isEquality: false, syntax.Position);
        var (below, most) = Meeting(operand, high, isEquality: false, syntax.Position);
        // What takes the type of its partners may become two terms; anything else stays the one that it is.
        BoundTerm between = ReferenceEquals(above, below)
            ? new BetweenTerm(above, least, most)
            : new OperatorTerm(
                StatementOperator.And,
                new OperatorTerm(StatementOperator.GreaterOrEqual, above, least, EdmType.Boolean),
                new OperatorTerm(StatementOperator.LessOrEqual, below, most, EdmType.Boolean),
                EdmType.Boolean
            );
        return syntax.IsNegated ? new NotTerm(between) : between;
    }

    private BoundTerm InList(InListSyntax syntax)
    {
        if (syntax.Members.Length > _model.Limits.InMembers)
            throw Fault("too-large", $"The list has more than {_model.Limits.InMembers} members.", syntax.Position);
        var operand = Term(syntax.Operand);
        if (operand is ValueTerm { IsFree: true })
            throw NotSupported("Before IN stands a column or an expression over columns.", syntax.Operand.Position);
        var members = syntax.Members.Select(m => Meeting(operand, Term(m), isEquality: true, m.Position).Right).ToImmutableArray();
        var list = new InListTerm(Filterable(operand, syntax.Operand.Position), members);
        return syntax.IsNegated ? new NotTerm(list) : list;
    }

    private BoundTerm InSelect(InSelectSyntax syntax)
    {
        var operand = Term(syntax.Operand);
        var select = Select(syntax.Select, _scope);
        if (select.Items.Length != 1)
            throw Fault("syntax", "A SELECT after IN gives one column.", syntax.Select.Position);
        (operand, _) = Meeting(operand, select.Items[0].Term, isEquality: true, syntax.Position);
        var among = new InSelectTerm(operand, select);
        return syntax.IsNegated ? new NotTerm(among) : among;
    }

    private BoundTerm Call(CallSyntax syntax)
    {
        if (Aggregates.Contains(syntax.Name))
            return Aggregate(syntax);
        if (syntax.IsStar || syntax.IsDistinct)
            throw Fault("syntax", $"'{syntax.Name}' takes values only.", syntax.Position);
        if (syntax.Name.Equals("coalesce", StringComparison.OrdinalIgnoreCase))
            return Coalesce(syntax);
        if (!Functions.TryGetValue(syntax.Name, out var function) && !OfSql.TryGetValue(syntax.Name, out function))
            throw Fault(
                "unknown-function",
                $"There is no function '{syntax.Name}'."
                    + NearestName.Hint(syntax.Name, Functions.Keys.Select(k => k.ToLowerInvariant()).Concat(Aggregates)),
                syntax.Position
            );
        return Function(function, [.. syntax.Arguments.Select(Operand)], [.. syntax.Arguments.Select(a => a.Position)], syntax.Position);
    }

    private BoundTerm Function(CanonicalFunction function, ImmutableArray<BoundTerm> arguments, ImmutableArray<int> positions, int position)
    {
        var signature = FunctionSignature.Of(function);
        var name = function.ToString().ToLowerInvariant();
        var (least, most) = (signature.Required, signature.Parameters.Length);
        if (arguments.Length < least || arguments.Length > most)
            throw Fault("arguments", $"'{name}' takes {Arguments(least, most)}, not {arguments.Length}.", position);
        if (function == CanonicalFunction.Now)
            return new NowTerm();
        arguments = [.. arguments.Select((a, i) => AsArgument(a, signature, i))];
        for (var i = 0; i < arguments.Length; i++)
        {
            if (arguments[i].Type is not { } type || !signature.Parameters[i](type))
                throw Fault("type", $"'{name}' needs {signature.Meanings[i]} here, and this is {Describe(arguments[i])}.", positions[i]);
        }
        if (function == CanonicalFunction.MatchesPattern && arguments[1] is not ValueTerm)
            throw NotSupported("A pattern is a text or a parameter.", positions[1]);
        var isRounding = function is CanonicalFunction.Round or CanonicalFunction.Floor or CanonicalFunction.Ceiling;
        var result =
            !isRounding ? signature.Result([])
            : arguments[0].Type!.IsFloating ? EdmType.Double
            : new EdmType(EdmKind.Decimal, Scale: 0);
        var call = new FunctionTerm(function, arguments, result);
        if (function == CanonicalFunction.Concat && _joined.Fault(call) is { } tooLarge)
            throw Fault("too-large", tooLarge, position);
        return call;
    }

    private static string Arguments(int least, int most) =>
        least < most ? $"{least} to {most} arguments"
        : most == 1 ? "1 argument"
        : $"{most} arguments";

    /// <summary>A text takes the first type that the parameter of a function takes.</summary>
    private BoundTerm AsArgument(BoundTerm term, FunctionSignature signature, int index)
    {
        if (term is not ValueTerm { IsFree: true, Value: string } value || signature.Parameters[index](EdmType.String))
            return term;
        EdmType[] types = [EdmType.Int64, EdmType.Date, EdmType.TimeOfDay, EdmType.DateTimeOffset, EdmType.Duration];
        var fitting = types.Where(signature.Parameters[index]).ToList();
        return fitting.Find(t => Lexer.Plain((string)value.Value, t) is not null) is { } type ? Converted(value, type) : term;
    }

    private AggregateTerm Aggregate(CallSyntax syntax)
    {
        var (scope, name) = (_scope, syntax.Name.ToUpperInvariant());
        if (!scope.TakesAggregates)
            throw Fault(
                "grouped",
                $"{name} stands in the result, in HAVING or in ORDER BY only, and not in another aggregate.",
                syntax.Position
            );
        scope.HasAggregates = true;
        if (syntax.IsStar && name == "COUNT")
            return new AggregateTerm(name, null, false, EdmType.Int64);
        if (syntax.Arguments.Length != 1)
            throw Fault("arguments", $"{name} takes one argument.", syntax.Position);
        scope.TakesAggregates = false;
        var operand = Filterable(Term(syntax.Arguments[0]), syntax.Arguments[0].Position);
        scope.TakesAggregates = true;
        NotConverted(operand, "aggregated", syntax.Arguments[0].Position, name == "COUNT" ? ConvertedUse.Equality : ConvertedUse.Anything);
        if (operand.All.OfType<ColumnTerm>().Any(c => !scope.Owns(c.Table)))
            throw NotSupported($"{name} cannot be over columns of the SELECT around, nor over another SELECT.", syntax.Position);
        if (syntax.IsDistinct && name is not "COUNT")
            throw NotSupported($"DISTINCT in {name} cannot be used.", syntax.Position);
        if (operand.Type is not { } type || !Takes(name, type))
            throw Fault("type", $"{name} does not take {Describe(operand)}.", syntax.Arguments[0].Position);
        return new AggregateTerm(name, operand, syntax.IsDistinct, ResultOf(name, type));
    }

    private static bool Takes(string aggregate, EdmType type) =>
        aggregate switch
        {
            "COUNT" => true,
            "SUM" or "AVG" => type.IsNumeric,
            _ => type.IsNumeric
                || type.Kind is EdmKind.String or EdmKind.Date or EdmKind.TimeOfDay or EdmKind.DateTimeOffset or EdmKind.Duration,
        };

    private static EdmType ResultOf(string aggregate, EdmType type) =>
        aggregate switch
        {
            "COUNT" => EdmType.Int64,
            "AVG" => EdmType.Double,
            "SUM" when type.IsFloating => EdmType.Double,
            "SUM" when type.IsIntegral => new EdmType(EdmKind.Decimal, Scale: 0),
            "SUM" => type with { Precision = null },
            _ => type,
        };

    private CoalesceTerm Coalesce(CallSyntax syntax)
    {
        if (syntax.Arguments.Length < 2)
            throw Fault("arguments", "COALESCE takes two arguments or more.", syntax.Position);
        var (terms, type) = Alike([.. syntax.Arguments.Select(Operand)], syntax.Position);
        return new CoalesceTerm(terms, type);
    }

    private CaseTerm Case(CaseSyntax syntax)
    {
        var whens = syntax.Branches.Select(b => Condition(b.When)).ToList();
        var values = syntax.Branches.Select(b => Operand(b.Then)).ToList();
        if (syntax.Otherwise is { } otherwise)
            values.Add(Operand(otherwise));
        var (terms, type) = Alike(values, syntax.Position);
        return new CaseTerm([.. whens.Select((w, i) => (w, terms[i]))], syntax.Otherwise is null ? null : terms[^1], type);
    }

    /// <summary>Values of one type, of which one is chosen.</summary>
    private (ImmutableArray<BoundTerm> Terms, EdmType Type) Alike(List<BoundTerm> terms, int position)
    {
        var typed = terms.Where(t => t.Type is not null).OrderBy(t => t is ValueTerm { IsFree: true }).ToList();
        if (typed.Count == 0)
            throw Fault("type", "All values are NULL, so that the type is not known.", position);
        var type = typed[0].Type!;
        var adapted = terms
            .Select(t =>
                t is ValueTerm { IsFree: true, Value: not null } value && !ReferenceEquals(t, typed[0]) ? Converted(value, type) : t
            )
            .ToImmutableArray();
        foreach (var other in adapted.Where(t => t.Type is not null))
        {
            if (!AreAlike(type, other.Type!))
                throw Fault("type", $"{type.Name} and {Describe(other)} cannot be values of one column.", position);
            if (type.IsNumeric && other.Type != type)
                type = NumericPromotion.Common(type, other.Type!);
        }
        return (adapted, type);
    }

    private BoundTerm Cast(CastSyntax syntax)
    {
        var operand = Operand(syntax.Operand);
        if (operand is ValueTerm { IsFree: true } value)
            return value.Value is null ? value with { Type = syntax.Type, IsFree = false }
                : value.Value is string || !syntax.Type.IsNumeric
                    ? Converted(value, syntax.Type) with
                    {
                        IsFree = false,
                        Type = syntax.Type,
                    }
                : new CastTerm(operand, syntax.Type);
        return operand.Type == syntax.Type ? operand : new CastTerm(operand, syntax.Type);
    }
}
