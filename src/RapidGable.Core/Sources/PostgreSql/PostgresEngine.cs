using Npgsql;
using RapidGable.Model;

namespace RapidGable.Sources.PostgreSql;

/// <summary>PostgreSQL servers.</summary>
public sealed class PostgresEngine : IEngine
{
    public string Name => "postgresql";

    public ISource? Open(string name, string folder, IReadOnlyDictionary<string, string> settings, ICollection<SettingFault> faults)
    {
        var reader = new SettingsReader("PostgreSQL", settings, faults);
        var builder = Connection(reader);
        var seconds = reader.Number("statement-seconds", Limits.StatementSeconds, 1, 86_400);
        var sessions = reader.Number("sessions", Math.Max(4, Environment.ProcessorCount * 2), 1, 1_000);
        var connectSeconds = reader.Number("connect-seconds", 10, 1, 600);
        reader.ReportUnknown();
        if (reader.HasFaults)
            return null;
        builder.ApplicationName = "rapid-gable";
        builder.Timeout = connectSeconds;
        // The server's own limit ends a statement; the client waits a little longer for its word.
        builder.CommandTimeout = seconds + 5;
        builder.MaxPoolSize = sessions;
        builder.MaxAutoPrepare = 200;
        builder.AutoPrepareMinUsages = 2;
        builder.NoResetOnClose = true;
        builder.Options = $"-c TimeZone=UTC -c DateStyle=ISO -c default_transaction_read_only=on -c statement_timeout={seconds * 1000}";
        return new PostgresSource(name, builder, sessions);
    }

    /// <summary>From one connection string, or from single settings.</summary>
    private static NpgsqlConnectionStringBuilder Connection(SettingsReader reader)
    {
        var whole = reader.Text("connection");
        var host = reader.Text("host");
        var port = reader.Number("port", 5432, 1, 65_535);
        var database = reader.Text("database");
        var user = reader.Text("user");
        var password = reader.Text("password");
        var tls = reader.OneOf("tls", "prefer", "off", "prefer", "require", "verify");
        var certificate = reader.Text("tls-certificate");
        var builder = new NpgsqlConnectionStringBuilder();
        try
        {
            builder.ConnectionString = whole ?? "";
        }
        catch (Exception exception) when (exception is ArgumentException or FormatException or InvalidOperationException)
        {
            // The library's message may quote a part of the text, which may be the password.
            reader.Fault("connection", "The connection string cannot be read.", "Write pairs such as 'Host=…;Database=…;Username=…;Password=${VARIABLE}'.");
            return builder;
        }
        if (whole is null)
        {
            builder.Port = port;
            builder.SslMode = tls switch { "off" => SslMode.Disable, "require" => SslMode.Require, "verify" => SslMode.VerifyFull, _ => SslMode.Prefer };
        }
        builder.Host = host ?? builder.Host;
        builder.Database = database ?? builder.Database;
        builder.Username = user ?? builder.Username;
        builder.Password = password ?? builder.Password;
        builder.RootCertificate = certificate ?? builder.RootCertificate;
        foreach (var (setting, value) in new[] { ("host", builder.Host), ("database", builder.Database), ("user", builder.Username) })
        {
            if (string.IsNullOrEmpty(value))
                reader.Fault(setting, $"'{setting}' is missing.", $"Write '{setting}: …', or all in one as 'connection: …'.");
        }
        builder.PersistSecurityInfo = false;
        builder.IncludeErrorDetail = false;
        return builder;
    }
}
