using System.Collections.Immutable;
using System.Text;
using System.Text.RegularExpressions;
using RapidGable.Model;

namespace RapidGable.Declarations;

/// <summary>Reads a workspace folder into declaration records; all faults of all files are reported at once.</summary>
/// <param name="environment">Gives the value of a variable named in <c>${…}</c>, or null.</param>
public sealed partial class WorkspaceReader(Func<string, string?> environment)
{
    private readonly Diagnostics _diagnostics = new();
    private NamingPolicy _names;

    /// <summary>Reads the folder. The declaration holds whatever could be read; it is complete only without errors.</summary>
    public static (WorkspaceDeclaration Workspace, Diagnostics Diagnostics) Read(string folder, Func<string, string?> environment)
    {
        var reader = new WorkspaceReader(environment);
        return (reader.Read(Path.GetFullPath(folder)), reader._diagnostics);
    }

    private WorkspaceDeclaration Read(string folder)
    {
        var title = Path.GetFileName(folder);
        if (!Directory.Exists(folder))
            _diagnostics.Error("no-workspace", "There is no such folder.", SourceLocation.WholeFile(title), "Make one with 'gable new FOLDER'.");
        else if (!File.Exists(Path.Combine(folder, "workspace.yaml")))
            _diagnostics.Error("no-workspace", "The folder holds no workspace.yaml.", SourceLocation.WholeFile(title),
                "Make a workspace with 'gable new FOLDER'.");
        else if (ReadFile(folder, "workspace.yaml") is { } root)
        {
            title = root.Text("title")?.Value ?? title;
            _names = ReadNames(root);
            root.ReportUnknown("workspace.yaml");
        }

        var sources = Files(folder, "sources").Select(f => ReadSource(folder, f)).OfType<SourceDeclaration>().ToImmutableArray();
        var services = Files(folder, "services").Select(f => ReadService(folder, f)).OfType<ServiceDeclaration>().ToImmutableArray();
        foreach (var check in Files(folder, "checks"))
            _diagnostics.Warning("checks", "Saved checks are not run by this version; 'gable verify' runs the generated ones.",
                SourceLocation.WholeFile(check));

        var names = sources.Select(s => s.Name).ToList();
        foreach (var source in services.SelectMany(s => s.Sets.Select(e => e.Source).Prepend(s.Source)).Distinct().Where(s => !names.Contains(s.Value)))
            _diagnostics.Error("no-source", $"There is no source '{source.Value}'.{NearestName.Hint(source.Value, names)}",
                source.Location, $"Write sources/{source.Value}.yaml, or name one of: {Listing(names)}.");
        return new WorkspaceDeclaration(folder, title, sources, services);
    }

    private static string Listing(List<string> names) => names.Count == 0 ? "(none yet)" : string.Join(", ", names);

    private static IEnumerable<string> Files(string folder, string kind)
    {
        var path = Path.Combine(folder, kind);
        return Directory.Exists(path)
            ? Directory.EnumerateFiles(path).Where(f => f.EndsWith(".yaml", StringComparison.Ordinal) || f.EndsWith(".yml", StringComparison.Ordinal))
                .Select(f => $"{kind}/{Path.GetFileName(f)}").Order(StringComparer.Ordinal)
            : [];
    }

    private MappingReader? ReadFile(string folder, string file)
    {
        string text;
        try
        {
            text = new UTF8Encoding(false, throwOnInvalidBytes: true).GetString(File.ReadAllBytes(Path.Combine(folder, file))).TrimStart('\uFEFF');
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
        var settings = ImmutableDictionary.CreateBuilder<string, Located<string>>(StringComparer.Ordinal);
        foreach (var (name, value) in reader.RemainingTexts())
        {
            if (Resolve(value) is { } resolved)
                settings[name.Value] = resolved;
        }
        return engine is null ? null : new SourceDeclaration(NameOf(file), engine, settings.ToImmutable(), SourceLocation.WholeFile(file));
    }

    private Located<string>? Resolve(Located<string> value)
    {
        var missing = false;
        var text = VariableReference().Replace(value.Value, match =>
        {
            var name = match.Groups[1].Value;
            if (environment(name) is { } found)
                return found;
            missing = true;
            _diagnostics.Error("no-variable", $"The variable {name} is not set.", value.Location, $"Set it before you start: export {name}=…");
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
            _diagnostics.Error("service-name", $"'{name}' cannot be a service's name: it becomes part of addresses.", SourceLocation.WholeFile(file),
                "Name the file with small letters, digits and '-', starting with a letter.");
        var title = reader.Text("title")?.Value ?? name;
        var source = reader.RequiredText("source", "the source that the sets are read from");
        var schemaNamespace = reader.Text("namespace");
        if (schemaNamespace is { } ns && !IsNamespace(ns.Value))
            _diagnostics.Error("namespace", $"'{ns.Value}' cannot be a namespace: it needs identifiers joined by dots, and not Edm, odata, System or Transient.",
                ns.Location);
        var names = ReadNames(reader);
        var page = reader.Number("page", 1, 1_000_000);
        var largest = reader.Number("largest-page", 1, 1_000_000);
        var read = ReadRules(reader, AccessRule.Nobody);
        var sets = source is null ? [] : ReadSets(reader, new ServiceDefaults(source, page, largest, read));
        reader.ReportUnknown("a service");
        return source is null ? null : new ServiceDeclaration(
            name, title, source, schemaNamespace?.Value ?? SimpleIdentifier.From(name), sets, SourceLocation.WholeFile(file))
        {
            Names = names,
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
                _diagnostics.Error("names", $"'{word.Value}' is not a way to make names.{NearestName.Hint(word.Value, words)}", word.Location, $"Ways: {string.Join(", ", words)}.");
                return _names;
        }
    }

    private sealed record ServiceDefaults(Located<string> Source, int? Page, int? LargestPage, AccessRule Read);

    private ImmutableArray<SetDeclaration> ReadSets(MappingReader service, ServiceDefaults defaults)
    {
        if (service.Node("sets") is not YamlSequence list || list.Items.Count == 0)
        {
            _diagnostics.Error("no-sets", "The service publishes nothing: 'sets' must be a list of tables and views.",
                service.KeyLocation("sets"), "Write for example:\nsets:\n  - station");
            return [];
        }
        var sets = ImmutableArray.CreateBuilder<SetDeclaration>();
        foreach (var item in list.Items)
        {
            if (item is YamlScalar { IsNothing: false } name)
                sets.Add(new SetDeclaration(new Located<string>(name.Value, name.Location), name.Location)
                {
                    Source = defaults.Source,
                    Page = defaults.Page,
                    LargestPage = defaults.LargestPage,
                    Read = defaults.Read,
                });
            else if (item is YamlMapping mapping)
            {
                if (ReadSet(new MappingReader(mapping, _diagnostics), defaults) is { } set)
                    sets.Add(set);
            }
            else
                _diagnostics.Error("shape", "A set is the name of a table or view, or a mapping with 'from'.", item.Location);
        }
        return sets.ToImmutable();
    }

    private SetDeclaration? ReadSet(MappingReader reader, ServiceDefaults defaults)
    {
        var from = reader.RequiredText("from", "the table or view that the set is read from");
        var source = reader.Text("source");
        var name = Identifier(reader.Text("name"));
        var type = Identifier(reader.Text("type"));
        var key = reader.Texts("key");
        var hide = reader.Texts("hide");
        var rename = reader.Pairs("rename");
        foreach (var (_, outside) in rename)
            Identifier(outside);
        var page = reader.Number("page", 1, 1_000_000);
        var largest = reader.Number("largest-page", 1, 1_000_000);
        if (page > (largest ?? page))
            _diagnostics.Error("page", $"'page' ({page}) is more than 'largest-page' ({largest}).", reader.KeyLocation("page"));
        var operations = ReadOperations(reader);
        var read = ReadRules(reader, defaults.Read);
        reader.ReportUnknown("a set");
        return from is null ? null : new SetDeclaration(from, reader.Location)
        {
            Source = source ?? defaults.Source,
            Name = name,
            TypeName = type,
            Key = key,
            Hide = hide,
            Rename = rename,
            Page = page ?? defaults.Page,
            LargestPage = largest ?? defaults.LargestPage,
            Operations = operations,
            Read = read,
        };
    }

    private Located<string>? Identifier(Located<string>? name)
    {
        if (name is { } given && !SimpleIdentifier.IsValid(given.Value))
            _diagnostics.Error("identifier", $"'{given.Value}' cannot be an outside name: it takes letters, digits and '_', starts with no digit and has at most 128 characters.",
                given.Location, $"Write for example '{SimpleIdentifier.From(given.Value)}'.");
        return name;
    }

    private SetOperations ReadOperations(MappingReader reader)
    {
        if (reader.Node("allow") is null)
            return SetOperations.Read;
        var operations = SetOperations.None;
        foreach (var word in reader.Texts("allow"))
        {
            if (word.Value == "read")
                operations |= SetOperations.Read;
            else if (word.Value is "create" or "update" or "delete")
                _diagnostics.Error("operation", $"'{word.Value}' cannot be allowed yet: this version publishes for reading.", word.Location);
            else
                _diagnostics.Error("operation", $"'{word.Value}' is not an operation.{NearestName.Hint(word.Value, ["read", "create", "update", "delete"])}",
                    word.Location, "Operations: read.");
        }
        return operations;
    }

    private AccessRule ReadRules(MappingReader reader, AccessRule inherited)
    {
        if (reader.Mapping("rules") is not { } rules)
            return inherited;
        var words = rules.Texts("read");
        rules.ReportUnknown("'rules'");
        if (words.Length == 0)
            return inherited;
        if (words.Length == 1)
        {
            switch (words[0].Value)
            {
                case "anyone":
                    return AccessRule.Anyone;
                case "signed-in":
                    return AccessRule.SignedIn;
                case "nobody":
                    return AccessRule.Nobody;
            }
        }
        foreach (var word in words)
        {
            if (word.Value is "anyone" or "signed-in" or "nobody")
                _diagnostics.Error("rule", $"'{word.Value}' stands alone, not in a list of roles.", word.Location);
            else if (!RoleName().IsMatch(word.Value))
                _diagnostics.Error("rule", $"'{word.Value}' cannot be a role: it takes small letters, digits and '-'.", word.Location,
                    "Write anyone, signed-in, nobody, or a list of roles.");
            else if (NearestName.Of(word.Value, ["anyone", "signed-in", "nobody"]) is { } near)
                _diagnostics.Warning("rule", $"'{word.Value}' is taken as a role's name. Did you mean '{near}'?", word.Location);
        }
        return AccessRule.ForRoles(words.Select(w => w.Value));
    }

    private static bool IsNamespace(string text) =>
        text.Length <= 511 && text.Split('.').All(SimpleIdentifier.IsValid) && text is not ("Edm" or "odata" or "System" or "Transient");

    private static string NameOf(string file) => Path.GetFileNameWithoutExtension(file);

    [GeneratedRegex(@"\$\{([A-Za-z_][A-Za-z0-9_]*)\}")]
    private static partial Regex VariableReference();

    [GeneratedRegex("^[a-z][a-z0-9-]{0,62}$")]
    private static partial Regex ServiceName();

    [GeneratedRegex("^[a-z][a-z0-9-]{0,62}$")]
    private static partial Regex RoleName();
}
