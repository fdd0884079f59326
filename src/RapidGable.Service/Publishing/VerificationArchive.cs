using System.Collections.Immutable;
using System.Globalization;
using RapidGable.Service.State;
using RapidGable.Verification;

namespace RapidGable.Service.Publishing;

/// <summary>A verification that has ended.</summary>
/// <param name="At">When it was started (UTC).</param>
/// <param name="By">Who started it.</param>
/// <param name="Services">The services that were verified; empty = all.</param>
public sealed record KeptVerification(int Number, DateTime At, string By, ImmutableArray<string> Services, VerificationReport Report);

/// <summary>The newest verifications, kept in the state of the workspace.</summary>
public sealed class VerificationArchive(IStateStore state)
{
    private const int MostKept = 10;

    /// <summary>All that are kept, the newest first.</summary>
    /// <exception cref="StateException">When they cannot be read.</exception>
    public IEnumerable<KeptVerification> All() =>
        state
            .Names(StateRooms.Verifications)
            .Reverse()
            .Select(n => state.Read<KeptVerification>(StateRooms.Verifications, n))
            .OfType<KeptVerification>();

    /// <summary>One of them; null = it is not kept any more.</summary>
    public KeptVerification? Find(int number) => state.Read<KeptVerification>(StateRooms.Verifications, NameOf(number));

    /// <summary>Keeps one under the next number, and lets go of the oldest.</summary>
    public KeptVerification Keep(DateTime at, string by, ImmutableArray<string> services, VerificationReport report)
    {
        for (var number = Newest() + 1; ; number++)
        {
            var kept = new KeptVerification(number, at, by, services, report);
            var isOwn = false;
            state.Change<KeptVerification>(StateRooms.Verifications, NameOf(number), before =>
            {
                isOwn = before is null;
                return isOwn ? kept : null;
            });
            // Somebody else may have taken the number.
            if (!isOwn)
                continue;
            foreach (var name in state.Names(StateRooms.Verifications).SkipLast(MostKept))
                state.Remove(StateRooms.Verifications, name);
            return kept;
        }
    }

    private int Newest() =>
        state.Names(StateRooms.Verifications) is [.., var last]
            ? int.Parse(Path.GetFileNameWithoutExtension(last), CultureInfo.InvariantCulture)
            : 0;

    private static string NameOf(int number) => number.ToString("D6", CultureInfo.InvariantCulture) + ".json";
}
