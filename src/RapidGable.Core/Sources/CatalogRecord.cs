using System.Collections.Concurrent;
using System.Collections.Immutable;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;
using RapidGable.Model;

namespace RapidGable.Sources;

/// <summary>
/// All that databases said of themselves while services were built: what they offer, and how objects and statements were described. The
/// same services can be built from it again, whatever has become of the databases.
/// </summary>
/// <param name="Catalogs">What each source offers, as far as services name it.</param>
/// <param name="Answers">Descriptions as JSON, by a hash of what was asked.</param>
public sealed record CatalogRecord(
    ImmutableSortedDictionary<string, SourceCatalog> Catalogs,
    ImmutableSortedDictionary<string, JsonElement> Answers
)
{
    internal static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web);

    /// <summary>Of a workspace that has no sources.</summary>
    public static CatalogRecord Empty { get; } =
        new(
            ImmutableSortedDictionary.Create<string, SourceCatalog>(StringComparer.Ordinal),
            ImmutableSortedDictionary.Create<string, JsonElement>(StringComparer.Ordinal)
        );
}

/// <summary>Takes down what sources say while services are built.</summary>
/// <param name="former">What was said before, and is said again instead of asking; null = the databases are asked.</param>
public sealed class CatalogRecorder(CatalogRecord? former)
{
    private readonly ConcurrentDictionary<string, JsonElement> _answers = new(StringComparer.Ordinal);
    private readonly ConcurrentDictionary<string, SourceCatalog> _catalogs = new(StringComparer.Ordinal);
    private readonly ConcurrentDictionary<(string Source, string Name), SourceObject> _found = new();

    /// <summary>Whether all was told from the former record; a question that it has no answer to goes to the database.</summary>
    public bool IsComplete { get; private set; } = true;

    /// <summary>What was taken down so far.</summary>
    public CatalogRecord Record =>
        new(
            _catalogs.ToImmutableSortedDictionary(
                c => c.Key,
                c => c.Value with { Objects = [.. ObjectsOf(c.Key)], Found = null },
                StringComparer.Ordinal
            ),
            _answers.ToImmutableSortedDictionary(StringComparer.Ordinal)
        );

    private IEnumerable<SourceObject> ObjectsOf(string source) =>
        _found.Where(f => f.Key.Source == source).Select(f => f.Value).OrderBy(o => o.FullName, StringComparer.Ordinal);

    /// <summary>The catalog of a source as it was; null = it has to be read.</summary>
    public SourceCatalog? CatalogOf(string source) => former?.Catalogs.GetValueOrDefault(source);

    /// <summary>A catalog whose objects are taken down when they are looked up.</summary>
    public SourceCatalog Watch(string source, SourceCatalog catalog)
    {
        _catalogs[source] = catalog;
        return catalog with { Found = item => _found[(source, item.FullName)] = item };
    }

    /// <summary>A source that tells from the former record where it can, and whose answers are taken down.</summary>
    public ISource Listen(ISource source) => new RecordedSource(source, this);

    private static string KeyOf(params ReadOnlySpan<string?> question) =>
        Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(string.Join('\0', question!))))[..32];

    private async Task<T> AskAsync<T>(string key, Func<Task<T>> ask)
    {
        if (former?.Answers.TryGetValue(key, out var told) == true)
        {
            _answers[key] = told;
            return told.Deserialize<T>(CatalogRecord.Json)!;
        }
        IsComplete = false;
        var answer = await ask();
        _answers[key] = JsonSerializer.SerializeToElement(answer, CatalogRecord.Json);
        return answer;
    }

    /// <summary>The source while services are built.</summary>
    private sealed class RecordedSource(ISource source, CatalogRecorder recorder) : ISource
    {
        public string Name => source.Name;

        public string Address => source.Address;

        public SqlDialect Dialect => source.Dialect;

        public IReadOnlyDictionary<string, string> CallerSettings => source.CallerSettings;

        public Task<SourceCatalog> ReadCatalogAsync(CancellationToken cancellation) => source.ReadCatalogAsync(cancellation);

        public async Task<SourceObject> DescribeAsync(SourceObject item, CancellationToken cancellation)
        {
            // What tells one question from another, in a form that later versions of the program keep.
            var columns = string.Join(',', item.Columns.Select(c => $"{c.Name} {c.DeclaredType} {c.Type}"));
            var key = KeyOf("describe", Name, item.FullName, item.Query, columns);
            return await recorder.AskAsync(key, () => source.DescribeAsync(item, cancellation)) with { Arguments = item.Arguments };
        }

        public async Task<SourceObject> DescribeQueryAsync(
            string name,
            string select,
            ReadOnlyMemory<StoredValue> arguments,
            CancellationToken cancellation
        )
        {
            var key = KeyOf("query", Name, name, select);
            var described = await recorder.AskAsync(key, () => source.DescribeQueryAsync(name, select, arguments, cancellation));
            return described with { Arguments = [.. arguments.Span] };
        }

        public async Task<IReadOnlyList<SourceColumn>?> DescribeChangeAsync(
            string sql,
            ReadOnlyMemory<StoredValue> arguments,
            CancellationToken cancellation
        ) => await recorder.AskAsync(KeyOf("change", Name, sql), () => source.DescribeChangeAsync(sql, arguments, cancellation));

        public Task<IReadOnlyDictionary<string, ColumnOrigin>> OriginsAsync(SourceObject view, CancellationToken cancellation) =>
            source.OriginsAsync(view, cancellation);

        public SourceColumn? Retype(SourceColumn column, EdmType type) => source.Retype(column, type);

        public ValueTask<ISourceSession> OpenSessionAsync(
            SessionKind kind,
            IReadOnlyList<(string Setting, string Value)> settings,
            RequestAllowance request,
            CancellationToken cancellation
        ) => source.OpenSessionAsync(kind, settings, request, cancellation);

        // The source belongs to the workspace.
        public ValueTask DisposeAsync() => ValueTask.CompletedTask;
    }
}
