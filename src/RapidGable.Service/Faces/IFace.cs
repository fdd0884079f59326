using Microsoft.AspNetCore.Http;
using RapidGable.Expressions;

namespace RapidGable.Service.Faces;

/// <summary>
/// One protocol form of all services. A face adds its addresses, headers, formats and the form of its errors; everything else happens
/// once for all faces, in <see cref="FacePipeline"/>.
/// </summary>
internal interface IFace
{
    /// <summary>Its short name, such as <c>odata</c>.</summary>
    string Name { get; }

    /// <summary>What its addresses start with, such as <c>/odata/</c>; a service's name follows.</summary>
    string Prefix { get; }

    /// <summary>Sets the headers that every answer of the face has, and reads what the request's headers say of the protocol.</summary>
    /// <returns>Why the request is not looked at any further; null = it is.</returns>
    RequestFault? Greet(HttpContext context);

    /// <summary>Answers a request to a service that the caller may know of.</summary>
    /// <returns>Why nothing was answered; null = the answer is on its way.</returns>
    Task<RequestFault?> AnswerAsync(Exchange exchange);

    /// <summary>Writes a fault as the answer, in the form of the face.</summary>
    Task WriteFaultAsync(HttpContext context, RequestFault fault);

    /// <summary>
    /// The name of the set that a path below a service is about, as it is written in the address; or of another resource.
    /// </summary>
    string SetOf(string path);

    /// <summary>Whether the first name of a path is that of an entity set, rather than of a resource of the protocol.</summary>
    bool IsSet(string name);

    /// <summary>Whether a request that was refused would have been answered if no rule kept anything from the caller.</summary>
    bool IsKeptByRules(Exchange exchange);
}
