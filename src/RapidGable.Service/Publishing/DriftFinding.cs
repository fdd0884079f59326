using System.Collections.Immutable;

namespace RapidGable.Service.Publishing;

/// <summary>Something in which a database has moved away from the published revision.</summary>
/// <param name="Service">Null = it concerns the workspace.</param>
/// <param name="Text">What is different, in a sentence.</param>
/// <param name="Breaks">What is published fails, or gives something else than it says.</param>
/// <param name="Affected">Who may read the set, in words; empty = it is not known of which set it is.</param>
public sealed record DriftFinding(string? Service, string Text, bool Breaks, ImmutableArray<string> Affected)
{
    /// <summary>Two findings that say the same are one.</summary>
    public bool Equals(DriftFinding? other) => other is not null && (Service, Text) == (other.Service, other.Text);

    public override int GetHashCode() => HashCode.Combine(Service, Text);
}
