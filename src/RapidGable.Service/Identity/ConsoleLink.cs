using System.Security.Cryptography;
using System.Text;
using Microsoft.Extensions.Logging;
using RapidGable.Service.Publishing;

namespace RapidGable.Service.Identity;

/// <summary>
/// Opens the management of a workspace that has no administrator yet. The service prints a link when it starts, and keeps
/// it in a file that only its own user may read. That a request comes from the same machine proves nothing, since a proxy there forwards
/// requests of everybody. A link opens the console once; then the next one replaces it. Commands send the link of the file.
/// </summary>
internal sealed class ConsoleLink(ServiceRegistry registry, ILogger<ConsoleLink> log) : IDisposable
{
    public const string FileName = "console-link";

    /// <summary>What stands before the token in the address, where servers do not see it.</summary>
    public const string Fragment = "#link=";

    private readonly Lock _lock = new();
    private string? _address;
    private string _token = NewToken();

    /// <summary>The link as it is now; null = the service has not told any.</summary>
    public string? Current
    {
        get
        {
            lock (_lock)
                return _address is null ? null : $"{_address}/console/{Fragment}{_token}";
        }
    }

    /// <summary>Makes a session that a link opened end with the process.</summary>
    public string Stamp { get; } = NewToken();

    private string PathOf => Path.Combine(registry.Workspace.Declaration.Folder, FileName);

    private static string NewToken() => Convert.ToHexStringLower(RandomNumberGenerator.GetBytes(24));

    /// <summary>Tells the link from now on.</summary>
    /// <param name="address">Of the service, without a slash at its end.</param>
    public void Tell(string address)
    {
        lock (_lock)
        {
            _address = address;
            Write();
        }
    }

    private void Write()
    {
        try
        {
            var path = PathOf;
            File.Delete(path);
            var options = new FileStreamOptions { Mode = FileMode.CreateNew, Access = FileAccess.Write };
            if (!OperatingSystem.IsWindows())
                options.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
            using var file = new StreamWriter(path, options);
            file.Write($"{_address}/console/{Fragment}{_token}\n");
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException)
        {
            log.LogWarning("The link to the console cannot be kept in '{File}': {Message}", FileName, exception.Message);
        }
    }

    /// <summary>Whether a text is the token of the link.</summary>
    public bool Is(string token)
    {
        lock (_lock)
            return _address is not null
                && CryptographicOperations.FixedTimeEquals(Encoding.UTF8.GetBytes(token), Encoding.UTF8.GetBytes(_token));
    }

    /// <summary>Opens the console by the link, which is of no use after that; false when it is another.</summary>
    public bool Use(string token)
    {
        lock (_lock)
        {
            if (!Is(token))
                return false;
            _token = NewToken();
            Write();
            return true;
        }
    }

    public void Dispose()
    {
        try
        {
            if (_address is not null && File.Exists(PathOf) && File.ReadAllText(PathOf).Contains(_token, StringComparison.Ordinal))
                File.Delete(PathOf);
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException)
        {
            log.LogDebug("The file '{File}' stays: {Message}", FileName, exception.Message);
        }
    }
}
