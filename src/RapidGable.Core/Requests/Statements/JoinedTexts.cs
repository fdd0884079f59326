using RapidGable.Model;

namespace RapidGable.Requests.Statements;

/// <summary>
/// How large the texts become that a statement puts together, as far as it can be known before it runs: values by what they are, columns
/// by what they declare.
/// </summary>
internal sealed class JoinedTexts
{
    private readonly Dictionary<BoundTerm, (int Texts, long Characters)> _known = new(ReferenceEqualityComparer.Instance);
    private long _all;

    /// <summary>What is wrong with a concatenation, together with those before it; null = nothing.</summary>
    /// <param name="call">Its arguments have been asked about before.</param>
    public string? Fault(FunctionTerm call)
    {
        var (texts, characters) = Measure(call);
        if (texts > Limits.JoinedTexts)
            return $"A text is put together from more than {Limits.JoinedTexts} others.";
        if (characters > Limits.JoinedCharacters)
            return $"A text that is put together could have more than {Limits.JoinedCharacters} characters.";
        // One within another is counted with that one.
        _all += characters - call.Arguments.OfType<FunctionTerm>().Where(IsJoined).Sum(a => Measure(a).Characters);
        return _all > 4 * Limits.JoinedCharacters
            ? $"The texts that the statement puts together could have more than {4 * Limits.JoinedCharacters} characters."
            : null;
    }

    private static bool IsJoined(BoundTerm term) => term is FunctionTerm { Function: CanonicalFunction.Concat };

    private (int Texts, long Characters) Measure(BoundTerm term)
    {
        if (_known.TryGetValue(term, out var known))
            return known;
        return _known[term] = term switch
        {
            ValueTerm { Value: string text } => (1, text.Length),
            ColumnTerm column => (1, Math.Min(column.Property.Type.MaxLength ?? Limits.JoinedColumn, Limits.JoinedColumn)),
            _ when IsJoined(term) => term
                .Parts.Select(Measure)
                .Aggregate((0, 0L), (all, p) => (all.Item1 + p.Texts, all.Item2 + p.Characters)),
            _ => term
                .Parts.Select(Measure)
                .Aggregate((1, 0L), (all, p) => (Math.Max(all.Item1, p.Texts), Math.Max(all.Item2, p.Characters))),
        };
    }
}
