using RapidGable.Declarations;
using RapidGable.Model;

namespace RapidGable.UseCases;

/// <summary>Roles as rules name them.</summary>
public static class RoleNames
{
    /// <summary>Says of each role that no rule names which one could be meant; such a role opens nothing.</summary>
    public static IEnumerable<string> Unnamed(WorkspaceDeclaration workspace, IEnumerable<string> roles)
    {
        var named = workspace.Services.SelectMany(s => s.Sets).SelectMany(s => s.Rules).SelectMany(r => r.Who.Roles).Distinct().ToList();
        return roles.Distinct().Except(named).Select(r => $"No rule names the role '{r}'.{NearestName.Hint(r, named)}");
    }
}
