using System.Collections.Immutable;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Inspection;

namespace RapidGable.UseCases;

/// <summary>What a check looks at and does.</summary>
/// <param name="WithData">Also read rows, to prove keys and types.</param>
/// <param name="RolesOfAccounts">Roles that users and keys have; those that no rule names are warned of.</param>
public sealed record CheckOptions(bool WithData, IReadOnlyCollection<string> RolesOfAccounts);

/// <summary>What a check found of one service.</summary>
/// <param name="Proofs">What the rows prove; empty = they were not read.</param>
public sealed record CheckedService(BuiltService Service, ImmutableArray<DataFinding> Proofs);

/// <summary>What a check found.</summary>
/// <param name="Diagnostics">All findings that have a place in a file.</param>
public sealed record CheckReport(Diagnostics Diagnostics, ImmutableArray<CheckedService> Services)
{
    /// <summary>How many things are wrong.</summary>
    public int Faults =>
        Diagnostics.Items.Count(d => d.Severity == Severity.Error) + Services.Sum(s => s.Proofs.Count(p => p.Fault is not null));
}

/// <summary>Holds declarations against databases: names, keys, types, and the data itself.</summary>
public sealed class CheckWorkspace(LoadedWorkspace workspace, CheckOptions options)
{
    private Diagnostics Diagnostics => workspace.Diagnostics;

    /// <param name="progress">Is told what is looked at.</param>
    public async Task<CheckReport> RunAsync(Action<string> progress, CancellationToken cancellation)
    {
        IndexAdvice.Add(workspace, Diagnostics);
        WarnOfRoles();
        WarnOfAccepted();
        var proofs = options.WithData ? await DataProof.ProveAsync(workspace, progress, cancellation) : [];
        return new CheckReport(
            Diagnostics,
            [.. workspace.Services.Select(s => new CheckedService(s, [.. proofs.Where(p => p.Service == s.Model.Service)]))]
        );
    }

    /// <summary>A folder of former versions, whose purpose revisions have now.</summary>
    private void WarnOfAccepted()
    {
        if (Directory.Exists(Path.Combine(workspace.Declaration.Folder, "accepted")))
            Diagnostics.Warning(
                "accepted",
                "The folder 'accepted' is not read any more.",
                SourceLocation.WholeFile("accepted"),
                "Publish the workspace with 'gable publish', or compare with a file: 'gable check --keep FILE', later '--against FILE'."
            );
    }

    /// <summary>A role that was renamed in the rules, and not in the accounts, opens nothing.</summary>
    private void WarnOfRoles()
    {
        foreach (var text in RoleNames.Unnamed(workspace.Declaration, options.RolesOfAccounts))
            Diagnostics.Warning(
                "role",
                text,
                SourceLocation.WholeFile("accounts.json"),
                "Rename it in the accounts, with 'gable user set' or a new key, or in the rules."
            );
    }
}
