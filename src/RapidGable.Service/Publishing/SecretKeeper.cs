using System.Collections.Immutable;
using RapidGable.Service.State;
using RapidGable.Service.Stores;

namespace RapidGable.Service.Publishing;

/// <summary>
/// Secrets that source files name as <c>${NAME}</c>, where the environment has none of that name. Each is a document, encrypted with
/// AES-256-GCM under a key that is not in the state: it comes from the environment, or from a file that the environment names.
/// </summary>
public sealed class SecretKeeper(IStateStore state, Func<string, string?> environment)
{
    /// <summary>The variable that holds the key.</summary>
    public const string KeyVariable = StateCipher.KeyVariable;

    /// <summary>The variable that holds the path of the file with the key.</summary>
    public const string KeyFileVariable = StateCipher.KeyFileVariable;

    /// <summary>Shorter keys could be guessed by who has the state.</summary>
    public const int ShortestKey = StateCipher.ShortestKey;

    private const string Ending = ".json";
    private const int LongestName = 100;
    private const int LongestValue = 16 * 1024;

    private readonly StateCipher _cipher = new(state, environment);

    /// <summary>Secrets can be kept: there is a key for them.</summary>
    public bool HasKey => _cipher.HasKey;

    public ImmutableArray<string> Names() =>
        [.. state.Names(StateRooms.Secrets).Where(n => n.EndsWith(Ending, StringComparison.Ordinal)).Select(n => n[..^Ending.Length])];

    /// <summary>Why a text cannot be the name of a secret; null = it can.</summary>
    public static string? NameFault(string name) =>
        name.Length is > 0 and <= LongestName && !char.IsAsciiDigit(name[0]) && name.All(c => char.IsAsciiLetterOrDigit(c) || c == '_')
            ? null
            : $"'{name}' cannot be the name of a secret: it takes letters, digits and '_', at most {LongestName}, and no digit first.";

    /// <summary>Why a text cannot be a secret; null = it can.</summary>
    public static string? ValueFault(string value) =>
        value.Length == 0 ? "A secret is not empty."
        : value.Any(char.IsControl) ? "A secret is one line, without control characters."
        : value.Length > LongestValue ? $"A secret has at most {LongestValue} characters."
        : null;

    /// <summary>Keeps a secret in the place of a former one.</summary>
    /// <exception cref="StateException">When there is no key, or the state cannot be written.</exception>
    public void Set(string name, string value)
    {
        var kept = _cipher.Seal(name, value);
        state.Change<SealedText>(StateRooms.Secrets, name + Ending, _ => kept);
    }

    /// <summary>Removes a secret; false = there was none.</summary>
    public bool Remove(string name)
    {
        if (NameFault(name) is not null || state.VersionOf(StateRooms.Secrets, name + Ending) is null)
            return false;
        state.Remove(StateRooms.Secrets, name + Ending);
        return true;
    }

    /// <summary>A secret; null = there is none of that name.</summary>
    /// <exception cref="StateException">When it is there and cannot be read.</exception>
    public string? Find(string name)
    {
        if (NameFault(name) is not null || state.Read<SealedText>(StateRooms.Secrets, name + Ending) is not { } kept)
            return null;
        return _cipher.Open(name, kept);
    }

    /// <summary>
    /// Keeps all secrets, and the keys of sessions, under another passphrase. What is kept under it already stays, so that it can be done
    /// again where it broke off.
    /// </summary>
    /// <param name="next">The environment with the new passphrase.</param>
    /// <returns>How many were changed.</returns>
    /// <exception cref="StateException">When one of them opens with neither; it and those after it are as they were.</exception>
    public int Rotate(Func<string, string?> next)
    {
        var to = new StateCipher(state, next);
        var changed = 0;
        foreach (var (room, document, name) in Sealed())
        {
            if (state.Read<SealedText>(room, document) is not { } kept || (kept.Version == 2 && to.Opens(kept)))
                continue;
            var again = to.Seal(name, _cipher.Open(name, kept));
            state.Change<SealedText>(room, document, now => now == kept ? again : now);
            changed++;
        }
        return changed;
    }

    private IEnumerable<(string Room, string Document, string Name)> Sealed() =>
        Names()
            .Select(n => (StateRooms.Secrets, n + Ending, n))
            .Concat(
                state
                    .Names(StateRooms.Sessions)
                    .Where(n => n.EndsWith(CookieKeysInState.SealedEnding, StringComparison.Ordinal))
                    .Select(n => (StateRooms.Sessions, n, n))
            );
}
