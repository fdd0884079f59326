using RapidGable.Expressions;

namespace RapidGable.Requests;

/// <summary>
/// A request in the spelling of some protocol, read up to its literals. Requests that differ only in literals have the same shape, and
/// share everything that later stages make.
/// </summary>
public interface ISpelledRequest
{
    /// <summary>The same for requests that differ only in literals; no two protocols have one in common.</summary>
    string Shape { get; }

    /// <summary>The literals, by slot.</summary>
    IReadOnlyList<Literal> Literals { get; }

    /// <summary>Where the page starts; null = at the beginning.</summary>
    PagePosition? Position { get; }

    /// <summary>How far the caller has followed changes; null = they do not.</summary>
    ChangePosition? Since { get; }

    /// <summary>The asked order as it is written; empty = none is asked.</summary>
    string OrderText { get; }

    /// <summary>The work that the request may take; its own.</summary>
    StepBudget Steps { get; }

    /// <summary>The syntax tree; the fault says where the text is no request.</summary>
    Result<RequestSyntax> Parse();
}
