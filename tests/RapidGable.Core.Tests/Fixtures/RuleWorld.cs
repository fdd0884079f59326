using System.Collections.Immutable;
using RapidGable.Access;

namespace RapidGable.Core.Tests;

/// <summary>
/// A few rows, conditions about them in the words of a declaration and as delegates, and whom rules are about: what random rules are
/// judged by without SQL.
/// </summary>
internal static class RuleWorld
{
    internal sealed record Technician(int Id, string Region);

    internal sealed record Visit(int Id, int? TechnicianId, int? Level, string? Note);

    internal sealed record Rule(string Who, bool Denies, int Condition, ImmutableArray<string> Hide, ImmutableArray<string> Mask)
    {
        /// <summary>Words for what it lets callers do, or takes away.</summary>
        public ImmutableArray<string> May { get; init; } = ["read"];

        /// <summary>What a written row fulfils; null = the condition.</summary>
        public int? WithCheck { get; init; }
    }

    internal static readonly ImmutableArray<Technician> Technicians = [new(1, "north"), new(2, "south"), new(3, "north")];

    internal static readonly ImmutableArray<Visit> Visits =
    [
        new(1, 1, 1, "a"),
        new(2, 2, 2, null),
        new(3, 3, null, "ab"),
        new(4, null, 4, "b"),
        new(5, 2, 5, "ca"),
        new(6, 1, 3, null),
        new(7, null, null, null),
        new(8, 3, 2, "d"),
    ];

    /// <summary>Conditions as a declaration says them, and as this evaluator knows them; null = the caller lacks an attribute.</summary>
    internal static readonly ImmutableArray<(string? Text, Func<Visit, Caller, bool?> Holds)> Conditions =
    [
        (null, (_, _) => true),
        ("level ge 3", (v, _) => v.Level >= 3),
        ("level lt @level", (v, c) => Any(c, "level", level => v.Level < int.Parse(level))),
        ("technician/region eq @region", (v, c) => Any(c, "region", region => Of(v)?.Region == region)),
        ("technician/region eq @region and level gt @level", (v, c) =>
            Any(c, "region", region => Any(c, "level", level => Of(v)?.Region == region && v.Level > int.Parse(level)) == true) is { } holds
            && c.Attributes.ContainsKey("level")
                ? holds
                : null
        ),
        ("note ne null", (v, _) => v.Note is not null),
        ("contains(note,'a')", (v, _) => v.Note?.Contains('a') ?? false),
        ("not (technician/region eq 'north')", (v, _) => Of(v)?.Region != "north"),
        ("technician_id in (1,2) or level eq null", (v, _) => v.TechnicianId is 1 or 2 || v.Level is null),
        ("technician/Visits/$count gt 2", (v, _) => Of(v) is { } t && Visits.Count(o => o.TechnicianId == t.Id) > 2),
    ];

    /// <summary>Whether something holds for one of the values of an attribute; null = the caller has none.</summary>
    internal static bool? Any(Caller caller, string attribute, Func<string, bool?> holds) =>
        caller.Attributes.TryGetValue(attribute, out var values) ? values.Any(v => holds(v) == true) : null;

    internal static Technician? Of(Visit visit) => Technicians.FirstOrDefault(t => t.Id == visit.TechnicianId);

    internal static string Sql(object? value) =>
        value switch
        {
            null => "NULL",
            string text => $"'{text}'",
            var other => $"{other}",
        };

    internal static string Tables =>
        $"""
            CREATE TABLE technician (id INTEGER PRIMARY KEY, region VARCHAR(10) NOT NULL);
            CREATE TABLE visit (id INTEGER PRIMARY KEY, technician_id INTEGER REFERENCES technician (id), level INTEGER, note VARCHAR(10));
            INSERT INTO technician VALUES {string.Join(", ", Technicians.Select(t => $"({t.Id}, '{t.Region}')"))};
            INSERT INTO visit VALUES {string.Join(
                ", ",
                Visits.Select(v => $"({v.Id}, {Sql(v.TechnicianId)}, {Sql(v.Level)}, {Sql(v.Note)})")
            )};
            """;

    internal static bool Applies(Rule rule, Caller caller) =>
        rule.Who switch
        {
            "anyone" => true,
            "signed-in" => caller.IsSignedIn,
            var roles => caller.IsSignedIn && roles.Trim('[', ']').Split(", ").Any(caller.Roles.Contains),
        };
}
