using System.Text.Json.Serialization;

namespace RapidGable.Service.Auditing;

/// <summary>The kinds of what is noted.</summary>
public static class AuditEvents
{
    /// <summary>Somebody showed who they are; noted again after a while only.</summary>
    public const string SignIn = "sign-in";

    /// <summary>Somebody showed something wrong.</summary>
    public const string SignInRefused = "sign-in-refused";

    /// <summary>Somebody asked for what rules keep from them.</summary>
    public const string Refused = "refused";

    /// <summary>Somebody created, changed or deleted something.</summary>
    public const string Changed = "changed";

    /// <summary>Somebody asked for too much.</summary>
    public const string Limited = "limited";

    /// <summary>An administrator, or who works in the workspace's folder, looked at or changed something.</summary>
    public const string Management = "management";

    /// <summary>So much happened, or was refused in a day, that some of it is not noted.</summary>
    public const string Lost = "lost";

    public static readonly string[] All = [SignIn, SignInRefused, Refused, Changed, Limited, Management, Lost];
}

/// <summary>One thing that happened. It holds no secret, no query option and no body.</summary>
/// <param name="Time">In UTC.</param>
/// <param name="Event">One of <see cref="AuditEvents"/>.</param>
public sealed record AuditEvent(DateTime Time, [property: JsonPropertyName("event")] string Event)
{
    /// <summary>Who; null = an anonymous caller.</summary>
    public string? Caller { get; init; }

    /// <summary>How they showed it: password, key, token, certificate, proxy, console, or command.</summary>
    public string? By { get; init; }

    /// <summary>The id of the key that was sent.</summary>
    public string? Key { get; init; }

    /// <summary>Where from.</summary>
    public string? Address { get; init; }

    public string? Method { get; init; }

    /// <summary>The path that was asked for, without options.</summary>
    public string? Path { get; init; }

    public int? Status { get; init; }

    /// <summary>The code of the error, as docs/errors.md lists it.</summary>
    public string? Code { get; init; }

    /// <summary>How many like it followed within a minute and are told by this one; null = it stands for itself.</summary>
    public int? Count { get; init; }

    /// <summary>In words, where there is more to say.</summary>
    public string? Detail { get; init; }
}
