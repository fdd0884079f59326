using System.Collections.Immutable;
using RapidGable.Publishing;
using RapidGable.Service.State;

namespace RapidGable.Service.Publishing;

/// <summary>What is switched off, kept in the state of the workspace.</summary>
public sealed class SwitchBoard(IStateStore state)
{
    private const string Name = "switches.json";

    private sealed record Kept(ImmutableArray<SwitchedOff> Off);

    /// <summary>Changes with each switch; null = none was ever used.</summary>
    public string? Version => state.VersionOf(StateRooms.Switches, Name);

    /// <summary>All that is switched off, in the order of its names.</summary>
    /// <exception cref="StateException">When it cannot be read.</exception>
    public ImmutableArray<SwitchedOff> Read() => state.Read<Kept>(StateRooms.Switches, Name)?.Off ?? [];

    /// <summary>Switches something off, or changes what is said of it.</summary>
    public void Off(SwitchedOff off) =>
        state.Change<Kept>(StateRooms.Switches, Name, before => new Kept([
            .. (before?.Off ?? []).Where(o => o.Target != off.Target).Append(off).OrderBy(o => o.Target, StringComparer.Ordinal),
        ]));

    /// <summary>Switches something on.</summary>
    /// <returns>Whether it was off.</returns>
    public bool On(SwitchedOff what) =>
        state.Change<Kept>(StateRooms.Switches, Name, before =>
            before?.Off.Any(o => o.Target == what.Target) != true ? null : new Kept([.. before.Off.Where(o => o.Target != what.Target)])
        )
            is not null;
}
