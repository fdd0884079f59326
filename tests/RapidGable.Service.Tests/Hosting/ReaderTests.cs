using System.Diagnostics;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>No input ends the process.</summary>
[Trait("Category", "Attack")]
public class ReaderTests
{
    public static TheoryData<string> Readers => [.. ReadersAlone.Names];

    [Theory, MemberData(nameof(Readers))]
    public async Task A_reader_outlives_whatever_it_is_given(string reader)
    {
        var start = new ProcessStartInfo("dotnet", ["exec", typeof(ReaderTests).Assembly.Location, reader])
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        // 256 MiB.
        start.Environment["DOTNET_GCHeapHardLimit"] = "0x10000000";
        using var process = Process.Start(start)!;
        var (output, errors) = (process.StandardOutput.ReadToEndAsync(), process.StandardError.ReadToEndAsync());
        using var limit = new CancellationTokenSource(TimeSpan.FromMinutes(2));
        await process.WaitForExitAsync(limit.Token);
        Assert.True(process.ExitCode == 0, $"{process.ExitCode}: {await errors}");
        Assert.Contains("inputs read", await output);
    }

    /// <summary>With the reason.</summary>
    private static readonly Dictionary<string, string> Excepted = new()
    {
        ["FolderState.Patience"] = "How writing is tried again: the library counts nothing in it.",
        ["PreviewEndpoints.Client"] = "Connections to the preview are shared, as any client's are.",
        ["ProblemTexts.Texts"] = "A document of the program, read once.",
    };

    [Fact]
    public void Nothing_static_in_the_service_remembers() =>
        Assert.Equal(
            Excepted.Keys,
            StaticState.Of(typeof(Service.Hosting.ServiceHost).Assembly).Select(f => Excepted.ContainsKey(f.Field) ? f.Field : $"{f}")
        );
}
