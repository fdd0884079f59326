using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Publishing;

/// <summary>Something of a service that is switched off, until it is switched on.</summary>
/// <param name="Service">The name of the service.</param>
/// <param name="By">Who switched it off.</param>
/// <param name="At">When (UTC).</param>
public sealed record SwitchedOff(string Service, string By, DateTime At)
{
    /// <summary>Seconds after which callers are told to come back, where nothing is said.</summary>
    public const int UsualRetryAfter = 600;

    /// <summary>The short name of the face; null = all.</summary>
    public string? Face { get; init; }

    /// <summary>The title of a group of queries; null = it is not about one.</summary>
    public string? Group { get; init; }

    /// <summary>A set or query; null = it is not about one.</summary>
    public string? Set { get; init; }

    /// <summary>As if it were not there; else callers are told that it is switched off.</summary>
    public bool IsAbsent { get; init; }

    /// <summary>What callers are told; null = a usual sentence.</summary>
    public string? Message { get; init; }

    /// <summary>Seconds after which callers may come back.</summary>
    public int RetryAfter { get; init; } = UsualRetryAfter;

    /// <summary>What is switched off, in words that tell it from everything else.</summary>
    public string Target =>
        Service + (Set is null ? "" : $"/{Set}") + (Group is null ? "" : $" (group '{Group}')") + (Face is null ? "" : $" ({Face})");

    /// <summary>What a request hears that needs it.</summary>
    public RequestFault Fault =>
        new(503, "switched-off", Message ?? $"{(Set is null ? "The service" : $"'{Set}'")} is switched off for maintenance.")
        {
            RetryAfter = RetryAfter,
        };

    private bool IsAbout(EntitySet set) => (Set is not null && set.Name == Set) || (Group is not null && set.Group?.Title == Group);

    /// <summary>Whether a model has what it is about.</summary>
    public bool IsKnown(EntityModel? model) => model is not null && ((Set is null && Group is null) || model.Sets.Any(IsAbout));

    /// <summary>The model without what is switched off as if it were not there: nobody may do anything with it.</summary>
    public static EntityModel Without(EntityModel model, IReadOnlyCollection<SwitchedOff> off)
    {
        var absent = off.Where(o => o.IsAbsent).ToList();
        foreach (var face in absent.Where(o => o is { Face: not null, Set: null, Group: null }))
            model = model.On(
                face.Face == "rest"
                    ? model.Faces with
                    {
                        Rest = model.Faces.Rest with { IsOffered = false },
                    }
                    : model.Faces with
                    {
                        OData = model.Faces.OData with { IsOffered = false },
                    }
            );
        var parts = absent.Where(o => o.Set is not null || o.Group is not null).ToList();
        return parts.Count == 0
            ? model
            : model.With([.. model.Sets.Select(s => parts.Exists(o => o.IsAbout(s)) ? s with { Rules = [] } : s)]);
    }

    /// <summary>What requests hear that need a set, by its name; the sets that are switched off with a word.</summary>
    public static ImmutableDictionary<string, RequestFault> Paused(EntityModel model, IReadOnlyCollection<SwitchedOff> off) =>
        model
            .Sets.Select(s => (s.Name, Off: off.FirstOrDefault(o => !o.IsAbsent && o.IsAbout(s))))
            .Where(s => s.Off is not null)
            .ToImmutableDictionary(s => s.Name, s => s.Off!.Set is null ? (s.Off with { Set = s.Name }).Fault : s.Off.Fault);
}

/// <summary>A change needs a set that is switched off.</summary>
public sealed class SwitchedOffException(RequestFault fault) : Exception(fault.Message)
{
    public RequestFault Fault { get; } = fault;
}
