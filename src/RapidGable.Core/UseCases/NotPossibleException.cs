namespace RapidGable.UseCases;

/// <summary>What was asked for cannot be done as it was asked for; the message says what is wrong and what there is instead.</summary>
public sealed class NotPossibleException(string message) : Exception(message)
{
    /// <summary>What was named is not there; else the request itself is wrong.</summary>
    public bool IsAbsent { get; init; }
}
