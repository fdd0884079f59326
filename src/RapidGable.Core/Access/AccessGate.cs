using System.Collections.Immutable;
using RapidGable.Model;
using RapidGable.Requests;

namespace RapidGable.Access;

/// <summary>A bound request that the caller may make. Only <see cref="AccessGate"/> gives it out.</summary>
public sealed record PermittedRequest
{
    internal PermittedRequest(BoundRequest request) => Request = request;

    public BoundRequest Request { get; }
}

/// <summary>The one place where rules become decisions.</summary>
public static class AccessGate
{
    public static bool Allows(AccessRule rule, Caller caller) => rule.Scope switch
    {
        AccessScope.Anyone => true,
        AccessScope.SignedIn => caller.IsSignedIn,
        AccessScope.Roles => caller.IsSignedIn && rule.Roles.Any(caller.Roles.Contains),
        _ => false,
    };

    public static bool MayRead(EntitySet set, Caller caller) => set.Operations.HasFlag(SetOperations.Read) && Allows(set.Read, caller);

    /// <summary>
    /// The part of a model that a caller may know of: sets that may not be read are not there, nor is navigation to
    /// them, so that documents, suggestions and errors cannot tell a forbidden name from a missing one.
    /// </summary>
    public static EntityModel VisibleTo(EntityModel model, Caller caller)
    {
        // What is contained is reached over its container only.
        var readable = model.Sets.Where(s => MayRead(s, caller) && (s.ContainedIn is null || MayRead(model.FindSet(s.ContainedIn)!, caller))).ToImmutableArray();
        if (readable.Length == model.Sets.Length)
            return model;
        var names = readable.Select(s => s.Name).ToHashSet();
        return new EntityModel(model.Service, model.Title, model.Namespace,
            [.. readable.Select(s => s with { Type = s.Type.With([.. s.Type.Navigations.Where(n => names.Contains(n.TargetSet))]) })]);
    }

    /// <summary>Lets a request through, or refuses it in the words of a missing resource.</summary>
    public static Result<PermittedRequest> Permit(BoundRequest request, EntityModel model, Caller caller)
    {
        foreach (var set in request.TouchedSets(model))
        {
            if (!MayRead(set, caller))
                return RequestFault.NotFound($"There is no resource '{set.Name}'.", "path");
        }
        return new PermittedRequest(request);
    }
}
