using Microsoft.Extensions.Logging;
using RapidGable.Service.Publishing;

namespace RapidGable.Service.Identity;

/// <summary>
/// The accounts of the workspace that is served; read again when their file changes, so what is revoked ends with the next request.
/// </summary>
internal sealed class AccountStore(ServiceRegistry registry, ILogger<AccountStore> log)
{
    private sealed record Known(AccountFile? File, DateTime Written, long Size);

    private Known? _known;

    /// <summary>Null = the workspace has none. The same object until the file changes.</summary>
    public AccountFile? Current
    {
        get
        {
            var folder = registry.Workspace.Declaration.Folder;
            var file = new FileInfo(Path.Combine(folder, AccountFile.Name));
            if (
                _known is { } known
                && (file.Exists ? (known.Written, known.Size) == (file.LastWriteTimeUtc, file.Length) : known.File is null)
            )
                return known.File;
            Known read;
            try
            {
                read = new Known(AccountFile.Read(folder), file.Exists ? file.LastWriteTimeUtc : default, file.Exists ? file.Length : 0);
            }
            catch (InvalidDataException exception)
            {
                // Nobody gets in by a file that cannot be read, and nobody manages without signing in.
                log.LogError("{Message}", exception.Message);
                read = new Known(AccountFile.Unreadable, file.LastWriteTimeUtc, file.Length);
            }
            _known = read;
            return read.File;
        }
    }
}
