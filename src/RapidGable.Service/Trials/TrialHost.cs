using Microsoft.AspNetCore.Builder;
using RapidGable.Access;
using RapidGable.Building;

namespace RapidGable.Service.Trials;

/// <summary>Makes a service of a workspace, on a free port of loopback, that answers requests with a secret alone.</summary>
/// <param name="lent">Keys that it takes, by the caller that comes with each.</param>
/// <param name="secret">What <see cref="TrialSecret.Header"/> holds.</param>
/// <param name="prefix">What stands before the addresses in its answers; empty = nothing.</param>
public delegate WebApplication TrialHost(LoadedWorkspace workspace, IReadOnlyDictionary<string, Caller> lent, string secret, string prefix);

/// <summary>What opens the port of a service that is only tried, so that nobody but who started it gets in.</summary>
public static class TrialSecret
{
    /// <summary>The header that holds it.</summary>
    public const string Header = "Gable-Secret";

    /// <summary>Beside the secret: <c>true</c> = what the request changes is undone, <c>false</c> = it stays.</summary>
    public const string UndoHeader = "Gable-Undo";
}
