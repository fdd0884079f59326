using RapidGable.Declarations;
using RapidGable.Service.Publishing;
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

    /// <summary>The variables of a workspace: those of the environment, and else the secrets that its state keeps.</summary>
    /// <param name="environment">Null = that of the process.</param>
    public static Func<string, string?> Variables(string folder, Func<string, string?>? environment = null)
    {
        var outer = environment ?? Environment.GetEnvironmentVariable;
        // Many workspaces name no variable, and need no second look at their texts.
        var secrets = new Lazy<SecretKeeper>(() => new SecretKeeper(Of(folder), outer));
        return name => outer(name) ?? secrets.Value.Find(name);
    }
}
