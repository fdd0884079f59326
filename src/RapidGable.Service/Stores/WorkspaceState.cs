using RapidGable.Declarations;
using RapidGable.Service.State;

namespace RapidGable.Service.Stores;

/// <summary>The store that a workspace declares with <c>state</c>.</summary>
public static class WorkspaceState
{
    /// <summary>The store of a workspace as it was read.</summary>
    public static IStateStore Of(WorkspaceDeclaration workspace) =>
        new FolderState(Path.GetFullPath(Path.Combine(workspace.Folder, workspace.State.Folder)), workspace.Folder);

    /// <summary>The store of the workspace in a folder; faults of its texts are of no interest here.</summary>
    public static IStateStore Of(string folder) =>
        Of(WorkspaceReader.Read(new WorkspaceFolder(folder), Environment.GetEnvironmentVariable).Workspace);
}
