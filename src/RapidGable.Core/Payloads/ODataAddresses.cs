using System.Collections.Immutable;
using RapidGable.Changes;
using RapidGable.Model;
using RapidGable.Requests;
using RapidGable.Requests.OData;

namespace RapidGable.Payloads;

/// <summary>Addresses of entities as OData spells them: <c>Sensors(station_id=1,sensor_no=2)</c> (URL conventions 4.3).</summary>
/// <param name="pathOf">An address of an entity as a path below the service root, still encoded; null = it is none of this service.</param>
public sealed class ODataAddresses(Func<string, string?> pathOf) : IEntityAddresses
{
    /// <summary>References are paths below the service root already.</summary>
    public static ODataAddresses Relative { get; } = new(reference => reference);

    public string Of(EntityAddress entity)
    {
        var key = Key(entity.Set, entity.Key);
        return entity.Container is { } container
            ? $"{Uri.EscapeDataString(container.Set.Name)}{Key(container.Set, container.Key)}/"
                + $"{Uri.EscapeDataString(container.Navigation.Name)}{key}"
            : Uri.EscapeDataString(entity.Set.Name) + key;
    }

    private static string Key(EntitySet set, ImmutableArray<object> values) => KeyPredicate.Of([.. set.Type.Key.Zip(values)]);

    public ISpelledRequest? Find(string reference) =>
        pathOf(reference) is { } path && LexedRequest.Read(path, "").Is(out var lexed, out _) ? lexed : null;
}
