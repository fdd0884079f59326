using RapidGable.Expressions;

namespace RapidGable.Requests.OData;

/// <summary>Ids of entities in query options (URL conventions 4.12).</summary>
public static class EntityIdAddress
{
    /// <summary>
    /// The address that <c>$entity?$id=…</c> stands for (URL conventions 4.12): that of the entity with the other options of this one.
    /// </summary>
    /// <param name="serviceRoot">Absolute, with a slash at its end.</param>
    public static Result<RequestAddress> ResolveEntityId(this RequestAddress address, string serviceRoot)
    {
        if (address.Segments is not [{ Text: "$entity" }, ..])
            return address;
        var ids = address.Options.Where(o => o.Name.TrimStart('$').Equals("id", StringComparison.OrdinalIgnoreCase)).ToList();
        if (ids is not [var id])
            return new RequestFault(400, "id", "$entity needs the id of one entity, as in $entity?$id=Stations(1).", "$id");
        var path = PathOf(id, serviceRoot);
        if (path.Contains("://", StringComparison.Ordinal) || path.StartsWith('/') || path.StartsWith('$') || path.Contains('?'))
            return RequestFault.NotFound($"'{id.Value}' is not the id of an entity of this service.", "$id");
        // A type cast after $entity is one of the entity.
        path += address.RawPath["$entity".Length..];
        return RequestAddress.Read(path, string.Join('&', address.Options.Except(ids).Select(o => o.Raw)));
    }

    /// <summary>
    /// The path that an id in an option is about: it may be absolute, count from the host or from the service, and be encoded as a
    /// whole.
    /// </summary>
    public static string PathOf(AddressOption id, string serviceRoot)
    {
        var raw = id.Raw[(id.Raw.IndexOf('=') + 1)..];
        var path =
            raw.StartsWith(serviceRoot, StringComparison.Ordinal) ? raw[serviceRoot.Length..]
            : id.Value.StartsWith(serviceRoot, StringComparison.Ordinal) ? id.Value[serviceRoot.Length..]
            : raw;
        var root = new Uri(serviceRoot).AbsolutePath;
        return path.StartsWith(root, StringComparison.Ordinal) ? path[root.Length..] : path;
    }
}
