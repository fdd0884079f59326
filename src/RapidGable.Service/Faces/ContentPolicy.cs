namespace RapidGable.Service.Faces;

/// <summary>What browsers may do with answers (Content Security Policy), by where their bytes come from.</summary>
internal static class ContentPolicy
{
    /// <summary>
    /// Bytes that callers may have stored, whatever their media type says: never a page of this origin. Every answer of a face has it.
    /// </summary>
    public const string Untrusted = "sandbox; default-src 'none'";

    /// <summary>Pages that the service writes itself: their own styles, and nothing that runs.</summary>
    public const string OwnPage =
        "default-src 'none'; style-src 'unsafe-inline'; img-src data:; base-uri 'none'; form-action 'none'; frame-ancestors 'none'";
}
