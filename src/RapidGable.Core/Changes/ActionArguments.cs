using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Changes;

/// <summary>The arguments of an action: those of its body, beside those of its path (Protocol 11.5.5).</summary>
public static class ActionArguments
{
    /// <summary>The arguments as the statements take them, by the placeholders of their parameters.</summary>
    /// <param name="body">Null = the request has none.</param>
    /// <param name="path">That of the call.</param>
    public static Result<ImmutableDictionary<string, StoredValue>> Read(
        ISentBody? body,
        BoundPath path,
        EntityModel model,
        SqlDialect dialect
    )
    {
        var action = path.Root!;
        var open = action.Parameters.Where(p => !path.Arguments.ContainsKey(p.Placeholder)).ToList();
        // The body is read as an entity with the parameters as its properties.
        var type = new EntityType($"Arguments of {action.Name}", [.. open.Select(p => p.AsProperty())], [], [], [], null);
        var set = new EntitySet(type.Name, type, new SingleRow(action.Source.Source)) { IsTransient = true };
        var sent = SentEntity.Nothing(set);
        if (body is not null)
        {
            if (body.IsList)
                return new RequestFault(400, "body", "The arguments of an action are one JSON object.");
            if (!body.Entity(new WritableModel(model, (_, _) => null), set, SentFor.Create, []).Is(out var read, out var fault))
                return Told(fault, action, open);
            sent = read;
        }
        var faults = new List<RequestFault>();
        var given = ImmutableDictionary.CreateBuilder<string, StoredValue>();
        foreach (var value in sent.Values)
        {
            var (stored, wrong) = StoredValues.Of(value.Value, value.Property, dialect, value.Path);
            if (wrong is not null)
                faults.Add(wrong);
            given[value.Property.Column] = stored;
        }
        foreach (var missing in open.Where(p => p.IsRequired && !given.ContainsKey(p.Placeholder)))
            faults.Add(new RequestFault(400, "argument", $"'{missing.Name}' is missing.", missing.Name));
        return faults.Count == 0 ? given.ToImmutable() : RequestFault.Of(faults);
    }

    /// <summary>A fault of the body in the words for arguments.</summary>
    private static RequestFault Told(RequestFault fault, EntitySet action, List<OperationParameter> open)
    {
        if (!fault.Details.IsEmpty)
            return fault with { Details = [.. fault.Details.Select(d => Told(d, action, open))] };
        if (fault is not { Code: "unknown-property", Target: { } name })
            return fault;
        var hint = NearestName.Hint(name, open.Select(p => p.Name));
        return fault with { Code = "argument", Message = $"'{action.Name}' has no parameter '{name}'.{hint}" };
    }
}
