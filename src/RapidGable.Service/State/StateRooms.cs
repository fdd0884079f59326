namespace RapidGable.Service.State;

/// <summary>The rooms and journals of a store; each is used by one class.</summary>
public static class StateRooms
{
    public const string Accounts = "accounts";

    /// <summary>What is told of each revision, by its number.</summary>
    public const string Revisions = "revisions";

    /// <summary>What each revision holds, by its number.</summary>
    public const string Contents = "contents";

    public const string Switches = "switches";

    public const string Sessions = "sessions";

    public const string Secrets = "secrets";

    /// <summary>Answers of repeatable requests.</summary>
    public const string Answers = "answers";

    /// <summary>The newest verifications, by their numbers.</summary>
    public const string Verifications = "verifications";

    /// <summary>The journal of what happened; a part for each day.</summary>
    public const string Audit = "audit";
}
