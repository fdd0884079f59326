using System.Collections.Concurrent;

namespace RapidGable.Core.Tests;

public class StaticStateTests
{
    /// <summary>With the reason.</summary>
    private static readonly Dictionary<string, string> Excepted = new()
    {
        ["RequestAllowance.<Own>k__BackingField"] = "It counts nothing.",
    };

    private sealed class Counting
    {
        public static readonly Counting Instance = new();
        public static readonly ConcurrentDictionary<string, int> Known = new();
        public static readonly Holder Held = new(new Counting());
        public static readonly string Fixed = "";
        private int _count;

        public int Next() => ++_count;
    }

    private sealed record Holder(object Inner);

    [Fact]
    public void What_could_remember_is_found()
    {
        var found = StaticState.Of(typeof(StaticStateTests).Assembly).Select(f => f.Field).Where(f => f.StartsWith("Counting."));
        Assert.Equal(["Counting.Held", "Counting.Instance", "Counting.Known"], found);
        Assert.Equal(1, Counting.Instance.Next());
    }

    [Fact]
    public void Nothing_static_in_the_core_remembers() =>
        Assert.Equal(Excepted.Keys, StaticState.Of(typeof(Model.EntityModel).Assembly).Select(f => $"{f.Field}{Shown(f)}"));

    private static string Shown((string Field, string What) found) => Excepted.ContainsKey(found.Field) ? "" : $" ({found.What})";
}
