namespace RapidGable.Payloads;

/// <summary>The versions of the protocol that a response can follow.</summary>
public enum ODataVersion
{
    V40,
    V401,
}

/// <summary>How much control information a JSON payload carries (JSON format 3.1).</summary>
public enum MetadataLevel
{
    Minimal,
    None,
    Full,
}

/// <summary>How a JSON payload is to be written.</summary>
/// <param name="Ieee754Compatible">Int64 and Decimal as strings (JSON format 3.2).</param>
public sealed record PayloadFormat(ODataVersion Version, MetadataLevel Level, bool Ieee754Compatible)
{
    /// <summary>Properties without a value are left out (Protocol 8.2.8.6).</summary>
    public bool OmitsNulls { get; init; }

    public bool HasContext => Level != MetadataLevel.None;

    public bool IsFull => Level == MetadataLevel.Full;

    /// <summary>A control information's name: with the prefix that 4.0 readers know, without it in 4.01.</summary>
    public string Control(string name) => (Version == ODataVersion.V40 ? "@odata." : "@") + name;

    public string VersionText => Version == ODataVersion.V40 ? "4.0" : "4.01";
}
