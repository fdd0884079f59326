namespace RapidGable.Service.Faces;

/// <summary>The headers of a request that may be sent again (OASIS Repeatable Requests 1.0).</summary>
internal static class RepeatHeaders
{
    public const string Id = "Repeatability-Request-ID";
    public const string Sent = "Repeatability-First-Sent";
    public const string Result = "Repeatability-Result";
}
