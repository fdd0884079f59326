using RapidGable.Model;

namespace RapidGable.Sources;

/// <summary>The settings that sources on a server share.</summary>
/// <param name="Connection">A whole connection string; null = from the single settings.</param>
/// <param name="Tls">One of off, prefer, require, verify; null when a connection string says it.</param>
internal sealed record ServerSettings(
    string? Connection,
    string? Host,
    int? Port,
    string? Database,
    string? User,
    string? Password,
    string? Tls,
    string? Certificate,
    int StatementSeconds,
    int ConnectSeconds,
    int Sessions
)
{
    /// <summary>What messages call the server and what is asked of it.</summary>
    public ServerNames Names(SettingsReader reader, string? host, int port, string? database, string? user)
    {
        string Shown(string setting, string? value) =>
            reader.IsSecret(setting) || reader.IsSecret("connection") ? reader.Shown(setting) : value ?? "";
        return new ServerNames(
            $"{Shown("host", host)}:{Shown("port", $"{port}")}",
            Shown("host", host),
            Shown("database", database),
            Shown("user", user)
        );
    }

    // A port that is none is told; until then any will do.
    private const int UsualPort = 1;

    /// <param name="engine">The engine that a URI under <c>connection</c> must be of.</param>
    public static ServerSettings Read(SettingsReader reader, string engine)
    {
        var connection = reader.Text("connection");
        if (connection is not null && DatabaseAddress.IsUri(connection))
        {
            if (DatabaseAddress.Parse(connection, out var fault) is { } address && address.Engine == engine)
                reader.Add(address.Settings);
            else
                reader.Report(
                    "connection",
                    reader.IsSecret("connection")
                        ? $"The URI in {reader.Shown("connection")} cannot be used for this engine."
                        : fault ?? $"The URI is of another engine than '{engine}'."
                );
            connection = null;
        }
        return new ServerSettings(
            connection,
            reader.Text("host"),
            reader.Text("port") is null ? null : reader.Number("port", UsualPort, 1, 65_535),
            reader.Text("database"),
            reader.Text("user"),
            reader.Text("password"),
            reader.Text("tls") is null && connection is not null
                ? null
                : reader.OneOf("tls", "prefer", "off", "prefer", "require", "verify"),
            reader.Text("tls-certificate"),
            reader.Number("statement-seconds", Limits.StatementSeconds, 1, 86_400),
            reader.Number("connect-seconds", 10, 1, 600),
            reader.Number("sessions", Math.Max(4, Environment.ProcessorCount * 2), 1, 1_000)
        );
    }

    /// <summary>Says that a connection string is wrong, without quoting it: it may hold the password.</summary>
    public static void ReportConnection(SettingsReader reader, string example) =>
        reader.Report("connection", "The connection string cannot be read.", $"Write pairs such as '{example}'.");

    /// <summary>Says which of the settings that no connection can do without are missing.</summary>
    public static void ReportMissing(SettingsReader reader, string? host, string? database, string? user)
    {
        foreach (var (setting, value) in new[] { ("host", host), ("database", database), ("user", user) })
        {
            if (string.IsNullOrEmpty(value))
                reader.Report(setting, $"'{setting}' is missing.", $"Write '{setting}: …', or all in one as 'connection: …'.");
        }
    }
}

/// <summary>What messages call a server, without anything that came from a variable.</summary>
/// <param name="Place">Host and port.</param>
internal sealed record ServerNames(string Place, string Host, string Database, string User);
