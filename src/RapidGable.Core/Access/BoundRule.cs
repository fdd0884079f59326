using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Access;

/// <summary>
/// A rule whose condition is bound to the whole model, hidden names and all: what callers may see is decided by it, not for it.
/// </summary>
/// <param name="Condition">What the rows fulfil; null = all do.</param>
public sealed record BoundRule(Grant Grant, BoundExpression? Condition)
{
    /// <summary>Ways to choose one value of each attribute; a caller with more is taken to have none.</summary>
    public const int MostChoices = 64;

    private IReadOnlyList<Literal> _literals = [];
    private ImmutableArray<AttributeUse> _attributes = [];

    /// <summary>Its place among the rules of the set.</summary>
    public int Ordinal { get; init; }

    /// <summary>
    /// Which of the caller's values stands for each attribute, as <c>name=place</c> joined by commas; empty = the first of each.
    /// </summary>
    public string Choice { get; private init; } = "";

    /// <summary>The attributes of the caller that the condition asks for.</summary>
    public IEnumerable<string> Attributes => _attributes.Select(a => a.Name).Distinct();

    /// <summary>
    /// The rule as it applies to a caller: itself, or once for each value of an attribute with several. Null = the caller has not all that
    /// the condition asks for, in a form that can be compared.
    /// </summary>
    public ImmutableArray<BoundRule>? For(Caller caller)
    {
        if (_attributes.IsEmpty)
            return [this];
        var values = Attributes
            .Select(name =>
                (Name: name, Values: caller.Attribute(name), Types: _attributes.Where(a => a.Name == name).Select(a => a.Type).ToList())
            )
            .ToList();
        if (
            values.Exists(v => v.Values.IsEmpty || v.Values.Any(value => v.Types.Exists(t => Lexer.Plain(value, t) is null)))
            || values.Aggregate(1L, (product, v) => Math.Min(product * v.Values.Length, int.MaxValue)) > MostChoices
        )
            return null;
        if (values.TrueForAll(v => v.Values.Length == 1))
            return [this];
        var choices = values.Aggregate<(string Name, ImmutableArray<string> Values, List<EdmType> Types), IEnumerable<string>>(
            [""],
            (all, v) => all.SelectMany(done => Enumerable.Range(0, v.Values.Length).Select(i => $"{done}{v.Name}={i},"))
        );
        return [.. choices.Select(c => this with { Choice = c })];
    }

    /// <summary>The attribute that a literal stands for; null = it is a literal.</summary>
    public string? AttributeOf(int slot) => _attributes.FirstOrDefault(a => a.Slot == slot)?.Name;

    /// <summary>A literal of the condition, or what the caller has for it.</summary>
    public Literal LiteralOf(int slot, Caller caller) =>
        AttributeOf(slot) is { } name
            ? new Literal(LiteralKind.Text, caller.Attribute(name)[ChosenFor(name)], "@" + name, "", 0)
            : _literals[slot];

    /// <summary>The value of the caller's that stands for an attribute.</summary>
    public string ValueOf(string attribute, Caller caller) => caller.Attribute(attribute)[ChosenFor(attribute)];

    /// <summary>What an attribute is compared as.</summary>
    public EdmType TypeOf(string attribute) => _attributes.First(a => a.Name == attribute).Type;

    private int ChosenFor(string name)
    {
        var mark = ("," + Choice).IndexOf($",{name}=", StringComparison.Ordinal);
        return mark < 0
            ? 0
            : int.Parse(
                Choice.AsSpan((mark + name.Length + 1)..Choice.IndexOf(',', mark)),
                System.Globalization.CultureInfo.InvariantCulture
            );
    }

    /// <summary>The fault says what is wrong with the condition, and where.</summary>
    public static Result<BoundRule> Bind(EntityModel model, EntitySet set, Grant grant) =>
        grant.Rows is not { } rows ? new BoundRule(grant, null)
        : DeclaredExpression.BindCondition(Open(model), set, rows).Is(out var condition, out var fault) ? Of(grant, condition)
        : fault;

    /// <summary>A condition about an entity that is no rule of access, such as what a written row must fulfil.</summary>
    public static Result<BoundRule> BindCondition(EntityModel model, EntitySet set, string condition) =>
        Bind(model, set, new Grant(AccessRule.Anyone, SetOperations.Read) { Rows = condition });

    /// <summary>
    /// An expression about an entity, bound like the condition of a rule: its <see cref="Condition"/> is a value of any type.
    /// </summary>
    public static Result<BoundRule> BindValue(EntityModel model, EntitySet set, string expression) =>
        DeclaredExpression.BindValue(Open(model), set, expression).Is(out var value, out var fault)
            ? Of(new Grant(AccessRule.Anyone, SetOperations.None), value)
            : fault;

    private static BoundRule Of(Grant grant, DeclaredExpression declared) =>
        new(grant, declared.Expression) { _literals = declared.Literals, _attributes = declared.Attributes };

    /// <summary>A rule may ask what a set of its own could not be asked for: the whole set, and parts of others.</summary>
    private static EntityModel Open(EntityModel model) =>
        model.With([
            .. model.Sets.Select(s =>
                s with
                {
                    ContainedIn = null,
                    RequiresFilter = false,
                    Operations = s.Operations | SetOperations.Read,
                }
            ),
        ]);
}
