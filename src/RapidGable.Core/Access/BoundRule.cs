using System.Collections.Immutable;
using System.Text.RegularExpressions;
using RapidGable.Model;
using RapidGable.Requests;

namespace RapidGable.Access;

/// <summary>
/// A rule whose condition is bound to the whole model, hidden names and all: what callers may see is decided by it, not for it.
/// </summary>
/// <param name="Condition">What the rows fulfil; null = all do.</param>
public sealed partial record BoundRule(Grant Grant, BoundExpression? Condition)
{
    private const int MostAttributes = 4;

    /// <summary>The name that a value gets to be asked for.</summary>
    private const string Named = " as gable_value";

    /// <summary>Ways to choose one value of each attribute; a caller with more is taken to have none.</summary>
    public const int MostChoices = 64;

    private IReadOnlyList<Literal> _literals = [];
    private ImmutableArray<(int Slot, string Name, EdmType Type)> _attributes = [];

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
    public string? AttributeOf(int slot) => _attributes.FirstOrDefault(a => a.Slot == slot).Name;

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
        grant.Rows is { } rows ? Bind(model, set, grant, rows, isValue: false) : new BoundRule(grant, null);

    /// <summary>
    /// An expression about an entity, bound like the condition of a rule: its <see cref="Condition"/> is a value of any type.
    /// </summary>
    public static Result<BoundRule> BindValue(EntityModel model, EntitySet set, string expression) =>
        Bind(model, set, new Grant(AccessRule.Anyone, SetOperations.None), expression, isValue: true);

    private static Result<BoundRule> Bind(EntityModel model, EntitySet set, Grant grant, string rows, bool isValue)
    {
        var names = AttributePattern().Matches(QuotedPattern().Replace(rows, "")).Select(m => m.Groups[1].Value).Distinct().ToList();
        if (names.Count > MostAttributes)
            return new RequestFault(400, "too-large", $"It asks for more than {MostAttributes} attributes of the caller.");
        // A rule may ask what a set of its own could not be asked for: the whole set, and parts of others.
        var free = model.With([
            .. model.Sets.Select(s =>
                s with
                {
                    ContainedIn = null,
                    RequiresFilter = false,
                    Operations = s.Operations | SetOperations.Read,
                }
            ),
        ]);
        RequestFault? first = null;
        // Mistakes of writing are told of the expression alone, without the name that it gets here.
        if (isValue && SyntaxFault(set, rows, names) is { } mistake)
            return mistake;
        foreach (var samples in Samples(names.Count))
        {
            var query =
                (
                    isValue
                        ? $"$compute={Uri.EscapeDataString(rows)}{Uri.EscapeDataString(Named)}&$select=gable_value"
                        : "$filter=" + Uri.EscapeDataString(rows)
                ) + string.Concat(names.Zip(samples, (n, s) => $"&@{n}={Uri.EscapeDataString(s)}"));
            if (
                !RequestAddress.Read(set.Name, query).Is(out var address, out var fault)
                || !LexedRequest.Read(address).Is(out var lexed, out fault)
                || !RequestParser.Parse(lexed).Is(out var syntax, out fault)
                || !RequestBinder.Bind(syntax, free).Is(out var bound, out fault)
            )
            {
                first ??=
                    isValue && fault.Text?.EndsWith(Named, StringComparison.Ordinal) == true
                        ? fault with
                        {
                            Text = fault.Text[..^Named.Length],
                        }
                        : fault;
                // Another kind of value may fit what an attribute is compared with.
                if (fault.Code == "type" && names.Count > 0)
                    continue;
                return first;
            }
            var filter = isValue ? bound.Select!.Computed[0].Expression : bound.Filter!;
            var uses = LiteralsOf(filter).Where(l => lexed.Literals[l.Slot].Target.StartsWith('@')).Distinct().ToList();
            var unused = lexed
                .Literals.Select((l, slot) => (l.Target, slot))
                .FirstOrDefault(p => p.Target.StartsWith('@') && uses.All(u => u.Slot != p.slot));
            if (unused.Target is { } lost)
                return RequestFault.NotImplemented($"{lost} cannot stand where it does; compare a property with it.", "$filter");
            return new BoundRule(grant, filter)
            {
                _literals = lexed.Literals,
                _attributes = [.. uses.Select(u => (u.Slot, lexed.Literals[u.Slot].Target[1..], u.LiteralType))],
            };
        }
        return first!;
    }

    private static RequestFault? SyntaxFault(EntitySet set, string expression, List<string> attributes) =>
        RequestAddress
            .Read(set.Name, "$filter=" + Uri.EscapeDataString(expression) + string.Concat(attributes.Select(a => $"&@{a}='a'")))
            .Is(out var address, out var fault)
        && LexedRequest.Read(address).Is(out var lexed, out fault)
        && RequestParser.Parse(lexed).Is(out _, out fault)
            ? null
            : fault;

    /// <summary>Values of different kinds for some attributes, in all combinations, texts first.</summary>
    private static IEnumerable<ImmutableArray<string>> Samples(int count) =>
        Enumerable
            .Range(0, count)
            .Aggregate<int, IEnumerable<ImmutableArray<string>>>(
                [
                    [],
                ],
                (all, _) =>
                    all.SelectMany(done =>
                        new[] { "'a'", "1", "2024-01-01", "00000000-0000-0000-0000-000000000000", "true" }.Select(s => done.Add(s))
                    )
            );

    private static IEnumerable<BoundLiteral> LiteralsOf(BoundExpression expression) =>
        (
            expression is BoundLiteral literal ? [literal]
            : expression is BoundIn isIn ? isIn.Members
            : Enumerable.Empty<BoundLiteral>()
        ).Concat(expression.Operands.SelectMany(LiteralsOf));

    [GeneratedRegex("@([A-Za-z_][A-Za-z0-9_]*)")]
    private static partial Regex AttributePattern();

    [GeneratedRegex("'[^']*'")]
    private static partial Regex QuotedPattern();
}
