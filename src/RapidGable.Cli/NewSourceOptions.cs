using System.CommandLine;
using System.Globalization;
using System.Text;
using RapidGable.Declarations;
using RapidGable.Sources;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary>Where a new workspace's database is: one URI or file, or settings one by one.</summary>
internal sealed class NewSourceOptions
{
    private readonly Option<string?> _database = new("--database")
    {
        Description = "A URI such as postgresql://user@host/database, a SQLite file, or a database's name beside --host.",
    };
    private readonly Option<string?> _engine = new("--engine")
    {
        Description = "postgresql, mariadb, mysql or sqlite; needed without a URI.",
    };
    private readonly Option<string?> _host = new("--host") { Description = "The server; 127.0.0.1 when only --engine is given." };
    private readonly Option<int?> _port = new("--port") { Description = "Its port; the engine's own when left out." };
    private readonly Option<string?> _user = new("--user") { Description = "The database user." };
    private readonly Option<string?> _variable = new("--password-variable")
    {
        Description = "The environment variable that holds the password; without it you are asked.",
    };
    private readonly Option<string?> _tls = new("--tls") { Description = "off, prefer, require or verify." };
    private readonly Option<string[]> _schemas = new("--schema")
    {
        Description = "Offer this schema only; can be repeated.",
        Arity = ArgumentArity.ZeroOrMore,
    };
    private readonly Option<bool> _writable = new("--writable")
    {
        Description = "Write 'read-only: false' into the source, so that sets can allow changes.",
    };

    public void AddTo(Command command)
    {
        foreach (var option in new Option[] { _database, _engine, _host, _port, _user, _variable, _tls, _schemas, _writable })
            command.Add(option);
    }

    /// <exception cref="UsageException">When it is not said which database is meant.</exception>
    public NewSource Read(ParseResult result)
    {
        var text = result.GetValue(_database) ?? Asked("Database (a URI such as postgresql://user@host/database, or a SQLite file)");
        var engine = result.GetValue(_engine);
        if (engine is not null && EngineRegistry.Find(engine) is null)
        {
            var hint = Model.NearestName.Hint(engine, EngineRegistry.All.Select(e => e.Name));
            throw new UsageException($"There is no engine '{engine}'.{hint}");
        }
        var isServer = engine is not (null or "sqlite") || result.GetValue(_host) is not null;
        if (!DatabaseAddress.IsUri(text) && !isServer)
            return File(text);
        var settings = new Dictionary<string, string>();
        if (DatabaseAddress.IsUri(text))
        {
            var address = DatabaseAddress.Parse(text, out var fault) ?? throw new UsageException(fault!);
            if (engine is not null && EngineRegistry.Find(engine)!.Name != address.Engine)
                throw new UsageException($"The URI is of {address.Engine}, and --engine says {engine}.");
            engine = address.Engine;
            settings = address.Settings.ToDictionary();
        }
        else
            settings["database"] = text;
        engine = EngineRegistry
            .Find(engine ?? throw new UsageException("Say which engine the server is: --engine postgresql or --engine mariadb."))!
            .Name;
        if (result.GetValue(_host) is { } host || !settings.ContainsKey("host"))
            settings["host"] = result.GetValue(_host) ?? "127.0.0.1";
        if (result.GetValue(_port) is { } port)
            settings["port"] = port.ToString(CultureInfo.InvariantCulture);
        if (result.GetValue(_user) is { } user)
            settings["user"] = user;
        if (result.GetValue(_tls) is { } tls)
            settings["tls"] = tls;
        if (!settings.ContainsKey("user"))
            settings["user"] = Asked("User");
        return new NewSource(
            engine,
            settings,
            Password(settings, result.GetValue(_variable)),
            result.GetValue(_variable),
            result.GetValue(_schemas) ?? [],
            result.GetValue(_writable)
        );

        NewSource File(string path)
        {
            if (!System.IO.File.Exists(path))
                throw new UsageException(
                    $"The database file '{path}' does not exist. For a server, write a URI such as "
                        + $"postgresql://user@host/{Path.GetFileNameWithoutExtension(path)}."
                );
            return new NewSource("sqlite", new Dictionary<string, string> { ["file"] = path }, null, null, [], result.GetValue(_writable));
        }
    }

    /// <summary>Asks at the terminal for what is missing.</summary>
    private static string Asked(string what) =>
        Console.IsInputRedirected || Console.IsErrorRedirected
            ? throw new UsageException(
                what == "User"
                    ? "'user' is missing: say who connects with --user, or in the URI."
                    : "Say which database: --database with a URI such as postgresql://user@host/database, or with a SQLite file."
            )
            : Terminal.Error.Prompt(new TextPrompt<string>(what + ":"));

    /// <summary>The password by a variable, by the URI, or as it is typed; null = there is none.</summary>
    private static string? Password(Dictionary<string, string> settings, string? variable)
    {
        settings.Remove("password", out var inUri);
        if (variable is not null)
        {
            return Environment.GetEnvironmentVariable(variable)
                ?? throw new UsageException($"The variable {variable} is not set. Set it before you start: export {variable}=…");
        }
        if (inUri is not null || Console.IsInputRedirected || Console.IsErrorRedirected)
            return inUri;
        var typed = Terminal.Error.Prompt(
            new TextPrompt<string>($"Password of {settings["user"]} (nothing if there is none):").AllowEmpty().Secret(null)
        );
        return typed.Length == 0 ? null : typed;
    }
}

/// <summary>A database on its way into a source file.</summary>
/// <param name="Password">Null = none.</param>
/// <param name="Variable">The environment variable that holds it; null = it goes into the workspace's own file of secrets.</param>
internal sealed record NewSource(
    string Engine,
    IReadOnlyDictionary<string, string> Plain,
    string? Password,
    string? Variable,
    IReadOnlyList<string> Schemas,
    bool IsWritable
)
{
    private static readonly string[] Order = ["file", "host", "port", "database", "user", "tls", "tls-certificate", "connect-seconds"];

    /// <summary>The settings with the password, to connect with.</summary>
    public IReadOnlyDictionary<string, string> Settings()
    {
        var all = Plain.ToDictionary();
        if (Password is not null)
            all["password"] = Password;
        return all;
    }

    private string Written(string folder, string name) =>
        name switch
        {
            "file" => YamlText.Of(Path.GetRelativePath(folder, Plain[name]).Replace('\\', '/')),
            "port" or "connect-seconds" => Plain[name],
            _ => YamlText.Of(Plain[name]),
        };

    /// <summary>The source file's text, and the secret that it refers to by a name; null = it refers to none that has to be kept.</summary>
    public (string Text, string? Secret) SourceFile(string folder, string secretName)
    {
        var text = new StringBuilder($"engine: {Engine}\n");
        foreach (var name in Order.Where(Plain.ContainsKey))
            text.Append(CultureInfo.InvariantCulture, $"{name}: {Written(folder, name)}\n");
        if (Password is not null)
            text.Append(CultureInfo.InvariantCulture, $"password: ${{{Variable ?? secretName}}}\n");
        if (Schemas.Count > 0)
            text.Append(CultureInfo.InvariantCulture, $"offer: {{ schemas: [{string.Join(", ", Schemas.Select(YamlText.Of))}] }}\n");
        if (IsWritable)
            text.Append("read-only: false\n");
        return (text.ToString(), Variable is null ? Password : null);
    }
}
