namespace RapidGable.Service;

/// <summary>What keys of programs start with, by which they are known wherever they do not belong.</summary>
internal static class KeyText
{
    public const string Prefix = "gablekey";
}
