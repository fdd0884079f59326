using System.Collections.Immutable;

namespace RapidGable.Model;

/// <summary>A condition about an entity in the form that metadata documents have for expressions (CSDL 14.4).</summary>
/// <param name="Element">The expression's name there: <c>And</c>, <c>Eq</c>, <c>Apply</c>, <c>Path</c>, <c>Int</c>, …</param>
/// <param name="Text">The constant, the path or the function; empty = its operands say all.</param>
public sealed record ConstraintExpression(string Element, string Text, ImmutableArray<ConstraintExpression> Operands)
{
    public ConstraintExpression(string element, string text)
        : this(element, text, []) { }

    /// <summary>Every path in it.</summary>
    public IEnumerable<string> Paths => Element == "Path" ? [Text] : Operands.SelectMany(o => o.Paths);
}
