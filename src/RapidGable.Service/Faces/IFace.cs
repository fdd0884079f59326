using Microsoft.AspNetCore.Http;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Publishing;
using RapidGable.UseCases;

namespace RapidGable.Service.Faces;

/// <summary>
/// One protocol form of all services. A face adds its addresses, headers, formats and the form of its errors; everything else happens
/// once for all faces, in <see cref="FacePipeline"/>.
/// </summary>
internal interface IFace
{
    /// <summary>Its short name, such as <c>odata</c>.</summary>
    string Name { get; }

    /// <summary>The service that a path is about, and where its addresses start; null = the path is none of this face.</summary>
    /// <param name="path">From the slash after the host on, as it was sent.</param>
    FaceRoute? Route(string path);

    /// <summary>The path of a service that stands on the face, with slashes at both ends.</summary>
    string RootOf(PublishedService service);

    /// <summary>The path of a set below a service, percent-encoded.</summary>
    /// <param name="service">As the face shows it.</param>
    string PathOf(PublishedService service, EntitySet set);

    /// <summary>Documents that describe a service, below its root, each with its media type.</summary>
    IReadOnlyList<(string Path, string MediaType)> Descriptions { get; }

    /// <summary>Reads a request to a service, without answering it.</summary>
    /// <param name="service">As the face shows it.</param>
    Result<SpelledRead> Spell(PublishedService service, string path, string query);

    /// <summary>Sets the headers that every answer of the face has, and reads what the request's headers say of the protocol.</summary>
    /// <returns>Why the request is not looked at any further; null = it is.</returns>
    RequestFault? Greet(HttpContext context);

    /// <summary>Answers a request to a service that the caller may know of.</summary>
    /// <returns>Why nothing was answered; null = the answer is on its way.</returns>
    Task<RequestFault?> AnswerAsync(Exchange exchange);

    /// <summary>Writes a fault as the answer, in the form of the face.</summary>
    Task WriteFaultAsync(HttpContext context, RequestFault fault);

    /// <summary>The name of the set that a request is about; or of another resource, as it is written in the address.</summary>
    string SetOf(Exchange exchange);

    /// <summary>Whether the first name of a path is that of an entity set, rather than of a resource of the protocol.</summary>
    bool IsSet(string name);

    /// <summary>Whether a request that was refused would have been answered if no rule kept anything from the caller.</summary>
    bool IsKeptByRules(Exchange exchange);
}

/// <summary>What a path says before the face looks at it.</summary>
/// <param name="Service">The name of a service, as it is written; there may be none.</param>
/// <param name="Root">What the service's addresses start with, with slashes at both ends.</param>
/// <param name="Rest">What follows the root; null = the slash at its end is missing.</param>
internal sealed record FaceRoute(string Service, string Root, string? Rest)
{
    /// <summary>The path is one at which the service stood before; null = it is not.</summary>
    public string? MovedTo { get; init; }

    /// <summary>The route of a path that starts with a prefix and goes on with a service's name; null = it does not.</summary>
    public static FaceRoute? Of(string path, string prefix)
    {
        if (!path.StartsWith(prefix, StringComparison.Ordinal))
            return null;
        var slash = path.IndexOf('/', prefix.Length);
        var name = slash < 0 ? path[prefix.Length..] : path[prefix.Length..slash];
        return new FaceRoute(name, $"{prefix}{name}/", slash < 0 ? null : path[(slash + 1)..]);
    }
}
