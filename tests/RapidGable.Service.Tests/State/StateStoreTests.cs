using System.Diagnostics;
using System.Text;
using RapidGable.Core.Tests;
using RapidGable.Service.State;
using RapidGable.Service.Stores;

namespace RapidGable.Service.Tests;

/// <summary>What every store of the state must do, and what one in a folder does besides.</summary>
public sealed class StateStoreTests : IDisposable
{
    private readonly TestWorkspace _folder = new();

    public void Dispose() => _folder.Dispose();

    private FolderState InFolder() => new(Path.Combine(_folder.Folder, "state"), _folder.Folder);

    private IStateStore Store(string kind) => kind == "folder" ? InFolder() : new StateInMemory();

    private static byte[] Bytes(string text) => Encoding.UTF8.GetBytes(text);

    private static string? Text(StateDocument? document) => document is null ? null : Encoding.UTF8.GetString(document.Bytes.Span);

    [Theory]
    [InlineData("folder")]
    [InlineData("memory")]
    public void A_document_changes_from_the_version_that_was_read(string kind)
    {
        var store = Store(kind);
        Assert.Null(store.Find("room", "a"));
        Assert.Null(store.VersionOf("room", "a"));
        var first = store.Write("room", "a", Bytes("one"), null);
        Assert.NotNull(first);
        Assert.Equal(first, store.VersionOf("room", "a"));
        // Two who read the same: one wins, and the other is told.
        var second = store.Write("room", "a", Bytes("two"), first);
        Assert.NotNull(second);
        Assert.NotEqual(first, second);
        Assert.Null(store.Write("room", "a", Bytes("three"), first));
        Assert.Null(store.Write("room", "a", Bytes("three"), null));
        Assert.Equal("two", Text(store.Find("room", "a")));
        store.Write("room", "b", Bytes(""), null);
        Assert.Equal(["a", "b"], store.Names("room").AsEnumerable());
        Assert.Empty(store.Names("other"));
        store.Remove("room", "a");
        store.Remove("room", "a");
        Assert.Equal(["b"], store.Names("room").AsEnumerable());
        Assert.Null(store.Write("room", "a", Bytes("x"), second));
    }

    [Theory]
    [InlineData("folder")]
    [InlineData("memory")]
    public void A_journal_is_read_from_its_end(string kind)
    {
        var store = Store(kind);
        Assert.Empty(store.LinesFromEnd("log", "day"));
        store.Append("log", "day", Bytes("one\ntwo\n"));
        store.Append("log", "day", Bytes("three\n"));
        store.Append("log", "next", Bytes("four\n"));
        Assert.Equal(["three", "two", "one"], store.LinesFromEnd("log", "day"));
        Assert.Equal(["day", "next"], store.Parts("log").AsEnumerable());
        store.RemovePart("log", "day");
        Assert.Equal(["next"], store.Parts("log").AsEnumerable());
    }

    [Theory]
    [InlineData("folder")]
    [InlineData("memory")]
    public async Task Changes_at_once_lose_nothing(string kind)
    {
        var store = Store(kind);
        await Task.WhenAll(
            Enumerable
                .Range(0, 8)
                .Select(n =>
                    Task.Run(() =>
                    {
                        for (var i = 0; i < 10; i++)
                            store.Change<List<string>>("room", "list.json", before => [.. before ?? [], $"{n}-{i}"]);
                    })
                )
        );
        Assert.Equal(80, store.Read<List<string>>("room", "list.json")!.Distinct().Count());
    }

    [Theory]
    [InlineData("../out")]
    [InlineData(".lock")]
    [InlineData("a/b")]
    [InlineData("")]
    public void A_name_leads_nowhere_else(string name) =>
        Assert.Throws<StateException>(() => InFolder().Write("room", name, Bytes("x"), null));

    [Fact]
    public void Only_the_owner_reads_it()
    {
        InFolder().Write("room", "a", Bytes("x"), null);
        if (OperatingSystem.IsWindows())
            return;
        var folder = Path.Combine(_folder.Folder, "state");
        Assert.Equal("700", Mode(folder));
        Assert.Equal("700", Mode(Path.Combine(folder, "room")));
        Assert.Equal("600", Mode(Path.Combine(folder, "room", "a")));
    }

    private static string Mode(string path) => OperatingSystem.IsWindows() ? "" : Convert.ToString((int)File.GetUnixFileMode(path), 8);

    [Fact] // what the workspace kept before there was a state
    public void Former_files_are_taken_over()
    {
        _folder.Write("accounts.json", "{\"users\":{},\"keys\":{},\"administrators\":{}}").Write("audit/2026-01-02.jsonl", "{}\n");
        Assert.NotNull(AccountsInState.Read(InFolder()));
        Assert.False(File.Exists(Path.Combine(_folder.Folder, "accounts.json")));
        Assert.False(Directory.Exists(Path.Combine(_folder.Folder, "audit")));
        Assert.Equal(["2026-01-02.jsonl"], InFolder().Parts(StateRooms.Audit).AsEnumerable());
    }

    [Theory]
    [InlineData("{\"format\": 2}", "Use the newer version")]
    [InlineData("{\"format\": 0}", "which there never was")]
    [InlineData("{\"for", "cannot be read")]
    [InlineData("[]", "cannot be read")]
    public void Another_format_is_refused(string format, string message)
    {
        _folder.Write("state/format.json", format).Write("state/room/a", "kept");
        var thrown = Assert.Throws<StateException>(() => InFolder().Find("room", "a"));
        Assert.Contains(message, thrown.Message);
        Assert.Throws<StateException>(() => InFolder().Write("room", "a", Bytes("x"), null));
        Assert.Equal("kept", File.ReadAllText(Path.Combine(_folder.Folder, "state/room/a")));
    }

    [Fact] // what somebody left behind who was killed
    public void An_unfinished_document_is_none()
    {
        var store = InFolder();
        var version = store.Write("room", "a", Bytes("whole"), null);
        _folder.Write("state/room/a.unfinished", "ha").Write("state/room/b.unfinished", "ha");
        Assert.Equal(["a"], InFolder().Names("room").AsEnumerable());
        Assert.Equal("whole", Text(InFolder().Find("room", "a")));
        Assert.NotNull(InFolder().Write("room", "a", Bytes("next"), version));
        File.AppendAllText(Path.Combine(_folder.Folder, "state/log"), "");
        store.Append("lines", "day", Bytes("one\n"));
        File.AppendAllText(Path.Combine(_folder.Folder, "state/lines/day"), "torn");
        store.Append("lines", "day", Bytes("two\n"));
        Assert.Equal(["two", "torn", "one"], store.LinesFromEnd("lines", "day"));
    }

    [Fact]
    public void A_folder_that_cannot_be_written_is_told()
    {
        _folder.Write("state", "in the way");
        Assert.Contains("cannot be opened", Assert.Throws<StateException>(() => InFolder().Write("room", "a", Bytes("x"), null)).Message);
    }

    [Fact] // commands that are killed at any moment
    public async Task A_kill_leaves_the_former_state_or_the_new_one()
    {
        _folder.Write("workspace.yaml", "title: T\n");
        Assert.Equal(0, (await Gable.RunAsync(_folder.Folder, "api-key", "make", ".", "first", "--role", "a")).Code);
        for (var i = 0; i < 8; i++)
        {
            using var process = Gable.Start(_folder.Folder, "api-key", "make", ".", $"k{i}", "--role", "a");
            await Task.Delay(120 + (i * 45));
            process.Kill(entireProcessTree: true);
            await process.WaitForExitAsync();
            var kept = AccountsInState.Read(InFolder())!;
            Assert.Contains(kept.Keys.Values, k => k.Name == "first");
            Assert.All(kept.Keys.Values, k => Assert.NotEmpty(k.Secret));
        }
        Assert.Equal(0, (await Gable.RunAsync(_folder.Folder, "api-key", "make", ".", "last", "--role", "a")).Code);
    }

    [Fact] // a small disk that another file fills
    public async Task A_full_disk_keeps_what_was_there()
    {
        _folder.WithSource().WithNetwork(50).WithService(NetworkFixture.AllSets);
        var state = Directory.CreateDirectory(Path.Combine(_folder.Folder, "state")).FullName;
        var isMounted = await RunAsync("mount", "-t", "tmpfs", "-o", "size=200k", "tmpfs", state);
        try
        {
            Assert.Equal(0, (await Gable.RunAsync(_folder.Folder, "publish", ".", "--no-data", "--message", "first")).Code);
            Fill(state, isMounted);
            _folder.WithService(NetworkFixture.AllSets + "  - { from: station, name: Others, type: Other, hide: [photo] }\n");
            var full = await Gable.RunAsync(_folder.Folder, "publish", ".", "--no-data", "--message", "second", "--allow-opened");
            Assert.True(full.Code == 1, full.Output + full.Errors);
            Assert.Contains("cannot be kept", full.Errors);
            var history = (await Gable.RunAsync(_folder.Folder, "history", ".", "--json")).Json.GetProperty("revisions");
            Assert.Equal(1, history.GetArrayLength());
            MakeRoom(state, isMounted);
            Assert.Equal(
                0,
                (await Gable.RunAsync(_folder.Folder, "publish", ".", "--no-data", "--message", "second", "--allow-opened")).Code
            );
        }
        finally
        {
            if (isMounted)
                await RunAsync("umount", state);
        }
    }

    /// <summary>Leaves no room; without a disk of its own, something stands where the folder was.</summary>
    private static void Fill(string state, bool isMounted)
    {
        if (!isMounted)
        {
            Directory.Move(Path.Combine(state, "contents"), Path.Combine(state, "aside"));
            File.WriteAllText(Path.Combine(state, "contents"), "");
            return;
        }
        try
        {
            using var filler = new FileStream(
                Path.Combine(state, "contents", "filler"),
                FileMode.Create,
                FileAccess.Write,
                FileShare.None,
                0
            );
            for (var i = 0; i < 400; i++)
                filler.Write(new byte[1024]);
        }
        catch (IOException)
        {
            // It is full.
        }
    }

    private static void MakeRoom(string state, bool isMounted)
    {
        if (isMounted)
        {
            File.Delete(Path.Combine(state, "contents", "filler"));
            return;
        }
        File.Delete(Path.Combine(state, "contents"));
        Directory.Move(Path.Combine(state, "aside"), Path.Combine(state, "contents"));
    }

    /// <summary>Whether a command could be run, and ended well.</summary>
    private static async Task<bool> RunAsync(string command, params string[] arguments)
    {
        try
        {
            var start = new ProcessStartInfo(command, arguments) { RedirectStandardError = true };
            using var process = Process.Start(start)!;
            await process.WaitForExitAsync();
            return process.ExitCode == 0;
        }
        catch (System.ComponentModel.Win32Exception)
        {
            return false;
        }
    }
}
