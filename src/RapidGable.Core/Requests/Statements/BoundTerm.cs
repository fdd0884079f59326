// A statement with every name resolved and every type known; still no SQL text.
using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Requests.Statements;

/// <summary>A set in a statement.</summary>
/// <param name="Number">Tells it from all others of the statement, those of inner SELECTs among them; from 1.</param>
public sealed record StatementTable(EntitySet Set, int Number)
{
    /// <summary>Rows without a partner are kept, with nulls.</summary>
    public bool IsOuter { get; init; }
}

/// <summary>Something with a value. The kinds are those of this file.</summary>
public abstract record BoundTerm
{
    private const int LongestKey = 100;

    /// <param name="type">Null = a NULL that has no type yet.</param>
    /// <param name="meaning">The same for two terms only when they mean the same; made of the keys of the parts.</param>
    protected BoundTerm(EdmType? type, string meaning)
    {
        Type = type;
        // A key of a term holds those of its parts, so that long ones are hashed.
        Key =
            meaning.Length <= LongestKey
                ? meaning
                : Convert.ToHexString(System.Security.Cryptography.SHA256.HashData(System.Text.Encoding.UTF8.GetBytes(meaning)));
    }

    /// <summary>Null = a NULL that has no type yet.</summary>
    public EdmType? Type { get; init; }

    /// <summary>The same for two terms only when they mean the same.</summary>
    public string Key { get; private init; }

    /// <summary>The terms that it is made of, those of inner SELECTs not among them.</summary>
    public virtual IEnumerable<BoundTerm> Parts => [];

    /// <summary>The SELECT within it; null = there is none.</summary>
    public virtual StatementSelect? Inner => null;

    /// <summary>Whether computing its value from those of its parts may fail for some rows.</summary>
    public virtual bool MayFailItself => false;

    /// <summary>Itself and everything below it, inner SELECTs among it; what several terms share is there once.</summary>
    public IEnumerable<BoundTerm> All => AllOf([this]);

    /// <summary>Terms and everything below them, as in <see cref="All"/>.</summary>
    public static IEnumerable<BoundTerm> AllOf(IEnumerable<BoundTerm> terms)
    {
        var seen = new HashSet<BoundTerm>(ReferenceEqualityComparer.Instance);
        var open = new Stack<BoundTerm>(terms.Reverse());
        while (open.TryPop(out var term))
        {
            if (!seen.Add(term))
                continue;
            yield return term;
            foreach (var below in term.Parts.Concat(term.Inner?.Terms ?? []).Reverse())
                open.Push(below);
        }
    }
}

/// <summary>A property of a table.</summary>
public sealed record ColumnTerm(StatementTable Table, Property Property) : BoundTerm(Property.Type, $"t{Table.Number}.{Property.Name}");

/// <param name="Value">A published value of the type; null = NULL.</param>
/// <param name="Like">The property that it is compared with, in whose stored form it goes to the database; null = it meets none.</param>
public sealed record ValueTerm(object? Value, EdmType? Type, Property? Like, int Position)
    : BoundTerm(Type, $"{Type}:{(Value is null ? "" : ValueConversion.Text(Value))}:{Like?.Column}")
{
    /// <summary>It takes the type of what it meets.</summary>
    public bool IsFree { get; init; }
}

/// <summary>The time of the request.</summary>
public sealed record NowTerm() : BoundTerm(EdmType.DateTimeOffset, "now");

/// <summary>Two terms with an operator between them.</summary>
public sealed record OperatorTerm(StatementOperator Operator, BoundTerm Left, BoundTerm Right, EdmType ResultType)
    : BoundTerm(ResultType, $"({Left.Key} {Operator} {Right.Key})")
{
    public override IEnumerable<BoundTerm> Parts => [Left, Right];

    public override bool MayFailItself => Operator >= StatementOperator.Add;
}

/// <summary>NOT.</summary>
public sealed record NotTerm(BoundTerm Operand) : BoundTerm(EdmType.Boolean, $"not({Operand.Key})")
{
    public override IEnumerable<BoundTerm> Parts => [Operand];
}

/// <summary>A number with the other sign.</summary>
public sealed record MinusTerm(BoundTerm Operand, EdmType ResultType) : BoundTerm(ResultType, $"-({Operand.Key})")
{
    public override IEnumerable<BoundTerm> Parts => [Operand];

    public override bool MayFailItself => true;
}

/// <summary>Whether a value is missing, or is there.</summary>
public sealed record IsNullTerm(BoundTerm Operand, bool IsNegated) : BoundTerm(EdmType.Boolean, $"null({Operand.Key},{IsNegated})")
{
    public override IEnumerable<BoundTerm> Parts => [Operand];
}

/// <summary>A value lies between two others, or is one of them.</summary>
public sealed record BetweenTerm(BoundTerm Operand, BoundTerm Low, BoundTerm High)
    : BoundTerm(EdmType.Boolean, $"between({Operand.Key},{Low.Key},{High.Key})")
{
    public override IEnumerable<BoundTerm> Parts => [Operand, Low, High];
}

/// <summary>A value is one of some.</summary>
public sealed record InListTerm(BoundTerm Operand, ImmutableArray<BoundTerm> Members)
    : BoundTerm(EdmType.Boolean, $"in({Operand.Key},{string.Join(',', Members.Select(m => m.Key))})")
{
    public override IEnumerable<BoundTerm> Parts => Members.Prepend(Operand);
}

/// <summary>A value is among those of an inner SELECT with one column.</summary>
public sealed record InSelectTerm(BoundTerm Operand, StatementSelect Select) : BoundTerm(EdmType.Boolean, $"in({Operand.Key},{Select.Key})")
{
    public override IEnumerable<BoundTerm> Parts => [Operand];

    public override StatementSelect Inner => Select;
}

/// <summary>An inner SELECT gives rows.</summary>
public sealed record ExistsTerm(StatementSelect Select) : BoundTerm(EdmType.Boolean, $"exists({Select.Key})")
{
    public override StatementSelect Inner => Select;
}

/// <summary>The call of a function of the filter language.</summary>
public sealed record FunctionTerm(CanonicalFunction Function, ImmutableArray<BoundTerm> Arguments, EdmType ResultType)
    : BoundTerm(ResultType, $"{Function}({string.Join(',', Arguments.Select(a => a.Key))})")
{
    public override IEnumerable<BoundTerm> Parts => Arguments;

    public override bool MayFailItself => true;
}

/// <summary>The first of some values that is not null.</summary>
public sealed record CoalesceTerm(ImmutableArray<BoundTerm> Arguments, EdmType ResultType)
    : BoundTerm(ResultType, $"coalesce({string.Join(',', Arguments.Select(a => a.Key))})")
{
    public override IEnumerable<BoundTerm> Parts => Arguments;
}

/// <param name="Otherwise">Null = NULL.</param>
public sealed record CaseTerm(ImmutableArray<(BoundTerm When, BoundTerm Then)> Branches, BoundTerm? Otherwise, EdmType ResultType)
    : BoundTerm(ResultType, $"case({string.Join(',', Branches.Select(b => $"{b.When.Key}:{b.Then.Key}"))},{Otherwise?.Key})")
{
    public override IEnumerable<BoundTerm> Parts
    {
        get
        {
            var branches = Branches.SelectMany(b => new[] { b.When, b.Then });
            return Otherwise is null ? branches : branches.Append(Otherwise);
        }
    }
}

/// <summary>A value as another type.</summary>
public sealed record CastTerm(BoundTerm Operand, EdmType ResultType) : BoundTerm(ResultType, $"cast({Operand.Key},{ResultType})")
{
    public override IEnumerable<BoundTerm> Parts => [Operand];

    public override bool MayFailItself => true;
}

/// <summary>An aggregate over the rows of a group.</summary>
/// <param name="Function">COUNT, SUM, MIN, MAX or AVG.</param>
/// <param name="Operand">Null = the rows themselves.</param>
public sealed record AggregateTerm(string Function, BoundTerm? Operand, bool IsDistinct, EdmType ResultType)
    : BoundTerm(ResultType, $"{Function}({IsDistinct},{Operand?.Key})")
{
    public override IEnumerable<BoundTerm> Parts => Operand is null ? [] : [Operand];
}

/// <summary>A column of the result.</summary>
public sealed record StatementItem(BoundTerm Term, string Name);

/// <summary>A table with what ties it to those before.</summary>
public sealed record StatementJoin(StatementTable Table, BoundTerm On);

/// <summary>A term of the order.</summary>
public sealed record StatementOrder(BoundTerm Term, bool IsDescending);

/// <summary>A SELECT.</summary>
/// <param name="Number">Tells it from the others of the statement.</param>
public sealed record StatementSelect(int Number, ImmutableArray<StatementItem> Items, StatementTable From)
{
    public bool IsDistinct { get; init; }

    public ImmutableArray<StatementJoin> Joins { get; init; } = [];

    public BoundTerm? Where { get; init; }

    public ImmutableArray<BoundTerm> GroupBy { get; init; } = [];

    public BoundTerm? Having { get; init; }

    public ImmutableArray<StatementOrder> OrderBy { get; init; } = [];

    /// <summary>Null = not written.</summary>
    public long? Limit { get; init; }

    public long? Offset { get; init; }

    internal string Key => $"select{Number}";

    /// <summary>All tables, those of inner SELECTs among them.</summary>
    public IEnumerable<StatementTable> AllTables =>
        Joins
            .Select(j => j.Table)
            .Prepend(From)
            .Concat(BoundTerm.AllOf(Terms).Select(t => t.Inner).OfType<StatementSelect>().SelectMany(s => s.OwnTables));

    private IEnumerable<StatementTable> OwnTables => Joins.Select(j => j.Table).Prepend(From);

    /// <summary>The terms of all its clauses.</summary>
    public IEnumerable<BoundTerm> Terms =>
        Items
            .Select(i => i.Term)
            .Concat(Joins.Select(j => j.On))
            .Concat(new[] { Where, Having }.OfType<BoundTerm>())
            .Concat(GroupBy)
            .Concat(OrderBy.Select(o => o.Term));

    /// <summary>The terms of all its clauses, with everything below them.</summary>
    public IEnumerable<BoundTerm> AllTerms => BoundTerm.AllOf(Terms);

    /// <summary>Whether something of it may fail to be computed for some rows.</summary>
    public bool MayFail => BoundTerm.AllOf(Terms).Any(t => t.MayFailItself);
}
