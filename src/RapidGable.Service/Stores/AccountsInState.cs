using System.Collections.Immutable;
using System.Text.Json;
using System.Text.Json.Serialization;
using RapidGable.Service.Identity;
using RapidGable.Service.State;

namespace RapidGable.Service.Stores;

/// <summary>The accounts of a workspace as a document of its state, which several processes may change.</summary>
public static class AccountsInState
{
    /// <summary>The name of the document.</summary>
    public const string Name = "accounts.json";

    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web)
    {
        WriteIndented = true,
        DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull,
        UnmappedMemberHandling = JsonUnmappedMemberHandling.Disallow,
        RespectNullableAnnotations = true,
    };

    /// <summary>Null = the workspace has none, and nobody can sign in.</summary>
    /// <exception cref="StateException">When they cannot be read.</exception>
    public static AccountDirectory? Read(IStateStore state) => state.Find(StateRooms.Accounts, Name) is { } kept ? Parse(kept) : null;

    private static AccountDirectory Parse(StateDocument kept)
    {
        try
        {
            var read = JsonSerializer.Deserialize<AccountDirectory>(kept.Bytes.Span, Json);
            return
                read is not null
                && read.Users.Values.All(u => u is { Roles.IsDefault: false })
                && read.Keys.Values.All(k => k is { Roles.IsDefault: false })
                && read.Administrators.Values.All(a => a is not null && IsKnown(a.Rights))
                && read.Keys.Values.All(k => IsKnown(k.Rights))
                ? read
                : throw new JsonException("A value is null.");
        }
        catch (Exception exception) when (exception is JsonException or ArgumentException)
        {
            throw new StateException($"{Name} cannot be read: {exception.Message}", exception);
        }
    }

    /// <summary>Rights that this version does not know could be fewer than it would give.</summary>
    private static bool IsKnown(ImmutableArray<string>? rights) =>
        rights is not { IsDefault: false } words || words.All(w => ManagementRightWords.All.Contains(w));

    /// <summary>Changes the accounts; gives what they are then.</summary>
    /// <param name="change">Is done again when somebody else was faster.</param>
    /// <exception cref="StateException">When they cannot be read or kept.</exception>
    public static AccountDirectory Change(IStateStore state, Func<AccountDirectory, AccountDirectory> change) =>
        state.Change<AccountDirectory>(
            StateRooms.Accounts,
            Name,
            Parse,
            accounts => JsonSerializer.SerializeToUtf8Bytes(accounts, Json),
            accounts => change(accounts ?? new AccountDirectory())
        )!;
}
