using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Declarations;

/// <summary>Reads <c>rules</c>: who may do each operation, or a list of rules with rows and columns.</summary>
internal static class RuleReader
{
    private static readonly (string Word, SetOperations Operation)[] Operations =
    [
        ("read", SetOperations.Read),
        ("create", SetOperations.Create),
        ("update", SetOperations.Update),
        ("delete", SetOperations.Delete),
        ("call", SetOperations.Call),
    ];

    /// <summary>Null when the mapping says nothing about rules.</summary>
    /// <param name="ofService">The rules hold for sets of different columns.</param>
    public static ImmutableArray<RuleDeclaration>? Read(MappingReader reader, bool ofService)
    {
        switch (reader.Node("rules"))
        {
            case null:
                return null;
            case YamlSequence list:
                return
                [
                    .. list
                        .Items.Select(i =>
                            i is YamlMapping item
                                ? Rule(new MappingReader(item, reader.Diagnostics), ofService)
                                : reader.Wrong<RuleDeclaration>(i, "each rule holds names with values, such as 'who' and 'may'")
                        )
                        .OfType<RuleDeclaration>(),
                ];
            default:
                if (reader.Mapping("rules") is not { } rules)
                    return [];
                var read = Operations
                    .SelectMany(o =>
                        rules.Node(o.Word) is null
                            ? []
                            : new[] { new RuleDeclaration(Who(rules, o.Word), o.Operation, rules.KeyLocation(o.Word)) }
                    )
                    .ToImmutableArray();
                rules.ReportUnknown("'rules'");
                return read;
        }
    }

    private static RuleDeclaration? Rule(MappingReader rule, bool ofService)
    {
        var diagnostics = rule.Diagnostics;
        var denies = rule.Node("deny") is not null;
        if (denies && rule.Node("may") is not null)
            diagnostics.Error(
                "rule",
                "A rule either lets callers do something, with 'may', or takes it away, with 'deny'.",
                rule.KeyLocation("deny")
            );
        var words = rule.Texts(denies ? "deny" : "may");
        if (words.IsEmpty)
            diagnostics.Error(
                "rule",
                "A rule says what callers may do, with 'may', or what they never may, with 'deny'.",
                rule.Location,
                $"Operations: {string.Join(", ", Operations.Select(o => o.Word))}."
            );
        var may = SetOperations.None;
        foreach (var word in words)
        {
            if (Operations.FirstOrDefault(o => o.Word == word.Value) is { Word: not null } found)
                may |= found.Operation;
            else
                diagnostics.Error(
                    "rule",
                    $"'{word.Value}' is not an operation.{NearestName.Hint(word.Value, Operations.Select(o => o.Word))}",
                    word.Location,
                    $"Operations: {string.Join(", ", Operations.Select(o => o.Word))}."
                );
        }
        if (rule.Node("who") is null)
            diagnostics.Error(
                "rule",
                "A rule says with 'who' whom it is about.",
                rule.Location,
                "Write anyone, signed-in, or a list of roles."
            );
        var read = new RuleDeclaration(Who(rule, "who"), may, rule.Location)
        {
            Denies = denies,
            Rows = rule.Text("rows"),
            Hide = rule.Texts("hide"),
            Mask = rule.Texts("mask"),
            WithCheck = rule.Text("with-check"),
            LargestPage = rule.Number("largest-page", 1, 1_000_000),
            LargestCost = rule.Number("largest-cost", 1, int.MaxValue),
        };
        rule.ReportUnknown("a rule");
        if (read.WithCheck is not null && (denies || (may & (SetOperations.Create | SetOperations.Update)) == SetOperations.None))
            diagnostics.Error(
                "rule",
                "'with-check' is about rows that are written, so it belongs to rules that let callers create or update.",
                rule.KeyLocation("with-check")
            );
        if ((read.LargestPage ?? read.LargestCost) is not null && (denies || !may.HasFlag(SetOperations.Read)))
            diagnostics.Error(
                "rule",
                "'largest-page' and 'largest-cost' are about reading, so they belong to rules that let callers read.",
                rule.Location
            );
        if (ofService && (read.Rows is not null || read.WithCheck is not null || !read.Hide.IsEmpty || !read.Mask.IsEmpty))
            diagnostics.Error(
                "rule",
                "'rows', 'with-check', 'hide' and 'mask' are about columns of rows, so they belong to the rules of a set or a query.",
                rule.Location
            );
        if (denies && !(read.Hide.IsEmpty && read.Mask.IsEmpty))
            diagnostics.Error(
                "rule",
                "A rule with 'deny' takes whole rows away; 'hide' and 'mask' belong to rules with 'may'.",
                rule.Location
            );
        return read;
    }

    internal static AccessRule Who(MappingReader reader, string name)
    {
        var diagnostics = reader.Diagnostics;
        var words = reader.Texts(name);
        switch (words is [var single] ? single.Value : "")
        {
            case "anyone":
                return AccessRule.Anyone;
            case "signed-in":
                return AccessRule.SignedIn;
            case "nobody":
                return AccessRule.Nobody;
        }
        foreach (var word in words)
        {
            if (word.Value is "anyone" or "signed-in" or "nobody")
                diagnostics.Error("rule", $"'{word.Value}' stands alone, not in a list of roles.", word.Location);
            else if (!AccessRule.IsRole(word.Value))
                diagnostics.Error(
                    "rule",
                    $"'{word.Value}' cannot be a role: it takes small letters, digits and '-'.",
                    word.Location,
                    "Write anyone, signed-in, nobody, or a list of roles."
                );
            else if (NearestName.Of(word.Value, ["anyone", "signed-in", "nobody"]) is { } near)
                diagnostics.Warning("rule", $"'{word.Value}' is taken as a role's name. Did you mean '{near}'?", word.Location);
        }
        return words.IsEmpty ? AccessRule.Nobody : AccessRule.ForRoles(words.Select(w => w.Value));
    }
}
