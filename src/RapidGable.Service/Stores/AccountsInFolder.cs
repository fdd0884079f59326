using System.Text.Json;
using System.Text.Json.Serialization;
using Polly;
using Polly.Retry;
using RapidGable.Service.Identity;

namespace RapidGable.Service.Stores;

/// <summary>The accounts of a workspace as a file of its folder, which several processes may change.</summary>
public static class AccountsInFolder
{
    /// <summary>The file's name in the workspace's folder.</summary>
    public const string Name = "accounts.json";

    /// <summary>Another process holds the file for milliseconds only.</summary>
    private static readonly ResiliencePipeline Patience = new ResiliencePipelineBuilder()
        .AddRetry(
            new RetryStrategyOptions
            {
                ShouldHandle = new PredicateBuilder().Handle<IOException>(),
                MaxRetryAttempts = 100,
                Delay = TimeSpan.FromMilliseconds(50),
                BackoffType = DelayBackoffType.Constant,
            }
        )
        .Build();

    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web)
    {
        WriteIndented = true,
        DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull,
        UnmappedMemberHandling = JsonUnmappedMemberHandling.Disallow,
        RespectNullableAnnotations = true,
    };

    /// <summary>Null = the workspace has none, and nobody can sign in.</summary>
    /// <exception cref="InvalidDataException">When it is not one.</exception>
    public static AccountDirectory? Read(string folder)
    {
        var path = Path.Combine(folder, Name);
        try
        {
            if (!File.Exists(path))
                return null;
            var read = JsonSerializer.Deserialize<AccountDirectory>(File.ReadAllBytes(path), Json);
            return
                read is not null
                && read.Users.Values.All(u => u is { Roles.IsDefault: false })
                && read.Keys.Values.All(k => k is { Roles.IsDefault: false })
                && read.Administrators.Values.All(a => a is not null)
                ? read
                : throw new JsonException("A value is null.");
        }
        catch (Exception exception) when (exception is JsonException or IOException or UnauthorizedAccessException or ArgumentException)
        {
            throw new InvalidDataException($"{Name} cannot be read: {exception.Message}", exception);
        }
    }

    /// <summary>Changes the file of a folder, while nobody else does; gives what it holds then.</summary>
    /// <exception cref="InvalidDataException">When it cannot be read, or somebody else goes on changing it.</exception>
    public static AccountDirectory Change(string folder, Func<AccountDirectory, AccountDirectory> change)
    {
        using var held = Hold(Path.Combine(folder, Name + ".lock"));
        var changed = change(Read(folder) ?? new AccountDirectory());
        changed.Write(folder);
        return changed;
    }

    private static FileStream Hold(string path)
    {
        try
        {
            return Patience.Execute(() =>
                new FileStream(path, FileMode.OpenOrCreate, FileAccess.Write, FileShare.None, 1, FileOptions.DeleteOnClose)
            );
        }
        catch (IOException exception)
        {
            throw new InvalidDataException($"{Name} is being changed by somebody else: {exception.Message}", exception);
        }
    }

    /// <summary>Replaces the file as a whole; only its owner may read it.</summary>
    public static void Write(this AccountDirectory accounts, string folder)
    {
        var path = Path.Combine(folder, Name);
        var next = path + ".new";
        File.Delete(next);
        var options = new FileStreamOptions { Mode = FileMode.CreateNew, Access = FileAccess.Write };
        if (!OperatingSystem.IsWindows())
            options.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
        using (var stream = new FileStream(next, options))
            JsonSerializer.Serialize(stream, accounts, Json);
        File.Move(next, path, overwrite: true);
    }
}
