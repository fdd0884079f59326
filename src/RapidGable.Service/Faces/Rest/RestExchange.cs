using RapidGable.Model;
using RapidGable.Requests;
using RapidGable.Requests.Rest;

namespace RapidGable.Service.Faces.Rest;

/// <summary>One request to one service on the plain REST face.</summary>
internal sealed record RestExchange : Exchange
{
    public RestExchange(Exchange exchange, RestPaths paths)
        : base(exchange)
    {
        Paths = paths;
        Preferences = new Preferences(exchange.Request.Headers);
    }

    /// <summary>The paths of the service's sets.</summary>
    public RestPaths Paths { get; }

    public Preferences Preferences { get; }

    /// <summary>How the service stands on this face.</summary>
    public RestShape Shape => Service.Model.Faces.Rest;

    /// <summary>The short name of the format when a request about a set asks for none.</summary>
    public string UsualFormat(EntitySet set) => Shape.Of(set.Name).Format ?? Shape.Format ?? "json";

    /// <summary>Whether what a path is about is a resource of this face: rows, or the content of a stream.</summary>
    public static bool IsResource(BoundPath path) =>
        path.Kind is ResourceKind.Collection or ResourceKind.Entity
        || (path.Kind == ResourceKind.RawValue && path.Property?.Type.Kind == EdmKind.Stream);
}
