using System.Diagnostics;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Payloads;
using RapidGable.Payloads.Json;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.OData;
using RapidGable.Requests.Rest;
using RapidGable.Sources;

namespace RapidGable.UseCases;

/// <summary>A request of some face that has been read.</summary>
/// <param name="PageSize">Rows of a page that it asks for; null = it does not.</param>
/// <param name="Write">Writes its rows as the face does.</param>
public sealed record SpelledRead(
    ISpelledRequest Request,
    int? PageSize,
    Func<PreparedRequest, QueryRun, PayloadOutput, CancellationToken, Task> Write
)
{
    /// <summary>A request of OData.</summary>
    /// <param name="path">As in <see cref="RequestAddress.Read"/>.</param>
    public static Result<SpelledRead> OData(string path, string query) =>
        LexedRequest.Read(path, query).Is(out var lexed, out var fault)
            ? new SpelledRead(lexed, null, (prepared, run, output, cancellation) =>
                ODataJsonWriter
                    .For(prepared, new PayloadFormat(ODataVersion.V40, MetadataLevel.Minimal, false))
                    .WriteAsync(run, new LinkBuilder("http://localhost/", lexed), output, cancellation)
            )
            : fault;

    /// <summary>A request of the plain REST face.</summary>
    /// <param name="path">As in <see cref="RequestAddress.Read"/>.</param>
    /// <param name="paths">Those of the service.</param>
    public static Result<SpelledRead> Rest(string path, string query, RestPaths paths) =>
        RestRequest.Of(path, query, paths).Is(out var request, out var fault)
            ? new SpelledRead(request, request.PageSize, (prepared, run, output, cancellation) =>
                PlainJsonWriter
                    .For(prepared, PlainJsonLayout.Object, omitsNulls: false)
                    .WriteAsync(run, new RestLinks("http://localhost/", request, paths), output, cancellation)
            )
            : fault;
}

/// <summary>Shows what a request would do: its statements, the rules that it meets, and where its time goes.</summary>
/// <param name="read">The request, or why it cannot be read.</param>
/// <param name="now">The time of the request, in UTC.</param>
public sealed class ExplainRequest(PublishedService service, Result<SpelledRead> read, Caller caller, DateTime now)
{
    /// <summary>What the rules of all sets that it touches do for the caller; empty when the request is wrong for every caller.</summary>
    public IReadOnlyList<RuleEffect> Rules => read.Value is { } spelled ? service.ExplainAccess(spelled.Request, caller) : [];

    /// <summary>The statements that it would run, with their values.</summary>
    public Result<ExplainedRequest> Statements()
    {
        if (
            !read.Is(out var spelled, out var fault)
            || !service.Prepare(spelled.Request, caller).Is(out var prepared, out fault)
            || !QueryValues.Make(prepared.Request, spelled.Request, spelled.PageSize, now, caller).Is(out var values, out fault)
            || !Explanation.Of(prepared, values).Is(out var statements, out fault)
        )
            return fault;
        return new ExplainedRequest(statements, null);
    }

    /// <summary>The statements, and how the engines mean to run them; they are not run.</summary>
    /// <exception cref="SourceException">When a source fails.</exception>
    public async Task<Result<List<ExplainedStatement>>> PlansAsync(CancellationToken cancellation)
    {
        if (
            !read.Is(out var spelled, out var fault)
            || !service.Prepare(spelled.Request, caller).Is(out var prepared, out fault)
            || !QueryValues.Make(prepared.Request, spelled.Request, spelled.PageSize, now, caller).Is(out var values, out fault)
            || !Explanation.Of(prepared, values).Is(out var statements, out fault)
        )
            return fault;
        return await Explanation.WithPlansAsync(prepared, values, statements, cancellation);
    }

    /// <summary>
    /// The statements, how the engines mean to run them, and where the time goes when it is run; the payload is written and thrown away.
    /// </summary>
    /// <exception cref="SourceException">When a source fails.</exception>
    public async Task<Result<ExplainedRequest>> RunAsync(CancellationToken cancellation)
    {
        var clock = Stopwatch.StartNew();
        long Lap()
        {
            var spent = clock.ElapsedTicks * 1_000_000 / Stopwatch.Frequency;
            clock.Restart();
            return spent;
        }
        if (!read.Is(out var spelled, out var fault) || !spelled.Request.Parse().Is(out var syntax, out fault))
            return fault;
        var parse = Lap();
        if (service.Bind(syntax, caller) is { } refused)
            return refused;
        var bind = Lap();
        if (
            !service.Prepare(spelled.Request, caller).Is(out var prepared, out fault)
            || !QueryValues.Make(prepared.Request, spelled.Request, spelled.PageSize, now, caller).Is(out var values, out fault)
        )
            return fault;
        var plan = Lap();
        if (prepared.Query is null)
            return new ExplainedRequest([], null);
        if (!Explanation.Of(prepared, values).Is(out var statements, out fault))
            return fault;
        statements = await Explanation.WithPlansAsync(prepared, values, statements, cancellation);
        clock.Restart();
        if (!(await QueryRun.StartAsync(prepared, values, cancellation)).Is(out var run, out fault))
            return fault;
        await using (run)
        {
            var database = Lap();
            var bytes = await WriteAsync(prepared, run, spelled, cancellation);
            return new ExplainedRequest(statements, new ExplainedTimes(parse, bind, plan, database, Lap(), bytes));
        }
    }

    /// <summary>The length of the payload.</summary>
    private static async Task<long> WriteAsync(PreparedRequest prepared, QueryRun run, SpelledRead spelled, CancellationToken cancellation)
    {
        var kind = prepared.Request.Path.Kind;
        var isValue = kind is ResourceKind.Count or ResourceKind.ValueCount or ResourceKind.RawValue;
        if (isValue || (!run.HasRow && kind != ResourceKind.Collection))
            return 0;
        var bytes = 0L;
        ValueTask Count(ReadOnlyMemory<byte> piece, CancellationToken _)
        {
            bytes += piece.Length;
            return default;
        }
        using var output = new PayloadOutput(Count);
        await spelled.Write(prepared, run, output, cancellation);
        return bytes;
    }
}
