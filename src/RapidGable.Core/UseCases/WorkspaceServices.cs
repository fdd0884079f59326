using RapidGable.Building;
using RapidGable.Model;
using RapidGable.Publishing;

namespace RapidGable.UseCases;

/// <summary>The services of a workspace for use cases that need one of them as it would be published.</summary>
public static class WorkspaceServices
{
    /// <summary>One service by its name.</summary>
    /// <exception cref="NotPossibleException">There is none of that name.</exception>
    public static PublishedService Service(this LoadedWorkspace workspace, string name) =>
        workspace.FindService(name) is { } built
            ? new PublishedService(built.Model, workspace.Sources, Revision.Of(built, workspace.Declaration))
            : throw new NotPossibleException(
                $"The workspace has no service '{name}'.{NearestName.Hint(name, workspace.Services.Select(s => s.Model.Service))}"
            );
}
