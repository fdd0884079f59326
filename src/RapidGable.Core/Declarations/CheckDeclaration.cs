using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Declarations;

/// <summary>An expectation that is kept: somebody can, or cannot, do something.</summary>
/// <param name="Title">What it says, for people.</param>
/// <param name="Service">The service that it is about.</param>
/// <param name="Set">The set.</param>
/// <param name="Can">They can; else they cannot.</param>
/// <param name="Operation">What it is that they do.</param>
public sealed record AccessCheckDeclaration(
    string Title,
    Located<string> Service,
    Located<string> Set,
    bool Can,
    SetOperations Operation,
    SourceLocation Location
)
{
    /// <summary>The caller's roles; null = they are not signed in.</summary>
    public ImmutableArray<string>? Roles { get; init; }

    public ImmutableArray<(string Name, string Value)> Attributes { get; init; } = [];

    /// <summary>The rows that it is about, as a filter expression over all that there is; null = any.</summary>
    public Located<string>? Rows { get; init; }

    /// <summary>The property whose values it is about, by its public name; null = the rows as such.</summary>
    public string? Property { get; init; }
}

/// <summary>Reads <c>checks/*.yaml</c>.</summary>
internal static class CheckReader
{
    public static ImmutableArray<AccessCheckDeclaration> Read(MappingReader file)
    {
        var found = ImmutableArray.CreateBuilder<AccessCheckDeclaration>();
        switch (file.Node("access"))
        {
            case null:
                break;
            case YamlSequence list:
                foreach (var item in list.Items)
                {
                    if (item is not YamlMapping mapping)
                        file.Wrong<string>(item, "each check holds names with values, such as 'as' and 'cannot'");
                    else if (One(new MappingReader(mapping, file.Diagnostics)) is { } check)
                        found.Add(check);
                }
                break;
            case var other:
                file.Wrong<string>(other, "'access' must be a list of checks");
                break;
        }
        file.ReportUnknown("a file of checks");
        return found.ToImmutable();
    }

    private static AccessCheckDeclaration? One(MappingReader check)
    {
        var diagnostics = check.Diagnostics;
        var (service, set) = (
            check.RequiredText("service", "the service that it is about"),
            check.RequiredText("set", "the set that it is about")
        );
        var (can, cannot) = (check.Text("can"), check.Text("cannot"));
        var word = can ?? cannot;
        if (word is null || (can is not null && cannot is not null))
            diagnostics.Error(
                "check",
                "A check says with 'can' or 'cannot' what somebody does.",
                check.Location,
                $"Operations: {string.Join(", ", Grant.OperationWords)}."
            );
        else if (!Grant.OperationWords.Contains(word.Value))
            diagnostics.Error(
                "check",
                $"'{word.Value}' is not an operation.{NearestName.Hint(word.Value, Grant.OperationWords)}",
                word.Location,
                $"Operations: {string.Join(", ", Grant.OperationWords)}."
            );
        var who = check.Texts("as");
        if (who.IsEmpty)
            diagnostics.Error(
                "check",
                "A check says with 'as' who it is about.",
                check.Location,
                "Write anyone, signed-in, or a list of roles."
            );
        foreach (var role in who.Where(w => !AccessRule.IsRole(w.Value) || (who.Length > 1 && w.Value is "anyone" or "signed-in")))
            diagnostics.Error(
                "check",
                $"'{role.Value}' cannot be a role here.",
                role.Location,
                "Write anyone, signed-in, or a list of roles."
            );
        var (rows, property, attributes, title) = (
            check.Text("rows"),
            check.Text("property"),
            check.Pairs("attributes"),
            check.Text("title")
        );
        check.ReportUnknown("a check");
        if (service is null || set is null || word is null || !Grant.OperationWords.Contains(word.Value))
            return null;
        if (word.Value != "read" && (rows ?? property) is { } odd)
            diagnostics.Error("check", "'rows' and 'property' belong to checks of reading.", odd.Location);
        return new AccessCheckDeclaration(
            title?.Value ?? $"{string.Join(", ", who.Select(w => w.Value))} {(can is null ? "cannot" : "can")} {word.Value} {set.Value}",
            service,
            set,
            can is not null,
            Enum.Parse<SetOperations>(word.Value, ignoreCase: true),
            check.Location
        )
        {
            Roles =
                who is [{ Value: "anyone" }] ? null
                : who is [{ Value: "signed-in" }] ? []
                : [.. who.Select(w => w.Value)],
            Attributes = [.. attributes.Select(a => (a.Item1.Value, a.Item2.Value))],
            Rows = rows,
            Property = property?.Value,
        };
    }
}
