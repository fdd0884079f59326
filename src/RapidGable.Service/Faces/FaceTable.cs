using Microsoft.AspNetCore.Http;
using RapidGable.Access;
using RapidGable.Publishing;

namespace RapidGable.Service.Faces;

/// <summary>All faces, found by the start of an address.</summary>
internal sealed class FaceTable(IEnumerable<IFace> faces)
{
    /// <summary>Where the addresses of the OData face start, for clients of our own.</summary>
    public const string OData = "/odata/";

    private readonly IFace[] _faces = [.. faces];

    /// <summary>All faces.</summary>
    public IReadOnlyList<IFace> All => _faces;

    /// <summary>The face of a path; null = it is of none.</summary>
    public IFace? Find(string path) => Array.Find(_faces, f => f.Route(path) is not null);

    /// <summary>The address of a service on each face on which a caller may do anything with it, by the face's name.</summary>
    public Dictionary<string, string> AddressesOf(PublishedService service, Caller caller, HttpContext context) =>
        _faces
            .Where(f => service.On(f.Name).IsOpenTo(caller))
            .ToDictionary(f => f.Name, f => $"{context.Request.Scheme}://{context.Request.Host}{f.RootOf(service)}");

    /// <summary>The address of a service on each face on which it stands.</summary>
    public Dictionary<string, string> AddressesOf(PublishedService service, HttpContext context) =>
        _faces
            .Where(f => service.Model.Faces.Of(f.Name).IsOffered)
            .ToDictionary(f => f.Name, f => $"{context.Request.Scheme}://{context.Request.Host}{f.RootOf(service)}");
}
