// The relational plan: which tables, joined how, under which conditions, in which order; still no SQL text.
using System.Collections.Immutable;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Requests;

namespace RapidGable.Queries;

/// <summary>A table or view under the name that the statement gives it.</summary>
public sealed record PlanTable(RowSource Source, string Alias)
{
    /// <summary>Rows that transformations make of the table's; null = the table itself.</summary>
    public ApplyPlan? Apply { get; init; }
}

/// <param name="Outer">Keeps rows without a partner.</param>
public sealed record PlanJoin(PlanTable Table, string LeftAlias, ImmutableArray<JoinPair> On, bool Outer);

/// <summary>An expression of the bound tree, or a plain column of a known table.</summary>
public abstract record PlanValue;

/// <summary>A column of a table of the statement.</summary>
public sealed record PlanColumn(string Alias, Property Property) : PlanValue;

/// <param name="Base">Path to the entity that the expression is about, from that of the statement.</param>
public sealed record PlanExpression(BoundExpression Expression, string Base = "") : PlanValue;

/// <summary>The number of all rows of the statement.</summary>
public sealed record PlanTotal : PlanValue;

/// <summary>The number of the parent that a related row belongs to.</summary>
public sealed record PlanParentNumber : PlanValue;

/// <summary>A condition of the statement.</summary>
public abstract record PlanCondition;

/// <summary>A key property equals the value given in the path.</summary>
public sealed record PlanKeyCondition(PlanColumn Column, BoundLiteral Value) : PlanCondition;

/// <param name="Base">As in <see cref="PlanExpression"/>.</param>
public sealed record PlanFilter(BoundExpression Condition, string Base = "") : PlanCondition;

/// <summary>A column equals what the relation from the other source holds.</summary>
public sealed record PlanBridgeCondition(PlanColumn Column, int Index) : PlanCondition;

/// <summary>The row was changed after the mark of a delta link.</summary>
/// <param name="Mark">0 = of the rows, 1 = of the deletions.</param>
public sealed record PlanChanged(PlanColumn Stamp, int Mark) : PlanCondition;

/// <summary>The row stands after a position in the order of the statement; <c>Nulls</c> says which position values are null.</summary>
public sealed record PlanSeek(ImmutableArray<bool> Nulls) : PlanCondition;

/// <param name="MayBeNull">Whether the term can be null for some row.</param>
public sealed record PlanOrder(PlanValue Value, bool Descending, bool MayBeNull);

/// <summary>One SELECT.</summary>
public sealed record SelectPlan(PlanTable From)
{
    public ImmutableArray<PlanJoin> Joins { get; init; } = [];

    /// <summary>Columns of the result; empty means the number of rows.</summary>
    public ImmutableArray<PlanValue> Output { get; init; } = [];

    public ImmutableArray<PlanCondition> Where { get; init; } = [];

    public ImmutableArray<PlanOrder> Order { get; init; } = [];

    public bool Limited { get; init; }

    public bool Skips { get; init; }

    /// <summary>Alias of the table behind each navigation path of an expression; the empty path is the main table.</summary>
    public ImmutableDictionary<string, string> Aliases { get; init; } = ImmutableDictionary<string, string>.Empty;
}

/// <summary>
/// The rows of one relation below the rows of another statement: what a table of related rows is joined with, what is
/// kept, in which order, and what is read of it. Its aliases start with <c>c</c>.
/// </summary>
/// <param name="From">The related table, whose alias is <c>c</c>.</param>
/// <param name="Joins">What its own expressions lead to.</param>
/// <param name="InnerJoins">How many of these the filter and the order need.</param>
/// <param name="Order">Total among the children of one parent.</param>
public sealed record RelatedPlan(
    PlanTable From,
    ImmutableArray<PlanJoin> Joins,
    int InnerJoins,
    ImmutableDictionary<string, string> Aliases,
    ImmutableArray<PlanValue> Output,
    ImmutableArray<PlanOrder> Order,
    BoundExpand Expand
)
{
    public EntitySet Set => Expand.Target;
}

/// <summary>
/// The first children of each row of a page, in the order of the page and then of their own. The first column of the
/// result is the number of the parent among the rows of the parents' statement, from 1.
/// </summary>
/// <param name="Main">The page itself.</param>
/// <param name="Parent">Number of the child statement whose rows are the parents; null = the page.</param>
/// <param name="ParentAlias">Table of the parents' statement that the relation starts from.</param>
/// <param name="On">Columns of that table and of the children that tie them.</param>
/// <param name="Link">The table between the two; null = <paramref name="On"/> ties them.</param>
public sealed record ChildrenPlan(
    SelectPlan Main,
    int? Parent,
    string ParentAlias,
    ImmutableArray<JoinPair> On,
    LinkTable? Link,
    RelatedPlan Related
)
{
    /// <summary>The key of the page's own entities, when something below is about these; empty = nothing is.</summary>
    public ImmutableArray<Property> RootKey { get; init; } = [];
}

/// <summary>
/// Related rows in another source: what the entities of the page are related by, and the rows for a batch of these. The
/// first column of the latter is the number of the batch's item that they belong to, from 1.
/// </summary>
public sealed record RemotePlan(SelectPlan Parent, ImmutableArray<Property> Own, ImmutableArray<Property> Target, RelatedPlan Related)
{
    /// <summary>Items in a batch; fewer are filled up with the last one.</summary>
    public const int BatchSize = 50;
}

/// <summary>The first part of a path that leads into another source: what the entity before that step is related by.</summary>
public sealed record BridgePlan(SelectPlan Select, ImmutableArray<Property> Own, ImmutableArray<Property> Target);

/// <summary>All statements of one request and the shape of their result.</summary>
public sealed record QueryPlan(
    SelectPlan Main,
    SelectPlan? Count,
    SelectPlan? Probe,
    ImmutableArray<ChildrenPlan> Children,
    ResultShape Shape
)
{
    public ImmutableArray<RemotePlan> Remotes { get; init; } = [];

    public BridgePlan? Bridge { get; init; }

    /// <summary>For a result whose changes can be followed: the set's changes.</summary>
    public ChangeTracking? Tracking { get; init; }
}

/// <summary>Where a parameter's value comes from when the statement runs.</summary>
public abstract record PlanParameter;

/// <param name="Type">The published type.</param>
public sealed record LiteralParameter(int Slot, EdmType Type, string? StorageForm, ValueConversion? Conversion = null) : PlanParameter;

/// <summary>A value that a query is called with, or that the service takes from the caller.</summary>
public sealed record ArgumentParameter(OperationParameter Parameter) : PlanParameter;

/// <summary>A literal of the condition of an access rule, or the caller's attribute that it stands for.</summary>
public sealed record RuleParameter(BoundRule Rule, LiteralParameter Literal) : PlanParameter;

/// <summary>A value that is part of the shape.</summary>
public sealed record ConstantParameter(object Value, EdmType Type, string? StorageForm) : PlanParameter;

/// <summary>A literal that is a regular expression.</summary>
public sealed record PatternParameter(int Slot) : PlanParameter;

/// <summary>What is stored for true.</summary>
public sealed record TruthParameter(ValueConversion Conversion) : PlanParameter;

/// <summary>A value that the relation from the other source holds.</summary>
public sealed record BridgeParameter(int Index, Property Target) : PlanParameter;

/// <summary>A part of an item of a batch.</summary>
public sealed record BatchParameter(int Item, int Part, Property Target) : PlanParameter;

/// <summary>A value that is known when the statement is made.</summary>
public sealed record ValueParameter(StoredValue Value, EdmType Type, string? StorageForm) : PlanParameter;

/// <summary>A value of the position in a next link.</summary>
public sealed record SeekParameter(int Index, EdmType Type, string? StorageForm) : PlanParameter
{
    /// <summary>For the sort term with this number.</summary>
    public static SeekParameter For(int index, PlanValue term) =>
        term switch
        {
            PlanColumn column => new SeekParameter(index, column.Property.StoredType, column.Property.StorageForm),
            PlanExpression { Expression: BoundProperty property } => new SeekParameter(
                index,
                property.Property.StoredType,
                property.Property.StorageForm
            ),
            PlanExpression expression => new SeekParameter(index, expression.Expression.Type ?? EdmType.String, null),
            _ => throw new InvalidOperationException(term.GetType().Name),
        };
}

/// <summary>A whole number of the request that counts rows.</summary>
public sealed record NumberParameter(int Slot) : PlanParameter;

/// <summary>The stamp of a mark.</summary>
public sealed record MarkParameter(int Mark, EdmType Type, string? StorageForm) : PlanParameter;

/// <summary>
/// 1 when rows with the stamp of a mark are told again, since there are others with it now; 2 when all rows are told; else 0.
/// </summary>
public sealed record MarkAgainParameter(int Mark) : PlanParameter;

/// <summary>Rows to fetch.</summary>
public sealed record LimitParameter : PlanParameter;

/// <summary>Rows to pass over.</summary>
public sealed record SkipParameter : PlanParameter;

/// <summary>Children to fetch for each parent.</summary>
/// <param name="Top">Slot of the nested <c>$top</c>; null = a page, and one to see whether more follow.</param>
public sealed record ChildLimitParameter(int? Top) : PlanParameter;

/// <summary>Children to pass over for each parent.</summary>
public sealed record ChildSkipParameter(int Slot) : PlanParameter;

/// <summary>The request's one instant.</summary>
public sealed record NowParameter(string? StorageForm) : PlanParameter;
