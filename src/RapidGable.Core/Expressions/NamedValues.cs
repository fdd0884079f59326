namespace RapidGable.Expressions;

/// <summary>What stands for names with an at sign in an expression: parameter aliases of an address, or attributes of the caller.</summary>
internal abstract class NamedValues
{
    /// <summary>The list that a name stands for after <c>in</c>; null = it is not given.</summary>
    /// <param name="name">With the at sign.</param>
    /// <exception cref="FaultException">A name cannot stand for a list.</exception>
    public abstract TokenReader? List(NameSyntax name, TokenReader reader);

    /// <summary>Whether a name may be a member of a list in parentheses.</summary>
    public virtual bool MayBeMembers => false;

    /// <summary>What a name stands for in an expression.</summary>
    /// <param name="name">With the at sign.</param>
    public abstract ExpressionSyntax Value(NameSyntax name);
}
