namespace RapidGable.Declarations;

/// <summary>How public names are made from the source's, where a declaration gives none.</summary>
public enum NamingPolicy
{
    /// <summary>The source's own names.</summary>
    AsIs,

    /// <summary><c>OpenedOn</c>; sets in the plural, types in the singular.</summary>
    PascalCase,

    /// <summary><c>openedOn</c>; sets in the plural, types in the singular and in Pascal case.</summary>
    CamelCase,
}
