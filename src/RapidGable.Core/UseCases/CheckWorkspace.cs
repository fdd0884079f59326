using System.Collections.Immutable;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Inspection;
using RapidGable.Metadata;
using RapidGable.Payloads;
using RapidGable.Publishing;
using RapidGable.Verification;

namespace RapidGable.UseCases;

/// <summary>What a check looks at and does.</summary>
/// <param name="WithData">Also read rows, to prove keys and types.</param>
/// <param name="Accept">Keep what is now, for later checks to compare with.</param>
/// <param name="RolesOfAccounts">Roles that users and keys have; those that no rule names are warned of.</param>
public sealed record CheckOptions(bool WithData, bool Accept, IReadOnlyCollection<string> RolesOfAccounts);

/// <summary>What a check found of one service.</summary>
/// <param name="Proofs">What the rows prove; empty = they were not read.</param>
/// <param name="Drift">How the metadata differs from what was accepted; null = nothing was accepted.</param>
/// <param name="Opened">What became visible or possible since it was accepted, in words; null = nothing was accepted.</param>
public sealed record CheckedService(
    BuiltService Service,
    ImmutableArray<DataFinding> Proofs,
    ImmutableArray<CsdlDifference>? Drift,
    ImmutableArray<string>? Opened
);

/// <summary>What a check found.</summary>
/// <param name="Diagnostics">All findings that have a place in a file.</param>
/// <param name="Accepted">The files that were written to compare with; empty = none were.</param>
public sealed record CheckReport(Diagnostics Diagnostics, ImmutableArray<CheckedService> Services, ImmutableArray<string> Accepted)
{
    /// <summary>How many things are wrong; changes that break consumers are, unless they were just accepted.</summary>
    public int Faults =>
        Diagnostics.Items.Count(d => d.Severity == Severity.Error)
        + Services.Sum(s => s.Proofs.Count(p => p.Fault is not null))
        + (Accepted.IsEmpty ? Services.Sum(s => s.Drift?.Count(c => c.IsBreaking) ?? 0) : 0);
}

/// <summary>Holds declarations against databases: names, keys, types, the data itself, and what was accepted before.</summary>
public sealed class CheckWorkspace(LoadedWorkspace workspace, CheckOptions options)
{
    private string Folder => workspace.Declaration.Folder;

    private Diagnostics Diagnostics => workspace.Diagnostics;

    /// <param name="progress">Is told what is looked at.</param>
    public async Task<CheckReport> RunAsync(Action<string> progress, CancellationToken cancellation)
    {
        IndexAdvice.Add(workspace, Diagnostics);
        WarnOfRoles();
        var drift = workspace.Services.ToDictionary(s => s, Drift);
        var proofs = options.WithData ? await DataProof.ProveAsync(workspace, progress, cancellation) : [];
        var accepted = ImmutableArray.CreateBuilder<string>();
        var services = ImmutableArray.CreateBuilder<CheckedService>();
        var mayCompare = !Diagnostics.HasErrors;
        var accepts = options.Accept && mayCompare;
        foreach (var service in workspace.Services)
        {
            var name = service.Model.Service;
            ImmutableArray<string>? opened = null;
            if (mayCompare)
            {
                var visible = AccessVisibility.Of(workspace.Service(name));
                opened = accepts ? [] : Opened(visible, name);
                if (accepts)
                    accepted.AddRange(AcceptedMetadata.Accept(Folder, name, Metadata(service)), visible.Accept(Folder, name));
            }
            services.Add(new CheckedService(service, [.. proofs.Where(p => p.Service == name)], drift[service], opened));
        }
        return new CheckReport(Diagnostics, services.ToImmutable(), accepted.ToImmutable());
    }

    private static byte[] Metadata(BuiltService service) => CsdlXmlWriter.Write(service.Model, ODataVersion.V401);

    private ImmutableArray<CsdlDifference>? Drift(BuiltService service) =>
        Compared($"accepted/{service.Model.Service}.xml", () => AcceptedMetadata.Compare(Folder, service.Model.Service, Metadata(service)));

    private ImmutableArray<string>? Opened(AccessVisibility now, string service) =>
        Compared<string>($"accepted/{service}.access.json", () =>
            AccessVisibility.Accepted(Folder, service) is { } before ? now.NewSince(before) : null
        );

    /// <summary>The differences from an accepted file; one that cannot be read is a fault, unless it is about to be written anew.</summary>
    private ImmutableArray<T>? Compared<T>(string file, Func<ImmutableArray<T>?> compare)
    {
        try
        {
            return compare();
        }
        catch (InvalidDataException exception)
        {
            if (options.Accept)
                return null;
            Diagnostics.Error(
                "accepted",
                exception.Message,
                SourceLocation.WholeFile(file),
                "Delete it, or write it anew with 'gable check --accept'."
            );
            return null;
        }
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
