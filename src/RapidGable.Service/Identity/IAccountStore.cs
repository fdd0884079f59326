namespace RapidGable.Service.Identity;

/// <summary>Where the accounts of the served workspace are kept.</summary>
internal interface IAccountStore
{
    /// <summary>The accounts as they are now, so that what is revoked ends with the next request; the same object until they change.
    /// Null = there are none, and nobody can sign in.</summary>
    AccountDirectory? Current { get; }

    /// <summary>Changes them while nobody else does; gives what they are then.</summary>
    /// <exception cref="State.StateException">When they cannot be read, or somebody else goes on changing them.</exception>
    AccountDirectory Change(Func<AccountDirectory, AccountDirectory> change);
}
