using System.Collections.Immutable;
using System.Text;
using System.Text.RegularExpressions;
using RapidGable.Model;

namespace RapidGable.Declarations;

/// <summary>Reads the texts of a workspace into declaration records; all faults of all texts are reported at once.</summary>
public sealed partial class WorkspaceReader
{
    /// <summary>The kinds of object that a source can offer, as words.</summary>
    internal static readonly string[] OfferKinds = ["table", "view", "materialized-view"];

    private readonly Diagnostics _diagnostics = new();
    private readonly WorkspaceTexts _texts;
    private readonly Func<string, string?> _environment;
    private NamingPolicy _names;
    private ImmutableArray<FacePatterns> _faces = [];
    private RequestLimits _limits = RequestLimits.Standard;
    private bool _keepsAudit = true;

    private WorkspaceReader(WorkspaceTexts texts, Func<string, string?> environment)
    {
        _texts = texts;
        _environment = environment;
    }

    /// <summary>Reads a workspace. The declaration holds whatever could be read; it is complete only without errors.</summary>
    /// <param name="environment">Gives the value of a variable named in <c>${…}</c>, or null.</param>
    public static (WorkspaceDeclaration Workspace, Diagnostics Diagnostics) Read(IWorkspaceStore store, Func<string, string?> environment)
    {
        var reader = new WorkspaceReader(store.Read(), environment);
        return (reader.Read(store.Folder), reader._diagnostics);
    }

    private WorkspaceDeclaration Read(string folder)
    {
        var title = _texts.Name;
        int? refresh = null;
        var (state, revisions) = (StateDeclaration.Standard, RevisionsDeclaration.Standard);
        if (_texts.HasOpenSecrets)
            _diagnostics.Warning(
                "secrets-mode",
                "Other users of this machine can read the passwords in this file.",
                SourceLocation.WholeFile(WorkspaceSecrets.FileName),
                $"Run 'chmod 600 {WorkspaceSecrets.FileName}'."
            );
        var (signIn, transport, traffic, audit) = (
            SignInDeclaration.AccountsOnly,
            TransportDeclaration.Plain,
            TrafficDeclaration.Free,
            AuditDeclaration.Standard
        );
        if (!_texts.Exists)
            _diagnostics.Error(
                "no-workspace",
                "There is no such folder.",
                SourceLocation.WholeFile(title),
                "Make one with 'gable new FOLDER'."
            );
        else if (!_texts.Files.ContainsKey(WorkspaceTexts.Root))
            _diagnostics.Error(
                "no-workspace",
                "The folder holds no workspace.yaml.",
                SourceLocation.WholeFile(title),
                "Make a workspace with 'gable new FOLDER'."
            );
        else if (ReadFile(WorkspaceTexts.Root) is { } root)
        {
            title = root.Text("title")?.Value ?? title;
            _names = ReadNames(root);
            _faces = FaceReader.ReadPatterns(root);
            refresh = root.Number("refresh-seconds", 1, 86_400);
            var callers = new IdentityReader(root);
            (signIn, transport, traffic, audit) = (callers.SignIn(), callers.Transport(), callers.Traffic(), callers.Audit());
            _keepsAudit = audit.IsKept;
            (state, revisions) = (callers.State(), callers.Revisions());
            _limits = traffic.Requests;
            root.ReportUnknown(WorkspaceTexts.Root);
        }

        var sources = _texts.Of("sources").Select(ReadSource).OfType<SourceDeclaration>().ToImmutableArray();
        var services = _texts
            .Of("services")
            .Where(f => !f.EndsWith(WorkspaceTexts.SqlEnding, StringComparison.Ordinal))
            .Select(ReadService)
            .OfType<ServiceDeclaration>()
            .ToImmutableArray();
        var checks = _texts.Of("checks").Select(ReadFile).OfType<MappingReader>().SelectMany(f => CheckReader.Read(f)).ToImmutableArray();
        foreach (var check in checks.Where(c => services.All(s => s.Name != c.Service.Value)))
            _diagnostics.Error(
                "check",
                $"There is no service '{check.Service.Value}'.{NearestName.Hint(check.Service.Value, services.Select(s => s.Name))}",
                check.Service.Location
            );

        CheckVersions(services);
        var requests = _texts
            .Of("requests")
            .Where(f => f.EndsWith(".http", StringComparison.Ordinal))
            .SelectMany(f => TextOf(f) is { } text ? new KeptRequestReader(f, text, _diagnostics).Read() : [])
            .ToImmutableArray();
        foreach (var twice in requests.GroupBy(r => r.Name).Where(g => g.Select(r => r.Location.File).Distinct().Count() > 1))
            _diagnostics.Error("request", $"Two requests are called '{twice.Key}'.", twice.Last().Location);

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
            Faces = _faces,
            SignIn = signIn,
            Transport = transport,
            Traffic = traffic,
            Audit = audit,
            State = state,
            Revisions = revisions,
            Checks = checks,
            Requests = requests,
            Examples = KeptExample.Read(_texts, requests, _diagnostics),
            Texts = _texts,
        };
    }

    /// <summary>A version is one of a service that is no version itself, and no two have one segment.</summary>
    private void CheckVersions(ImmutableArray<ServiceDeclaration> services)
    {
        foreach (var service in services.Where(s => s.VersionOf is not null))
        {
            var (version, place) = (service.VersionOf!.Value, service.VersionOf.Location);
            if (services.FirstOrDefault(s => s.Name == version.Service) is not { } current)
                _diagnostics.Error(
                    "version-of",
                    $"There is no service '{version.Service}'.{NearestName.Hint(version.Service, services.Select(s => s.Name))}",
                    place
                );
            else if (current.VersionOf is not null)
                _diagnostics.Error("version-of", $"'{current.Name}' is a version itself; name the service that is current.", place);
            else if (services.Any(s => s != service && s.VersionOf?.Value == version && string.CompareOrdinal(s.Name, service.Name) < 0))
                _diagnostics.Error("version-of", $"Two versions of '{current.Name}' stand at '{version.Segment}'.", place);
            else if (current.Sets.Any(s => (s.Name ?? s.From).Value == version.Segment))
                _diagnostics.Error(
                    "version-of",
                    $"'{current.Name}' has a set called '{version.Segment}'.",
                    place,
                    "Choose another segment."
                );
        }
    }

    private static string Listing(List<string> names) => names.Count == 0 ? "(none yet)" : string.Join(", ", names);

    private MappingReader? ReadFile(string file)
    {
        if (TextOf(file) is not { } text)
            return null;
        return YamlTree.Read(file, text, _diagnostics) is { } mapping ? new MappingReader(mapping, _diagnostics) : null;
    }

    /// <summary>The text of a file; null = it cannot be read, which is then reported.</summary>
    private string? TextOf(string file)
    {
        var bytes = _texts.Files[file];
        if (bytes.IsDefault)
        {
            _diagnostics.Error("unreadable", "The file cannot be read.", SourceLocation.WholeFile(file));
            return null;
        }
        try
        {
            return new UTF8Encoding(false, throwOnInvalidBytes: true).GetString(bytes.AsSpan()).TrimStart('\uFEFF');
        }
        catch (DecoderFallbackException)
        {
            _diagnostics.Error("encoding", "The file is not UTF-8 text.", SourceLocation.WholeFile(file));
            return null;
        }
    }

    /// <summary>The statement in a file beside the services'; null = there is none, which is then reported.</summary>
    private Located<string>? Statement(Located<string> file)
    {
        var path = "services/" + file.Value;
        if (_texts.Files.ContainsKey(path) && path.EndsWith(WorkspaceTexts.SqlEnding, StringComparison.Ordinal))
            return TextOf(path) is { } text ? new Located<string>(text, SourceLocation.WholeFile(path)) : null;
        var files = _texts.Of("services").Where(f => f.EndsWith(WorkspaceTexts.SqlEnding, StringComparison.Ordinal)).Select(f => f[9..]);
        _diagnostics.Error(
            "query",
            $"There is no file services/{file.Value} with a statement.{NearestName.Hint(file.Value, files)}",
            file.Location,
            "It stands beside the service's own file, and its name ends in .sql."
        );
        return null;
    }

    private SourceDeclaration? ReadSource(string file)
    {
        if (ReadFile(file) is not { } reader)
            return null;
        var engine = reader.RequiredText("engine", "which database engine this is");
        var (title, description) = (reader.Text("title"), reader.Text("description"));
        var offer = ReadOffer(reader);
        var isReadOnly = reader.Flag("read-only", true);
        var repeats = reader.Text("repeats");
        var unrepresentable = UnrepresentableWords.Read(reader, _diagnostics);
        var settings = ImmutableDictionary.CreateBuilder<string, Located<SettingText>>(StringComparer.Ordinal);
        foreach (var (setting, attribute) in reader.Pairs("caller-settings"))
            settings["caller-settings." + setting.Value] = new Located<SettingText>(SettingText.Plain(attribute.Value), setting.Location);
        foreach (var (name, value) in reader.RemainingTexts())
        {
            if (Resolve(value) is { } resolved)
                settings[name.Value] = resolved;
        }
        foreach (var name in new[] { "sessions", "statement-seconds" }.Where(n => !settings.ContainsKey(n)))
        {
            if (_limits.Set(name) is { } number)
                settings[name] = new Located<SettingText>(SettingText.Plain($"{number}"), SourceLocation.WholeFile(WorkspaceTexts.Root));
        }
        return engine is null
            ? null
            : new SourceDeclaration(NameOf(file), engine, settings.ToImmutable(), SourceLocation.WholeFile(file))
            {
                Title = title?.Value,
                Description = description?.Value,
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
    private string? Variable(string name) => _environment(name) ?? _texts.Secrets.GetValueOrDefault(name);

    private Located<SettingText>? Resolve(Located<string> value)
    {
        var missing = false;
        var used = ImmutableArray.CreateBuilder<string>();
        var text = VariableReference()
            .Replace(value.Value, match =>
            {
                var name = match.Groups[1].Value;
                used.Add(name);
                if (Variable(name) is { } found)
                    return found;
                missing = true;
                _diagnostics.Error(
                    "no-variable",
                    $"The variable {name} is not set, or the service may not use it.",
                    value.Location,
                    $"Set it before you start: export {name}=…, or write {name}=… into {WorkspaceSecrets.FileName}. A running service "
                        + "takes variables that its files named when it started, and those of GABLE_VARIABLES."
                );
                return "";
            });
        return missing ? null : new Located<SettingText>(SettingText.Of(text, value.Value, used.ToImmutable()), value.Location);
    }

    private ServiceDeclaration? ReadService(string file)
    {
        if (ReadFile(file) is not { } reader)
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
        var (faces, rest) = (FaceReader.Read(reader), FaceReader.ReadRest(reader));
        var page = reader.Number("page", 1, 1_000_000);
        var largest = reader.Number("largest-page", 1, 1_000_000);
        var callerKeys = reader.Flag("caller-keys", false);
        var sets = new SetReader(_diagnostics) { TextOf = Statement };
        var rules = RuleReader.Read(reader, ofService: true) ?? [];
        var types = new TypeReader(_diagnostics).Read(reader);
        var sql = ReadSql(reader);
        var handover = ReadHandover(reader);
        var requiresAudit = ReadAudit(reader);
        var (about, deprecation) = (AboutReader.Read(reader), AboutReader.Deprecated(reader));
        ImmutableArray<SetDeclaration> declared = [];
        if (source is not null)
        {
            var defaults = new SetDefaults(source, page, largest, rules, callerKeys);
            var queries = sets.ReadQueries(reader, defaults, Statement);
            var hasSets = reader.Node("sets") is not null || (queries.IsEmpty && reader.Node("query-groups") is null);
            declared = [.. hasSets ? sets.Read(reader, defaults) : [], .. queries];
        }
        var version = AboutReader.VersionOf(reader);
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
                Faces = faces,
                FacePatterns = _faces,
                Rest = rest,
                WrittenRest = reader.Node("rest") is YamlMapping written ? [.. written.Entries.Select(e => e.Key.Value)] : [],
                Limits = _limits,
                Sql = sql,
                Handover = handover,
                RequiresAudit = requiresAudit,
                About = about,
                VersionOf = version,
                Deprecation = deprecation,
                Written = reader.Names,
                Types = types,
            };
    }

    /// <summary>Where 'audit: required' stands; null = it does not.</summary>
    private SourceLocation? ReadAudit(MappingReader service)
    {
        if (service.Node("audit") is not { } node)
            return null;
        if (node is YamlScalar { Value: "required" } && !_keepsAudit)
            _diagnostics.Error(
                "audit",
                "The service requires the audit log, and 'audit: false' in workspace.yaml keeps none.",
                node.Location
            );
        if (node is YamlScalar { Value: "required" })
            return node.Location;
        _diagnostics.Error("audit", "'audit' of a service is 'required', or is left out.", node.Location);
        return null;
    }

    /// <summary>Who may open the page for consumers; null = nobody.</summary>
    private AccessRule? ReadHandover(MappingReader service)
    {
        if (service.Mapping("handover") is not { } reader)
            return null;
        if (reader.Node("who") is null)
            _diagnostics.Error(
                "shape",
                "'handover' needs 'who': the roles that may open the page for consumers.",
                service.KeyLocation("handover")
            );
        var who = RuleReader.Who(reader, "who");
        reader.ReportUnknown("'handover'");
        return who;
    }

    /// <summary>Who may send statements; null = nobody.</summary>
    private Located<SqlAccess>? ReadSql(MappingReader service)
    {
        if (service.Mapping("sql") is not { } reader)
            return null;
        var place = service.KeyLocation("sql");
        if (reader.Node("who") is null)
            _diagnostics.Error("sql", "'sql' needs 'who': the roles that may send statements.", place);
        var access = new SqlAccess(RuleReader.Who(reader, "who"), reader.Number("rows", 1, 1_000_000) ?? SqlAccess.StandardRows);
        reader.ReportUnknown("'sql'");
        return new Located<SqlAccess>(access, place);
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
