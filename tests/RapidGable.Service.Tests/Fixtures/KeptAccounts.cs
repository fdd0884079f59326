using RapidGable.Service.Identity;
using RapidGable.Service.Stores;

namespace RapidGable.Service.Tests;

/// <summary>Accounts as tests make them.</summary>
internal static class KeptAccounts
{
    /// <summary>Keeps accounts in the state of a workspace, whatever was there.</summary>
    public static void Write(this AccountDirectory accounts, string folder) =>
        AccountsInState.Change(WorkspaceState.Of(folder), _ => accounts);
}
