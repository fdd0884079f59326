using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>The demo workspace as it stands in the repository, over databases of its own.</summary>
internal static class DemoFolder
{
    private static readonly string Demo = Path.Combine(Gable.Root, "demo");

    /// <summary>Writes the demo's declarations and its databases.</summary>
    public static TestWorkspace WithDemo(this TestWorkspace folder, int readings = 3_000)
    {
        folder.Write("workspace.yaml", Read("workspace.yaml"));
        foreach (var service in Directory.EnumerateFiles(Path.Combine(Demo, "services")))
            folder.Write("services/" + Path.GetFileName(service), File.ReadAllText(service));
        foreach (var kept in Directory.EnumerateFiles(Path.Combine(Demo, "requests")))
            folder.Write("requests/" + Path.GetFileName(kept), File.ReadAllText(kept).Replace("time 2000 ms", "time 60000 ms"));
        return folder
            .Write("sources/network.yaml", Read("sources/network.yaml").Replace("data/network.db", "data.db"))
            .WithNetwork(readings)
            .WithLab();
    }

    /// <summary>Makes the coordinator's account, as whom requests may be sent by <paramref name="password"/>.</summary>
    public static async Task WithInesAsync(this TestWorkspace folder, string password)
    {
        var made = await Gable.RunWithAsync(password, folder.Folder, "user", "set", ".", "ines", "--role", "coordinator");
        Assert.True(made.Code == 0, made.Errors);
    }

    private static string Read(string file) => File.ReadAllText(Path.Combine(Demo, file));
}
