using Microsoft.AspNetCore.Http;

namespace RapidGable.Service.Faces;

/// <summary>All faces, found by the start of an address.</summary>
internal sealed class FaceTable(IEnumerable<IFace> faces)
{
    /// <summary>Where the addresses of the OData face start, for clients of our own.</summary>
    public const string OData = "/odata/";

    private readonly IFace[] _faces = [.. faces];

    /// <summary>What the addresses of the faces start with, for people.</summary>
    public string Prefixes => string.Join(", ", _faces.Select(f => f.Prefix));

    /// <summary>The face of a path; null = it is of none.</summary>
    public IFace? Find(string path) => Array.Find(_faces, f => path.StartsWith(f.Prefix, StringComparison.Ordinal));

    /// <summary>The address of a service in each face, by the face's name.</summary>
    public Dictionary<string, string> AddressesOf(string service, HttpContext context) =>
        _faces.ToDictionary(f => f.Name, f => $"{context.Request.Scheme}://{context.Request.Host}{f.Prefix}{service}/");
}
