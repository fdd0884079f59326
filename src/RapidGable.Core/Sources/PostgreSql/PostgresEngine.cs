using System.Text.RegularExpressions;
using Npgsql;
using RapidGable.Model;

namespace RapidGable.Sources.PostgreSql;

/// <summary>PostgreSQL servers.</summary>
public sealed partial class PostgresEngine : IEngine
{
    public string Name => "postgresql";

    public IReadOnlyList<string> OtherNames => ["postgres"];

    public ISource? Open(string name, string folder, IReadOnlyDictionary<string, SettingText> settings, ICollection<SettingFault> faults)
    {
        var reader = new SettingsReader("PostgreSQL", settings, faults);
        var server = ServerSettings.Read(reader, Name);
        var builder = Connection(server, reader);
        var callerSettings = reader.Inner("caller-settings");
        foreach (var (setting, attribute) in callerSettings)
        {
            if (setting != "role" && !SettingName().IsMatch(setting))
                reader.Report(
                    "caller-settings." + setting,
                    $"'{setting}' is not a setting that a source can be told with.",
                    "Write 'role', or a name of your own with a dot, such as app.region."
                );
            if (!SimpleIdentifier.IsValid(attribute))
                reader.Report(
                    "caller-settings." + setting,
                    $"'{attribute}' is not the name of an attribute.",
                    "Write one such as user or region."
                );
        }
        reader.ReportUnknown();
        if (builder is null || reader.HasFaults)
            return null;
        builder.ApplicationName = "rapid-gable";
        builder.Timeout = server.ConnectSeconds;
        // The server's own limit ends a statement; the client waits a little longer for its word.
        builder.CommandTimeout = server.StatementSeconds + 5;
        builder.MaxPoolSize = server.Sessions;
        builder.MaxAutoPrepare = 200;
        builder.AutoPrepareMinUsages = 2;
        // Who asked before must not be known to who asks next.
        builder.NoResetOnClose = callerSettings.Count == 0;
        builder.PersistSecurityInfo = false;
        // The columns of a broken unique key are told there alone; of the rest of it nothing goes on.
        builder.IncludeErrorDetail = true;
        builder.Options =
            $"-c TimeZone=UTC -c DateStyle=ISO -c default_transaction_read_only=on -c statement_timeout={server.StatementSeconds * 1000}";
        var names = server.Names(reader, builder.Host, builder.Port, builder.Database, builder.Username);
        return new PostgresSource(name, builder, names, server.Sessions, server.StatementSeconds) { CallerSettings = callerSettings };
    }

    [GeneratedRegex("^[a-z_][a-z0-9_]*[.][a-z_][a-z0-9_]*$")]
    private static partial Regex SettingName();

    private static NpgsqlConnectionStringBuilder? Connection(ServerSettings server, SettingsReader reader)
    {
        NpgsqlConnectionStringBuilder builder;
        try
        {
            builder = new NpgsqlConnectionStringBuilder(server.Connection ?? "");
        }
        catch (Exception exception) when (exception is ArgumentException or FormatException or InvalidOperationException)
        {
            ServerSettings.ReportConnection(reader, "Host=…;Database=…;Username=…;Password=${VARIABLE}");
            return null;
        }
        builder.Host = server.Host ?? builder.Host;
        builder.Port = server.Port ?? builder.Port;
        builder.Database = server.Database ?? builder.Database;
        builder.Username = server.User ?? builder.Username;
        builder.Password = server.Password ?? builder.Password;
        builder.RootCertificate = server.Certificate ?? builder.RootCertificate;
        builder.SslMode = server.Tls switch
        {
            null => builder.SslMode,
            "off" => SslMode.Disable,
            "require" => SslMode.Require,
            "verify" => SslMode.VerifyFull,
            _ => SslMode.Prefer,
        };
        ServerSettings.ReportMissing(reader, builder.Host, builder.Database, builder.Username);
        return builder;
    }
}
