using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Text;
using System.Text.RegularExpressions;
using RapidGable.Model;

namespace RapidGable.Declarations;

/// <summary>Reads a workspace folder into declaration records; all faults of all files are reported at once.</summary>
/// <param name="environment">Gives the value of a variable named in <c>${…}</c>, or null.</param>
public sealed partial class WorkspaceReader(Func<string, string?> environment)
{
    /// <summary>The kinds of object that a source can offer, as words.</summary>
    internal static readonly string[] OfferKinds = ["table", "view", "materialized-view"];

    private readonly Diagnostics _diagnostics = new();
    private readonly IncrementalHash _texts = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);
    private NamingPolicy _names;
    private IReadOnlyDictionary<string, string> _secrets = ImmutableDictionary<string, string>.Empty;

    /// <summary>Reads the folder. The declaration holds whatever could be read; it is complete only without errors.</summary>
    public static (WorkspaceDeclaration Workspace, Diagnostics Diagnostics) Read(string folder, Func<string, string?> environment)
    {
        var reader = new WorkspaceReader(environment);
        return (reader.Read(Path.GetFullPath(folder)), reader._diagnostics);
    }

    private WorkspaceDeclaration Read(string folder)
    {
        var title = Path.GetFileName(folder);
        int? refresh = null;
        _secrets = WorkspaceSecrets.Read(folder);
        if (WorkspaceSecrets.IsOpenToOthers(folder))
            _diagnostics.Warning(
                "secrets-mode",
                "Others on this machine can read the passwords in this file.",
                SourceLocation.WholeFile(WorkspaceSecrets.FileName),
                $"Run 'chmod 600 {WorkspaceSecrets.FileName}'."
            );
        var (signIn, transport, traffic, audit) = (
            SignInDeclaration.AccountsOnly,
            TransportDeclaration.Plain,
            TrafficDeclaration.Free,
            AuditDeclaration.Standard
        );
        if (!Directory.Exists(folder))
            _diagnostics.Error(
                "no-workspace",
                "There is no such folder.",
                SourceLocation.WholeFile(title),
                "Make one with 'gable new FOLDER'."
            );
        else if (!File.Exists(Path.Combine(folder, "workspace.yaml")))
            _diagnostics.Error(
                "no-workspace",
                "The folder holds no workspace.yaml.",
                SourceLocation.WholeFile(title),
                "Make a workspace with 'gable new FOLDER'."
            );
        else if (ReadFile(folder, "workspace.yaml") is { } root)
        {
            title = root.Text("title")?.Value ?? title;
            _names = ReadNames(root);
            refresh = root.Number("refresh-seconds", 1, 86_400);
            var callers = new IdentityReader(root);
            (signIn, transport, traffic, audit) = (callers.SignIn(), callers.Transport(), callers.Traffic(), callers.Audit());
            root.ReportUnknown("workspace.yaml");
        }

        var sources = Files(folder, "sources").Select(f => ReadSource(folder, f)).OfType<SourceDeclaration>().ToImmutableArray();
        var services = Files(folder, "services").Select(f => ReadService(folder, f)).OfType<ServiceDeclaration>().ToImmutableArray();
        var checks = Files(folder, "checks")
            .Select(f => ReadFile(folder, f))
            .OfType<MappingReader>()
            .SelectMany(f => CheckReader.Read(f))
            .ToImmutableArray();
        foreach (var check in checks.Where(c => services.All(s => s.Name != c.Service.Value)))
            _diagnostics.Error(
                "check",
                $"There is no service '{check.Service.Value}'.{NearestName.Hint(check.Service.Value, services.Select(s => s.Name))}",
                check.Service.Location
            );

        var names = sources.Select(s => s.Name).ToList();
        foreach (
            var source in services
                .SelectMany(s => s.Sets.Select(e => e.Source).Prepend(s.Source))
                .Distinct()
                .Where(s => !names.Contains(s.Value))
        )
            _diagnostics.Error(
                "no-source",
                $"There is no source '{source.Value}'.{NearestName.Hint(source.Value, names)}",
                source.Location,
                $"Write sources/{source.Value}.yaml, or name one of: {Listing(names)}."
            );
        return new WorkspaceDeclaration(folder, title, sources, services)
        {
            RefreshSeconds = refresh,
            Names = _names,
            SignIn = signIn,
            Transport = transport,
            Traffic = traffic,
            Audit = audit,
            Checks = checks,
            TextHash = Convert.ToHexStringLower(_texts.GetHashAndReset()),
        };
    }

    private static string Listing(List<string> names) => names.Count == 0 ? "(none yet)" : string.Join(", ", names);

    private static IEnumerable<string> Files(string folder, string kind)
    {
        var path = Path.Combine(folder, kind);
        return Directory.Exists(path)
            ? Directory
                .EnumerateFiles(path)
                .Where(f => f.EndsWith(".yaml", StringComparison.Ordinal) || f.EndsWith(".yml", StringComparison.Ordinal))
                .Select(f => $"{kind}/{Path.GetFileName(f)}")
                .Order(StringComparer.Ordinal)
            : [];
    }

    private MappingReader? ReadFile(string folder, string file)
    {
        string text;
        try
        {
            var bytes = File.ReadAllBytes(Path.Combine(folder, file));
            _texts.AppendData(Encoding.UTF8.GetBytes(file));
            _texts.AppendData(bytes);
            text = new UTF8Encoding(false, throwOnInvalidBytes: true).GetString(bytes).TrimStart('\uFEFF');
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException)
        {
            _diagnostics.Error("unreadable", "The file cannot be read.", SourceLocation.WholeFile(file));
            return null;
        }
        catch (DecoderFallbackException)
        {
            _diagnostics.Error("encoding", "The file is not UTF-8 text.", SourceLocation.WholeFile(file));
            return null;
        }
        return YamlTree.Read(file, text, _diagnostics) is { } mapping ? new MappingReader(mapping, _diagnostics) : null;
    }

    private SourceDeclaration? ReadSource(string folder, string file)
    {
        if (ReadFile(folder, file) is not { } reader)
            return null;
        var engine = reader.RequiredText("engine", "which database engine this is");
        var offer = ReadOffer(reader);
        var isReadOnly = reader.Flag("read-only", true);
        var repeats = reader.Text("repeats");
        var unrepresentable = UnrepresentableWords.Read(reader, _diagnostics);
        var settings = ImmutableDictionary.CreateBuilder<string, Located<string>>(StringComparer.Ordinal);
        foreach (var (setting, attribute) in reader.Pairs("caller-settings"))
            settings["caller-settings." + setting.Value] = attribute with { Location = setting.Location };
        foreach (var (name, value) in reader.RemainingTexts())
        {
            if (Resolve(value) is { } resolved)
                settings[name.Value] = resolved;
        }
        return engine is null
            ? null
            : new SourceDeclaration(NameOf(file), engine, settings.ToImmutable(), SourceLocation.WholeFile(file))
            {
                Offer = offer,
                IsReadOnly = isReadOnly,
                Repeats = repeats,
                Unrepresentable = unrepresentable?.Value,
            };
    }

    private OfferDeclaration ReadOffer(MappingReader reader)
    {
        if (reader.Mapping("offer") is not { } offer)
            return OfferDeclaration.Everything;
        var declared = new OfferDeclaration(offer.Texts("schemas"), offer.Texts("kinds"), offer.Texts("include"), offer.Texts("exclude"));
        offer.ReportUnknown("'offer'");
        foreach (var kind in declared.Kinds.Where(k => !OfferKinds.Contains(k.Value)))
            _diagnostics.Error(
                "offer-kind",
                $"'{kind.Value}' is not a kind of object.{NearestName.Hint(kind.Value, OfferKinds)}",
                kind.Location,
                $"Kinds: {string.Join(", ", OfferKinds)}."
            );
        return declared;
    }

    /// <summary>A variable of the environment, else of the workspace's own file.</summary>
    private string? Variable(string name) => environment(name) ?? _secrets.GetValueOrDefault(name);

    private Located<string>? Resolve(Located<string> value)
    {
        var missing = false;
        var text = VariableReference()
            .Replace(value.Value, match =>
            {
                var name = match.Groups[1].Value;
                if (Variable(name) is { } found)
                    return found;
                missing = true;
                _diagnostics.Error(
                    "no-variable",
                    $"The variable {name} is not set.",
                    value.Location,
                    $"Set it before you start: export {name}=…, or write {name}=… into {WorkspaceSecrets.FileName}."
                );
                return "";
            });
        return missing ? null : value with { Value = text };
    }

    private ServiceDeclaration? ReadService(string folder, string file)
    {
        if (ReadFile(folder, file) is not { } reader)
            return null;
        var name = NameOf(file);
        if (!ServiceName().IsMatch(name))
            _diagnostics.Error(
                "service-name",
                $"'{name}' cannot be a service's name: it becomes part of addresses.",
                SourceLocation.WholeFile(file),
                "Name the file with small letters, digits, '-' and '_', starting with a letter."
            );
        var title = reader.Text("title")?.Value ?? name;
        var source = reader.RequiredText("source", "the source that the sets are read from");
        var schemaNamespace = reader.Text("namespace");
        if (schemaNamespace is { } ns && !IsNamespace(ns.Value))
            _diagnostics.Error(
                "namespace",
                $"'{ns.Value}' cannot be a namespace: it needs identifiers joined by dots, and not Edm, odata, System or Transient.",
                ns.Location
            );
        var names = ReadNames(reader);
        var page = reader.Number("page", 1, 1_000_000);
        var largest = reader.Number("largest-page", 1, 1_000_000);
        var callerKeys = reader.Flag("caller-keys", false);
        var sets = new SetReader(_diagnostics);
        var rules = RuleReader.Read(reader, ofService: true) ?? [];
        var types = new TypeReader(_diagnostics).Read(reader);
        var declared = source is null ? [] : sets.Read(reader, new SetDefaults(source, page, largest, rules, callerKeys));
        reader.ReportUnknown("a service");
        return source is null
            ? null
            : new ServiceDeclaration(
                name,
                title,
                source,
                schemaNamespace?.Value ?? SimpleIdentifier.From(name),
                declared,
                SourceLocation.WholeFile(file)
            )
            {
                Names = names,
                Written = reader.Names,
                Types = types,
            };
    }

    /// <summary>The naming policy of a file; the workspace's when a service says none.</summary>
    private NamingPolicy ReadNames(MappingReader reader)
    {
        if (reader.Text("names") is not { } word)
            return _names;
        switch (word.Value)
        {
            case "as-is":
                return NamingPolicy.AsIs;
            case "pascal-case":
                return NamingPolicy.PascalCase;
            case "camel-case":
                return NamingPolicy.CamelCase;
            default:
                string[] words = ["as-is", "pascal-case", "camel-case"];
                _diagnostics.Error(
                    "names",
                    $"'{word.Value}' is not a way to make names.{NearestName.Hint(word.Value, words)}",
                    word.Location,
                    $"Ways: {string.Join(", ", words)}."
                );
                return _names;
        }
    }

    private static bool IsNamespace(string text) =>
        text.Length <= 511 && text.Split('.').All(SimpleIdentifier.IsValid) && text is not ("Edm" or "odata" or "System" or "Transient");

    /// <summary>Whether a name can be a service's: small letters, digits, '-' and '_', starting with a letter.</summary>
    public static bool IsServiceName(string name) => ServiceName().IsMatch(name);

    private static string NameOf(string file) => Path.GetFileNameWithoutExtension(file);

    [GeneratedRegex(@"\$\{([A-Za-z_][A-Za-z0-9_]*)\}")]
    private static partial Regex VariableReference();

    [GeneratedRegex("^[a-z][a-z0-9_-]{0,62}$")]
    private static partial Regex ServiceName();
}
