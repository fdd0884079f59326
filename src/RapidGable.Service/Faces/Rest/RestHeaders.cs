namespace RapidGable.Service.Faces.Rest;

/// <summary>Headers that only this face knows.</summary>
internal static class RestHeaders
{
    /// <summary>The id of a request that may be sent again (draft of the HTTPAPI working group).</summary>
    public const string IdempotencyKey = "Idempotency-Key";
}
