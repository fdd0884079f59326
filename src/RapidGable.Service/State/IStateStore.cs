using System.Collections.Immutable;

namespace RapidGable.Service.State;

/// <summary>
/// Where a workspace keeps what is not declared: accounts, revisions, switches, sessions, secrets, kept answers, the audit log. Everything
/// that outlives a request goes through it. Several processes may use one store at a time, so nobody relies on what they read before:
/// a change says which version it is made from.
/// </summary>
/// <remarks>
/// A room holds documents, which are read and replaced as wholes. A journal holds parts, to which lines are added. All methods throw
/// <see cref="StateException"/> when the store cannot do what it is asked.
/// </remarks>
public interface IStateStore
{
    /// <summary>A document; null = there is none of that name.</summary>
    StateDocument? Find(string room, string name);

    /// <summary>The version of a document, without reading it; null = there is none.</summary>
    string? VersionOf(string room, string name);

    /// <summary>The names of a room's documents, in ordinal order.</summary>
    ImmutableArray<string> Names(string room);

    /// <summary>Bytes of all documents of a room.</summary>
    long BytesOf(string room);

    /// <summary>Makes or replaces a document, as a whole or not at all.</summary>
    /// <param name="version">The version that it replaces; null = there must be none yet.</param>
    /// <returns>Its version now; null = somebody else was first, and nothing was changed.</returns>
    string? Write(string room, string name, ReadOnlyMemory<byte> bytes, string? version);

    /// <summary>Removes a document; one that is not there is removed already.</summary>
    void Remove(string room, string name);

    /// <summary>Adds lines to a part of a journal; they are kept together.</summary>
    /// <param name="lines">UTF-8, with a line feed at the end of each.</param>
    void Append(string journal, string part, ReadOnlyMemory<byte> lines);

    /// <summary>The names of a journal's parts, in ordinal order.</summary>
    ImmutableArray<string> Parts(string journal);

    /// <summary>The lines of a part, the last one first; none when there is no such part.</summary>
    IEnumerable<string> LinesFromEnd(string journal, string part);

    /// <summary>Removes a part; one that is not there is removed already.</summary>
    void RemovePart(string journal, string part);
}

/// <summary>A document of a store.</summary>
/// <param name="Version">Another one after each change.</param>
public sealed record StateDocument(ReadOnlyMemory<byte> Bytes, string Version);

/// <summary>A store cannot do what it is asked. The message is for who runs the service.</summary>
public sealed class StateException(string message, Exception? inner = null) : Exception(message, inner);
