using Microsoft.Extensions.Logging;
using RapidGable.Service.Identity;
using RapidGable.Service.State;

namespace RapidGable.Service.Stores;

/// <summary>The accounts of the workspace that is served; read again when they change.</summary>
internal sealed class AccountStore(IStateStore state, ILogger<AccountStore> log) : IAccountStore
{
    private sealed record Known(AccountDirectory? Accounts, string? Version);

    private Known? _known;

    public AccountDirectory? Current
    {
        get
        {
            try
            {
                var version = state.VersionOf(StateRooms.Accounts, AccountsInState.Name);
                if (_known is not { } known || known.Version != version)
                    _known = known = new Known(AccountsInState.Read(state), version);
                return known.Accounts;
            }
            catch (StateException exception)
            {
                // Nobody gets in by accounts that cannot be read, and nobody manages without signing in.
                if (_known?.Accounts != AccountDirectory.Unreadable)
                    log.LogError("{Message}", exception.Message);
                _known = new Known(AccountDirectory.Unreadable, null);
                return AccountDirectory.Unreadable;
            }
        }
    }

    public AccountDirectory Change(Func<AccountDirectory, AccountDirectory> change) => AccountsInState.Change(state, change);
}
