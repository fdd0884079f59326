using RapidGable.Model;

namespace RapidGable.Declarations;

/// <summary>How one kind of change of a set is carried out.</summary>
/// <param name="Operation">What it carries out: create, update or delete.</param>
/// <param name="Text">The statements; null = a routine does it.</param>
/// <param name="Routine">The routine; null = the statements do it.</param>
public sealed record WriteDeclaration(SetOperations Operation, Located<string>? Text, Located<string>? Routine, SourceLocation Location)
{
    /// <summary>For a routine: parameter -> the column whose value it takes, where it is not called like it.</summary>
    public System.Collections.Immutable.ImmutableArray<(Located<string> Parameter, Located<string> Column)> Parameters { get; init; } = [];
}

/// <summary>Reads <c>writes</c> of a set.</summary>
internal sealed partial class SetReader
{
    private static readonly string[] WriteWords = ["create", "update", "delete"];

    private IEnumerable<WriteDeclaration> Writes(MappingReader set)
    {
        if (set.Mapping("writes") is not { } writes)
            yield break;
        foreach (var word in WriteWords)
        {
            if (writes.Mapping(word) is not { } reader)
                continue;
            var (statement, file, routine) = (reader.Text("statement"), reader.Text("file"), reader.Text("routine"));
            if (new[] { statement, file, routine }.Count(w => w is not null) != 1)
                diagnostics.Error(
                    "writes",
                    $"'{word}' is carried out by a 'statement', by a 'file' that holds it, or by a 'routine' of the database.",
                    reader.Location
                );
            var text = statement ?? (file is null ? null : TextOf(file));
            var parameters = reader.Pairs("parameters");
            if (routine is null && parameters.Length > 0)
                diagnostics.Error("writes", "A statement takes columns by their names, as :name.", reader.KeyLocation("parameters"));
            reader.ReportUnknown($"'{word}'");
            if ((text ?? routine) is not null)
                yield return new WriteDeclaration(Enum.Parse<SetOperations>(word, ignoreCase: true), text, routine, reader.Location)
                {
                    Parameters = [.. parameters],
                };
        }
        writes.ReportUnknown("'writes'");
    }
}
