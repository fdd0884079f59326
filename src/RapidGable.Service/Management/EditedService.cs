using System.Collections.Immutable;
using Microsoft.AspNetCore.Http;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Service.Publishing;

namespace RapidGable.Service.Management;

/// <summary>The file of a service as somebody is changing it.</summary>
/// <param name="File">Such as <c>services/rivers.yaml</c>.</param>
internal sealed record EditedService(string Name, string File, string Text)
{
    /// <summary>The text that was sent, or the file as it is written; null = neither can be taken, as the fault says.</summary>
    public static EditedService? Read(string? name, string? text, DraftFolder folder, out IResult? fault)
    {
        fault =
            !WorkspaceReader.IsServiceName(name ?? "")
                ? ManagementInterface.Problem(400, "service", $"'{name}' cannot be a service's name.")
            : text is { Length: > DraftFolder.MostBytes } ? ManagementInterface.Problem(400, "body", "A file has at most 4 MiB.")
            : null;
        if (fault is not null)
            return null;
        var file = $"services/{name}.yaml";
        if ((text ?? folder.Read(file)?.Text) is { } found)
            return new EditedService(name!, file, found);
        fault = ManagementInterface.Problem(404, "not-found", $"There is no file '{file}'.");
        return null;
    }

    /// <summary>The draft with the text in the place of the file, over the catalogs that the service saw last.</summary>
    public Task<LoadedWorkspace> LoadAsync(Draft draft, ServiceRegistry registry, CancellationToken cancellation)
    {
        var served = registry.Workspace;
        var store = new EditedTexts(
            new WorkspaceFolder(served.Declaration.Folder),
            ImmutableDictionary<string, string?>.Empty.Add(File, Text)
        );
        return draft.LoadAsync(store, DraftEndpoints.KnownOf(served), cancellation);
    }
}
