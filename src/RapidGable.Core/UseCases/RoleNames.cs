using RapidGable.Declarations;
using RapidGable.Model;

namespace RapidGable.UseCases;

/// <summary>Roles as rules name them.</summary>
public static class RoleNames
{
    /// <summary>Says of each role that no rule names which one could be meant; such a role opens nothing.</summary>
    public static IEnumerable<string> Unnamed(WorkspaceDeclaration workspace, IEnumerable<string> roles)
    {
        var rules = workspace.Services.SelectMany(s => s.Sets).SelectMany(s => s.Rules).Select(r => r.Who);
        var statements = workspace.Services.Select(s => s.Sql?.Value.Who).OfType<AccessRule>();
        var named = rules.Concat(statements).SelectMany(r => r.Roles).Distinct().ToList();
        return roles.Distinct().Except(named).Select(r => $"No rule names the role '{r}'.{NearestName.Hint(r, named)}");
    }
}
