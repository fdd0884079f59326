using System.Collections.Concurrent;
using Microsoft.Extensions.Logging;
using Microsoft.IdentityModel.Tokens;
using RapidGable.Declarations;
using RapidGable.Service.Publishing;

namespace RapidGable.Service.Identity;

/// <summary>
/// The key sets of issuers (RFC 7517), from files that are read again when they change, and from addresses that are asked again after a
/// while.
/// </summary>
internal sealed class KeySets(ServiceRegistry registry, TimeProvider time, ILogger<KeySets> log) : IDisposable
{
    private static readonly TimeSpan Fresh = TimeSpan.FromHours(1);
    private static readonly TimeSpan Pause = TimeSpan.FromMinutes(1);

    /// <param name="Asked">When they were last asked for.</param>
    /// <param name="IsAnswered">Whether that was answered.</param>
    /// <param name="Written">When their file was.</param>
    private sealed record Known(IReadOnlyList<SecurityKey> Keys, DateTimeOffset Asked, bool IsAnswered, DateTime Written);

    private readonly ConcurrentDictionary<string, Known> _known = new();
    private readonly SemaphoreSlim _asking = new(1);
    private readonly HttpClient _client = new(new SocketsHttpHandler { AllowAutoRedirect = false })
    {
        Timeout = TimeSpan.FromSeconds(5),
        MaxResponseContentBufferSize = 1024 * 1024,
    };

    /// <summary>Empty when they cannot be had.</summary>
    /// <param name="renew">A key was not among them; they are asked for again, if that was not just done.</param>
    public async ValueTask<IReadOnlyList<SecurityKey>> OfAsync(TokenDeclaration issuer, bool renew, CancellationToken cancellation)
    {
        var place = issuer.Keys.Value;
        if (!place.Contains("://", StringComparison.Ordinal))
            return OfFile(Path.Combine(registry.Workspace.Declaration.Folder, place), place);
        bool IsGood(Known known) => time.GetUtcNow() - known.Asked < (renew || !known.IsAnswered ? Pause : Fresh);
        if (_known.TryGetValue(place, out var known) && IsGood(known))
            return known.Keys;
        await _asking.WaitAsync(cancellation);
        try
        {
            if (_known.TryGetValue(place, out known) && IsGood(known))
                return known.Keys;
            var read = await AskAsync(place, cancellation);
            // What was known before is better than nothing, and who cannot be reached is not asked by every request.
            known = new Known(read ?? known?.Keys ?? [], time.GetUtcNow(), read is not null, default);
            _known[place] = known;
            return known.Keys;
        }
        finally
        {
            _asking.Release();
        }
    }

    private async Task<IReadOnlyList<SecurityKey>?> AskAsync(string place, CancellationToken cancellation)
    {
        try
        {
            return Read(await _client.GetStringAsync(place, cancellation));
        }
        catch (Exception exception)
            when (exception is HttpRequestException or ArgumentException
                || (exception is OperationCanceledException && !cancellation.IsCancellationRequested)
            )
        {
            log.LogError("The keys of {Place} cannot be had: {Message}", place, exception.Message);
            return null;
        }
    }

    private IReadOnlyList<SecurityKey> OfFile(string path, string place)
    {
        try
        {
            var written = File.GetLastWriteTimeUtc(path);
            if (_known.TryGetValue(path, out var known) && known.Written == written)
                return known.Keys;
            var read = new Known(Read(File.ReadAllText(path)), default, true, written);
            _known[path] = read;
            return read.Keys;
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException or ArgumentException)
        {
            log.LogError("The keys in {File} cannot be read: {Message}", place, exception.Message);
            return [];
        }
    }

    private static IReadOnlyList<SecurityKey> Read(string text) =>
        [.. new JsonWebKeySet(text).GetSigningKeys().Where(k => k is not SymmetricSecurityKey)];

    public void Dispose()
    {
        _client.Dispose();
        _asking.Dispose();
    }
}
