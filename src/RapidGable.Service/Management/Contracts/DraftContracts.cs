using System.Text.Json;

namespace RapidGable.Service.Management.Contracts;

/// <summary>The workspace's files, which are the draft of what is published.</summary>
/// <param name="IsEditable">They can be written from here.</param>
/// <param name="Why">Why they cannot; missing = they can.</param>
public sealed record DraftFiles(bool IsEditable, string? Why, IEnumerable<DraftFileInfo> Files);

/// <summary>A file of the draft.</summary>
/// <param name="File">Its name, such as <c>services/rivers.yaml</c>.</param>
/// <param name="Version">Another one after each change.</param>
public sealed record DraftFileInfo(string File, string Version, int Bytes);

/// <summary>A file of the draft with its text.</summary>
public sealed record DraftText(string File, string Text, string Version);

/// <summary>Somebody else was first; nothing was written.</summary>
/// <param name="Current">The file as it is now; missing = it is gone.</param>
public sealed record DraftConflict(ProblemDetail Error, DraftText? Current);

/// <summary>A change of a single value.</summary>
/// <param name="Path">Keys of mappings as texts, places of items as numbers from 0.</param>
/// <param name="Value">What is set there; missing = it is removed.</param>
public sealed record DraftEdit(IReadOnlyList<JsonElement> Path, JsonElement? Value);

/// <summary>What the draft would say.</summary>
/// <param name="Text">The file as it would be.</param>
/// <param name="Added">Tables and views that get a set.</param>
/// <param name="Known">Those that have one already.</param>
/// <param name="LeftOut">Those that may hold secrets.</param>
/// <param name="Refused">Those that cannot be published, with the reasons.</param>
/// <param name="Hidden">Columns that look secret or personal and are hidden.</param>
public sealed record ChosenObjects(
    string File,
    string Text,
    string? Version,
    IEnumerable<string> Added,
    IEnumerable<string> Known,
    IEnumerable<string> LeftOut,
    IEnumerable<RefusedObject> Refused,
    IEnumerable<string> Hidden
);

/// <summary>A table or view that cannot be published.</summary>
public sealed record RefusedObject(string Name, string Why);
