using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Publishing;

namespace RapidGable.Changes;

/// <summary>Holds a written row to the rules of its set, in the transaction that wrote it. All broken ones are told at once.</summary>
internal sealed class RowJudge(ChangeUnit unit, WriteAccess access, ChangeStatements statements, EntityFinder finder)
{
    private readonly PublishedService _service = unit.Service;

    /// <param name="path">Where the entity stands in the body, with a slash at its end.</param>
    /// <param name="columns">What was written.</param>
    public async Task CheckAsync(EntityRow row, string path, IReadOnlyList<ColumnValue> columns)
    {
        var faults = new List<RequestFault>();
        foreach (var column in columns.Where(c => c is { Value: not null, Property.Rules.Exists: not null }))
        {
            if (await ExistsAsync(column, path) is { } fault)
                faults.Add(fault);
        }
        foreach (
            var rule in access.Set.RowRules.Where(r =>
                r.On.HasFlag(access.Operation) && (r.Who is null || AccessGate.Allows(r.Who, unit.Caller))
            )
        )
        {
            if ((rule.Condition is null ? await IsUniqueAsync(row, rule) : await FulfilsAsync(row, rule.Condition)) is false)
                faults.Add(Broken(rule, row.Set, path));
        }
        if (faults.Count > 0)
            throw new FaultException(RequestFault.Of(faults));
    }

    private async Task<RequestFault?> ExistsAsync(ColumnValue column, string path)
    {
        var rule = column.Property.Rules.Exists!;
        var set = _service.Model.FindSet(rule.Set)!;
        return await finder.HasAsync(rule.Set, [(set.Type.FindProperty(rule.Property)!, column.Value!)], column.Property.RefersToAll)
            ? null
            : new RequestFault(
                422,
                "rule-broken",
                column.Property.Rules.Message ?? $"'{path}{column.Property.Name}' is not the {rule.Property} of any of {rule.Set}.",
                path + column.Property.Name
            );
    }

    private async Task<bool> FulfilsAsync(EntityRow row, string condition) =>
        _service.ConditionOf(access.Set, condition).For(unit.Caller) is { Length: > 0 } rules
        && await statements.ExistsAsync(AccessGate.Fulfilling(_service.Model.Stored, access.Set, rules), access.Set.Type.Key, row.Where);

    private async Task<bool> IsUniqueAsync(EntityRow row, RowRule rule)
    {
        var columns = rule
            .Unique.Select(c =>
                access.Set.Type.Properties.SelectMany(p => p.Leaves).Concat(access.Set.Type.Hidden).First(p => p.Column == c)
            )
            .ToList();
        // Two that write the same at once would not see each other.
        await statements.SerializeAsync($"gable unique {access.Set.Source}.{string.Join('.', rule.Unique)}");
        var values = await statements.FindAsync(access.Set.Source, columns, row.Where);
        // As in the databases, nulls are alike to none.
        if (values is null || values.Contains(null))
            return true;
        return (await statements.FindAllAsync(access.Set.Source, access.Set.Type.Key, columns.Select((c, i) => (c, values[i]!)))).Count < 2;
    }

    private RequestFault Broken(RowRule rule, EntitySet set, string path)
    {
        var target = rule.Property
            ?? (rule.Unique.Length > 0 ? set.Type.Properties.FirstOrDefault(p => p.Column == rule.Unique[0])?.Name : null);
        var names = rule.Unique.Select(c => set.Type.Properties.FirstOrDefault(p => p.Column == c)?.Name ?? "a hidden value");
        return new RequestFault(
            rule.Condition is null ? 409 : 422,
            rule.Condition is null ? "exists" : "rule-broken",
            rule.Message
                ?? (
                    rule.Condition is not { } condition ? $"There is an entity with these {string.Join(", ", names)} already."
                    : _service.Knows(unit.Caller, set.Name, condition) ? $"The entity does not fulfil a rule of {set.Name}: {condition}."
                    : $"The entity breaks a rule of {set.Name}."
                ),
            target is null
                ? path.Length == 0
                    ? null
                    : path.TrimEnd('/')
                : path + target
        );
    }
}
