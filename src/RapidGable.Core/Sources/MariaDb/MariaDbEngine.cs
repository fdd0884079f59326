using MySqlConnector;
using RapidGable.Model;

namespace RapidGable.Sources.MariaDb;

/// <summary>MariaDB servers, and MySQL ones from version 8.</summary>
public sealed class MariaDbEngine : IEngine
{
    public string Name => "mariadb";

    public IReadOnlyList<string> OtherNames => ["mysql"];

    public ISource? Open(string name, string folder, IReadOnlyDictionary<string, SettingText> settings, ICollection<SettingFault> faults)
    {
        var reader = new SettingsReader("MariaDB", settings, faults);
        var server = ServerSettings.Read(reader, Name);
        var builder = Connection(server, reader);
        reader.ReportUnknown();
        if (builder is null || reader.HasFaults)
            return null;
        builder.ApplicationName = "rapid-gable";
        builder.ConnectionTimeout = (uint)server.ConnectSeconds;
        builder.DefaultCommandTimeout = (uint)server.StatementSeconds + 5;
        builder.MaximumPoolSize = (uint)server.Sessions;
        builder.ConnectionReset = false;
        builder.IgnorePrepare = false;
        builder.TreatTinyAsBoolean = false;
        // What a procedure gives back by its parameters is put into variables of the session.
        builder.AllowUserVariables = true;
        // '0000-00-00' is a value like any other, until it has to be served.
        builder.AllowZeroDateTime = true;
        builder.GuidFormat = MySqlGuidFormat.None;
        builder.DateTimeKind = MySqlDateTimeKind.Utc;
        builder.PersistSecurityInfo = false;
        // The server must not be able to ask for files of this machine.
        builder.AllowLoadLocalInfile = false;
        var names = server.Names(reader, builder.Server, (int)builder.Port, builder.Database, builder.UserID);
        return new MariaDbSource(name, builder, names, server.Sessions, server.StatementSeconds);
    }

    private static MySqlConnectionStringBuilder? Connection(ServerSettings server, SettingsReader reader)
    {
        MySqlConnectionStringBuilder builder;
        try
        {
            builder = new MySqlConnectionStringBuilder(server.Connection ?? "");
        }
        catch (Exception exception) when (exception is ArgumentException or FormatException or InvalidOperationException)
        {
            ServerSettings.ReportConnection(reader, "Server=…;Database=…;User ID=…;Password=${VARIABLE}");
            return null;
        }
        builder.Server = server.Host ?? builder.Server;
        builder.Port = (uint?)server.Port ?? builder.Port;
        builder.Database = server.Database ?? builder.Database;
        builder.UserID = server.User ?? builder.UserID;
        builder.Password = server.Password ?? builder.Password;
        builder.SslCa = server.Certificate ?? builder.SslCa;
        builder.SslMode = server.Tls switch
        {
            null => builder.SslMode,
            "off" => MySqlSslMode.None,
            "require" => MySqlSslMode.Required,
            "verify" => MySqlSslMode.VerifyFull,
            _ => MySqlSslMode.Preferred,
        };
        ServerSettings.ReportMissing(reader, builder.Server, builder.Database, builder.UserID);
        return builder;
    }
}
