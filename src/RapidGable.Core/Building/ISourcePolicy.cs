using RapidGable.Declarations;

namespace RapidGable.Building;

/// <summary>Where sources of a workspace may lead, and which variables they may use; the operator decides.</summary>
public interface ISourcePolicy
{
    /// <summary>Why a source is not opened; null = it may be.</summary>
    /// <param name="host">The server that its settings lead to; null = it is a file.</param>
    string? Refusal(SourceDeclaration source, string folder, string? host);

    /// <summary>The same where nothing is connected, so that nothing is learned from what somebody types.</summary>
    ISourcePolicy Reading { get; }

    /// <summary>The same where some variables have values of their own, which whoever asks has brought along.</summary>
    ISourcePolicy Except(IEnumerable<string> variables);
}
