using Microsoft.Extensions.Logging;
using RapidGable.Service.Identity;
using RapidGable.Service.Publishing;

namespace RapidGable.Service.Stores;

/// <summary>The accounts in the folder of the workspace that is served; read again when their file changes.</summary>
internal sealed class FolderAccountStore(ServiceRegistry registry, ILogger<FolderAccountStore> log) : IAccountStore
{
    private sealed record Known(AccountDirectory? Accounts, DateTime Written, long Size);

    private Known? _known;

    private string Folder => registry.Workspace.Declaration.Folder;

    public AccountDirectory? Current
    {
        get
        {
            var file = new FileInfo(Path.Combine(Folder, AccountsInFolder.Name));
            var (written, size) = file.Exists ? (file.LastWriteTimeUtc, file.Length) : (default, 0L);
            if (_known is { } known && (known.Written, known.Size) == (written, size) && file.Exists == known.Accounts is not null)
                return known.Accounts;
            _known = new Known(Read(), written, size);
            return _known.Accounts;
        }
    }

    private AccountDirectory? Read()
    {
        try
        {
            return AccountsInFolder.Read(Folder);
        }
        catch (InvalidDataException exception)
        {
            // Nobody gets in by a file that cannot be read, and nobody manages without signing in.
            log.LogError("{Message}", exception.Message);
            return AccountDirectory.Unreadable;
        }
    }

    public AccountDirectory Change(Func<AccountDirectory, AccountDirectory> change) => AccountsInFolder.Change(Folder, change);
}
