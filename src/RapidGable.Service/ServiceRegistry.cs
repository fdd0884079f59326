using System.Collections.Frozen;
using System.Security.Cryptography;
using System.Text;
using RapidGable.Building;
using RapidGable.Metadata;
using RapidGable.Payloads;
using RapidGable.Queries;

namespace RapidGable.Service;

/// <summary>The services that are published now.</summary>
public sealed class ServiceRegistry
{
    private readonly FrozenDictionary<string, PublishedService> _services;

    public ServiceRegistry(LoadedWorkspace workspace)
    {
        Workspace = workspace;
        _services = workspace.Services.ToFrozenDictionary(s => s.Model.Service, s => new PublishedService(
            s.Model, workspace.Sources, RevisionOf(s)), StringComparer.Ordinal);
    }

    public LoadedWorkspace Workspace { get; }

    public IEnumerable<PublishedService> All => _services.Values.OrderBy(s => s.Model.Service, StringComparer.Ordinal);

    public PublishedService? Find(string name) => _services.GetValueOrDefault(name);

    /// <summary>A short text made from all that is published: the metadata, and the rules of each set.</summary>
    private static string RevisionOf(BuiltService service)
    {
        var rules = string.Join('\n', service.Model.Sets.Select(s => $"{s.Name} {s.Source} {s.PageSize} {s.LargestPage} {s.Operations} {s.Read}"));
        var hash = SHA256.HashData([.. CsdlXmlWriter.Write(service.Model, ODataVersion.V401), .. Encoding.UTF8.GetBytes(rules)]);
        return Convert.ToHexStringLower(hash.AsSpan(0, 4));
    }
}
