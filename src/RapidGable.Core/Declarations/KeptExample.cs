using System.Collections.Immutable;
using System.Text;
using System.Text.Json;

namespace RapidGable.Declarations;

/// <summary>An answer that is kept beside its request, in <c>requests/NAME.example.json</c>.</summary>
/// <param name="Request">The request that it answers.</param>
/// <param name="As">As whom it was read.</param>
/// <param name="Body">The body as JSON.</param>
/// <param name="IsMadeUp">Its values are no values of the database.</param>
public sealed record KeptExample(KeptRequest Request, string As, JsonElement Body, bool IsMadeUp, SourceLocation Location)
{
    /// <summary>The ending of their files.</summary>
    public const string Ending = ".example.json";

    /// <summary>Reads the examples of a workspace; what is wrong with them is reported.</summary>
    internal static ImmutableArray<KeptExample> Read(WorkspaceTexts texts, ImmutableArray<KeptRequest> requests, Diagnostics diagnostics)
    {
        var found = ImmutableArray.CreateBuilder<KeptExample>();
        foreach (var file in texts.Of("requests").Where(f => f.EndsWith(Ending, StringComparison.Ordinal)))
        {
            var place = SourceLocation.WholeFile(file);
            try
            {
                var root = JsonDocument.Parse(Encoding.UTF8.GetString(texts.Files[file].AsSpan())).RootElement;
                var name = root.GetProperty("request").GetString();
                if (requests.FirstOrDefault(r => r.Name == name) is not { } request)
                    diagnostics.Warning("example", $"There is no request '{name}' any more.", place, "Remove the file.");
                else
                    found.Add(
                        new KeptExample(
                            request,
                            root.GetProperty("as").GetString() ?? "",
                            root.GetProperty("body"),
                            root.TryGetProperty("made-up", out var madeUp) && madeUp.GetBoolean(),
                            place
                        )
                    );
            }
            catch (Exception exception) when (exception is JsonException or KeyNotFoundException or InvalidOperationException)
            {
                diagnostics.Error("example", $"It is no example: {exception.Message}", place, "'gable try --keep' writes it anew.");
            }
        }
        return found.ToImmutable();
    }
}
