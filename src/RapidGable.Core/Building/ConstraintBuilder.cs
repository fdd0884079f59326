using System.Collections.Immutable;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Building;

/// <summary>Rules about rows as expressions of metadata documents, for those that can be told so.</summary>
/// <param name="set">The set whose rows the rule is about.</param>
/// <param name="rule">The rule, bound to the whole model.</param>
internal sealed class ConstraintBuilder(EntityModel model, EntitySet set, BoundRule rule)
{
    private readonly Dictionary<string, (string Path, EntityType Type)> _scopes = new() { [""] = ("", set.Type) };

    /// <summary>The rule with its form, where documents have one and it is not about the caller, and with what it is about.</summary>
    public RowRule Describe(RowRule declared)
    {
        if (rule.Condition is null)
            return declared;
        var about = About(rule.Condition).ToList();
        return declared with
        {
            Form = rule.Attributes.Any() ? null : Of(rule.Condition),
            About = about.Contains(null) ? null : [.. about.Select(p => p!)],
        };
    }

    /// <summary>Every path in an expression, also behind its relations; null = one that has none.</summary>
    private IEnumerable<string?> About(BoundExpression expression)
    {
        IEnumerable<string?> own = expression switch
        {
            BoundProperty property =>
            [
                Path(property.Hops, property.Property, _scopes[property.Scope].Type) is { } path
                    ? _scopes[property.Scope].Path + path.Text
                    : null,
            ],
            BoundRelated related => [_scopes[related.Scope].Path + string.Join('/', related.Hops.Select(h => h.Name))],
            BoundOverRelated over => [Enter(over)],
            BoundRootValue or BoundSearchTerm => [null],
            _ => [],
        };
        return own.ToList().Concat(expression.Operands.SelectMany(About));
    }

    private string Enter(BoundOverRelated over)
    {
        var path = _scopes[over.OuterScope].Path + string.Join('/', over.Hops.Append(over.Navigation).Select(h => h.Name));
        _scopes[over.Scope] = (path + "/", over.Target.Type);
        return path;
    }

    private ConstraintExpression? Of(BoundExpression expression) =>
        expression switch
        {
            BoundLogical logical => Node(logical.Operator.ToString(), logical.Left, logical.Right),
            BoundComparison
            {
                Operator: BinaryOperator.Eq
                    or BinaryOperator.Ne
                    or BinaryOperator.Gt
                    or BinaryOperator.Ge
                    or BinaryOperator.Lt
                    or BinaryOperator.Le
            } comparison => Node(comparison.Operator.ToString(), comparison.Left, comparison.Right),
            BoundNot not => Node("Not", not.Operand),
            BoundNegation negation => Node("Neg", negation.Operand),
            BoundArithmetic arithmetic => Node(arithmetic.Operator.ToString(), arithmetic.Left, arithmetic.Right),
            BoundCall call => Node("Apply", [.. call.Arguments]) is { } apply
                ? apply with
                {
                    Text =
                        "odata."
                        + (
                            call.Function == CanonicalFunction.MatchesPattern
                                ? "matchesPattern"
                                : call.Function.ToString().ToLowerInvariant()
                        ),
                }
                : null,
            BoundIn isIn => In(isIn),
            BoundTruth truth => Of(truth.Operand),
            BoundProperty { Scope: "" } property => Path(property.Hops, property.Property, set.Type),
            BoundRelated { Scope: "" } related => new ConstraintExpression("Path", string.Join('/', related.Hops.Select(h => h.Name))),
            BoundNull => new ConstraintExpression("Null", ""),
            BoundLiteral literal => Constant(rule.LiteralOf(literal.Slot, Caller.Anonymous).Value, literal.LiteralType),
            _ => null,
        };

    private ConstraintExpression? Node(string element, params BoundExpression[] operands)
    {
        var of = operands.Select(Of).ToList();
        return of.Contains(null) ? null : new ConstraintExpression(element, "", [.. of.Select(o => o!)]);
    }

    /// <summary>One of some values: a list of comparisons, which both versions have.</summary>
    private ConstraintExpression? In(BoundIn isIn)
    {
        if (Of(isIn.Operand) is not { } operand)
            return null;
        var members = isIn.Members.Select(Of).ToList();
        if (members.Contains(null))
            return null;
        var all = members
            .Select(m => m!)
            .Concat(isIn.WithNull ? [new ConstraintExpression("Null", "")] : Enumerable.Empty<ConstraintExpression>())
            .Select(m => new ConstraintExpression("Eq", "", [operand, m]))
            .ToList();
        return all.Count == 0 ? null : all.Skip(1).Aggregate(all[0], (left, right) => new ConstraintExpression("Or", "", [left, right]));
    }

    private ConstraintExpression? Path(ImmutableArray<NavigationProperty> hops, Property property, EntityType from)
    {
        var type = hops is [.., var last] ? model.Target(last).Type : from;
        var group = type.Properties.FirstOrDefault(p => p.IsGroup && p.Members.Any(m => m.Column == property.Column));
        return group is null && type.FindProperty(property.Name) is null
            ? null
            : new ConstraintExpression(
                "Path",
                string.Join('/', hops.Select(h => h.Name).Concat(group is null ? [property.Name] : new[] { group.Name, property.Name }))
            );
    }

    private static ConstraintExpression? Constant(object value, EdmType type)
    {
        var element = type.Kind switch
        {
            EdmKind.Boolean => "Bool",
            EdmKind.String => "String",
            EdmKind.Decimal => "Decimal",
            EdmKind.Single or EdmKind.Double => "Float",
            EdmKind.Date => "Date",
            EdmKind.TimeOfDay => "TimeOfDay",
            EdmKind.DateTimeOffset => "DateTimeOffset",
            EdmKind.Duration => "Duration",
            EdmKind.Guid => "Guid",
            _ => type.IsIntegral ? "Int" : null,
        };
        return element is null ? null : new ConstraintExpression(element, ValueConversion.Text(value));
    }
}
