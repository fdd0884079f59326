namespace RapidGable.Core.Tests;

/// <summary>How much longer than usual random tests go on.</summary>
internal static class Soak
{
    /// <summary>How many times more cases there are: 20 with <c>make soak</c>, else 1.</summary>
    public static int Times => int.TryParse(Environment.GetEnvironmentVariable("GABLE_SOAK"), out var times) ? times : 1;
}
