using System.Collections.Immutable;
using System.Text.Json;
using RapidGable.Queries;

namespace RapidGable.Payloads.Json;

/// <summary>
/// Writes a list as JSON Lines: each entity is a JSON object on a line of its own, as at the metadata level none. What is said of the
/// whole list, a count before it and a next or delta link after it, stands on a line whose only name starts with an at sign.
/// </summary>
public sealed class JsonLinesWriter : IPayloadWriter
{
    /// <summary>The media type by which callers ask for it.</summary>
    public const string MediaType = "application/x-ndjson";

    private readonly PreparedRequest _prepared;
    private readonly PayloadFormat _format;
    private readonly ImmutableArray<EntityNode> _tree;
    private readonly ImmutableArray<EntityJson> _entities;

    private JsonLinesWriter(PreparedRequest prepared, PayloadFormat format)
    {
        _prepared = prepared;
        _format = format;
        _tree = EntityNode.TreeOf(prepared.Query!.Shape.Entity);
        _entities = EntityJson.Of(_tree, format, prepared.Model);
    }

    /// <summary>The writer for a prepared request for a list, made at its first use.</summary>
    public static JsonLinesWriter For(PreparedRequest prepared, PayloadFormat format) =>
        (JsonLinesWriter)
            prepared.Derived.GetOrAdd($"lines {format}", _ => new JsonLinesWriter(prepared, format with { Level = MetadataLevel.None }));

    /// <inheritdoc/>
    public async Task WriteAsync(QueryRun run, LinkBuilder links, PayloadOutput output, CancellationToken cancellation)
    {
        await using var json = new Utf8JsonWriter(output, JsonRows.WriterOptions);
        var rows = new Lines(_entities, _format, run, links, json, output);
        var walk = new RowWalk(_tree[0], _prepared.Request, run, rows, cancellation);
        await walk.FetchRemotesAsync();
        if (run.Count is { } count)
            rows.Line(() => rows.WriteCount(EntityJson.Encode(_format.Control("count")), count));
        if (await walk.CollectionAsync() is { } next)
            rows.Line(() => json.WriteString(_format.Control(next is NextPage ? "nextLink" : "deltaLink"), links.Of(next, run.Values)));
        await output.SendAsync(json, cancellation);
    }

    /// <summary>Objects without an array around them, each followed by the end of a line.</summary>
    private sealed class Lines(
        ImmutableArray<EntityJson> entities,
        PayloadFormat format,
        QueryRun run,
        LinkBuilder links,
        Utf8JsonWriter json,
        PayloadOutput output
    ) : ODataJsonRows(entities, format, run, links, json, output)
    {
        public override void EndEntity(EntityNode node)
        {
            base.EndEntity(node);
            if (node.Number == 0)
                EndLine();
        }

        /// <summary>An object on a line of its own.</summary>
        public void Line(Action members)
        {
            Json.WriteStartObject();
            members();
            Json.WriteEndObject();
            EndLine();
        }
    }
}
