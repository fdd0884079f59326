using System.Collections.Immutable;
using System.Text;
using RapidGable.Model;

namespace RapidGable.Expressions;

/// <summary>A place of an expression at which an attribute of the caller stands.</summary>
/// <param name="Slot">As in <see cref="BoundLiteral.Slot"/>.</param>
/// <param name="Name">Without the at sign.</param>
/// <param name="Type">What it is compared with, or computed as.</param>
public sealed record AttributeUse(int Slot, string Name, EdmType Type);

/// <summary>
/// An expression of a declaration, such as the condition of a rule or a computed value: the language of <c>$filter</c>, in which
/// <c>@name</c> is an attribute of the caller. An attribute takes the type of what it meets.
/// </summary>
/// <param name="Expression">Bound to one set of a model.</param>
/// <param name="Literals">By slot; an attribute has one too, whose <see cref="Literal.Target"/> is its name with the at sign.</param>
/// <param name="Attributes">Each with its type; one that is used as two types is there twice.</param>
public sealed record DeclaredExpression(
    BoundExpression Expression,
    IReadOnlyList<Literal> Literals,
    ImmutableArray<AttributeUse> Attributes
)
{
    /// <summary>Attributes of the caller in one expression at most.</summary>
    private const int MostAttributes = 4;

    // What is at fault, in messages.
    private const string Condition = "the condition";
    private const string Value = "the expression";

    /// <summary>An expression that is true or false.</summary>
    /// <returns>The fault says what is wrong and where in the text.</returns>
    public static Result<DeclaredExpression> BindCondition(EntityModel model, EntitySet set, string text) =>
        Bind(text, Condition, syntax => new ExpressionBinder(model, set, Condition, text, isFilter: true).BindCondition(syntax));

    /// <summary>An expression of any type.</summary>
    /// <returns>As <see cref="BindCondition"/>.</returns>
    public static Result<DeclaredExpression> BindValue(EntityModel model, EntitySet set, string text) =>
        Bind(text, Value, syntax => new ExpressionBinder(model, set, Value, text, isFilter: false).BindComputed(syntax));

    private static Result<DeclaredExpression> Bind(string text, string target, Func<ExpressionSyntax, BoundExpression> bind)
    {
        try
        {
            var literals = new List<Literal>();
            var reader = new TokenReader(new Lexer(text, target, literals, new StringBuilder()).Read(), target, text);
            var names = new CallerAttributes(literals);
            var syntax = new ExpressionParser(reader, names, new StepBudget()).Parse();
            reader.ExpectEnd();
            if (names.Slots.Count > MostAttributes)
                throw reader.Fault("too-large", $"It asks for more than {MostAttributes} attributes of the caller.", 0);
            var bound = bind(syntax);
            if (ExpressionSize.Fault(bound, target) is { } tooLarge)
                return tooLarge;
            var used = LiteralsOf(bound).Where(l => names.Slots.ContainsValue(l.Slot)).Distinct().ToList();
            var unused = names.Slots.FirstOrDefault(n => used.TrueForAll(u => u.Slot != n.Value)).Key;
            if (unused is not null)
                return RequestFault.NotImplemented($"{unused} cannot stand where it does; compare a property with it.", target);
            return new DeclaredExpression(
                bound,
                literals,
                [.. used.Select(u => new AttributeUse(u.Slot, literals[u.Slot].Target[1..], u.LiteralType)).Distinct()]
            );
        }
        catch (FaultException exception)
        {
            return exception.Fault;
        }
    }

    private static IEnumerable<BoundLiteral> LiteralsOf(BoundExpression expression) =>
        expression switch
        {
            BoundLiteral literal => [literal],
            BoundIn isIn => isIn.Members.Concat(Inside(isIn)),
            _ => Inside(expression),
        };

    private static IEnumerable<BoundLiteral> Inside(BoundExpression expression) => expression.Operands.SelectMany(LiteralsOf);

    /// <summary>A slot for each name, in the order of their first use.</summary>
    private sealed class CallerAttributes(List<Literal> literals) : NamedValues
    {
        public Dictionary<string, int> Slots { get; } = [];

        public override bool MayBeMembers => true;

        public override TokenReader List(NameSyntax name, TokenReader reader) =>
            throw reader.NotImplemented(
                $"{name.Text} cannot stand for a list; compare with eq, which is tried with each value of the attribute.",
                name.Position
            );

        public override ExpressionSyntax Value(NameSyntax name)
        {
            if (!Slots.TryGetValue(name.Text, out var slot))
            {
                slot = Slots[name.Text] = literals.Count;
                literals.Add(new Literal(LiteralKind.Text, "", name.Text, "", 0));
            }
            return new AttributeSyntax(slot, name.Position);
        }
    }
}
