using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Text;

namespace RapidGable.Declarations;

/// <summary>Where the texts of a workspace are kept. What they say is for <see cref="WorkspaceReader"/>.</summary>
public interface IWorkspaceStore
{
    /// <summary>The folder in which file names that the texts mention start, such as that of a SQLite database.</summary>
    string Folder { get; }

    /// <summary>All texts as they are now.</summary>
    WorkspaceTexts Read();
}

/// <summary>All texts of a workspace as they were read at one time, and the variables that are kept beside them.</summary>
/// <param name="Name">What the workspace is called where it has no title.</param>
/// <param name="Files">The bytes of each text by its name, such as <c>services/rivers.yaml</c>; default = it could not be read.</param>
public sealed record WorkspaceTexts(string Name, ImmutableSortedDictionary<string, ImmutableArray<byte>> Files)
{
    /// <summary>The text that every workspace has.</summary>
    public const string Root = "workspace.yaml";

    /// <summary>The ending of texts that hold a statement.</summary>
    public const string SqlEnding = ".sql";

    /// <summary>Whether there is such a workspace at all, be it without any text.</summary>
    public bool Exists { get; init; } = true;

    /// <summary>Variables for <c>${…}</c> where the environment has none. They are no part of what is declared.</summary>
    public IReadOnlyDictionary<string, string> Secrets { get; init; } = ImmutableDictionary<string, string>.Empty;

    /// <summary>Whether others on the machine can read the variables.</summary>
    public bool HasOpenSecrets { get; init; }

    /// <summary>The texts of a kind, such as <c>services</c>, in the order of their names.</summary>
    public IEnumerable<string> Of(string kind) => Files.Keys.Where(f => f.StartsWith(kind + "/", StringComparison.Ordinal));

    /// <summary>The texts of sources that name a variable.</summary>
    public IEnumerable<string> Naming(string variable) =>
        Of("sources").Where(f => !Files[f].IsDefault && Encoding.UTF8.GetString(Files[f].AsSpan()).Contains($"${{{variable}}}"));

    /// <summary>A text that changes with every change of these texts, their names included.</summary>
    /// <param name="files">Null = all.</param>
    public string Identity(IEnumerable<string>? files = null)
    {
        using var hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
        foreach (var file in (files ?? Files.Keys).Order(StringComparer.Ordinal))
        {
            var bytes = Files.GetValueOrDefault(file);
            hash.AppendData(Encoding.UTF8.GetBytes($"{file}\n{(bytes.IsDefault ? -1 : bytes.Length)}\n"));
            hash.AppendData(bytes.IsDefault ? [] : bytes.AsSpan());
        }
        return Convert.ToHexStringLower(hash.GetHashAndReset());
    }
}
