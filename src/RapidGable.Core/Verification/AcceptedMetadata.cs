using System.Collections.Immutable;

namespace RapidGable.Verification;

/// <summary>
/// The metadata that the developer has accepted, kept as <c>accepted/SERVICE.xml</c> in the workspace: what a later check
/// compares with, so that a change in the database is noticed before a consumer notices it.
/// </summary>
public static class AcceptedMetadata
{
    private const string Folder = "accepted";

    private static string PathOf(string workspace, string service) => Path.Combine(workspace, Folder, service + ".xml");

    /// <summary>Keeps what the service publishes now; the result is the file's name in the workspace.</summary>
    /// <param name="now">The metadata document, as XML.</param>
    public static string Accept(string workspace, string service, byte[] now)
    {
        Directory.CreateDirectory(Path.Combine(workspace, Folder));
        File.WriteAllBytes(PathOf(workspace, service), now);
        return $"{Folder}/{service}.xml";
    }

    /// <summary>How what is published now differs from what was accepted; null when nothing was.</summary>
    /// <exception cref="InvalidDataException">When the kept file is no metadata document.</exception>
    public static ImmutableArray<CsdlDifference>? Compare(string workspace, string service, byte[] now)
    {
        var path = PathOf(workspace, service);
        if (!File.Exists(path))
            return null;
        var faults = new List<string>();
        var before = CsdlReader.Read(File.ReadAllBytes(path), faults)
            ?? throw new InvalidDataException($"{Folder}/{service}.xml is not a metadata document: {string.Join(" ", faults)}");
        return CsdlComparison.Compare(before, CsdlReader.Read(now, faults)!);
    }
}
