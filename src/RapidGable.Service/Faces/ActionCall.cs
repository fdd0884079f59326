using Microsoft.AspNetCore.Http;
using Microsoft.Net.Http.Headers;
using RapidGable.Changes;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Payloads;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Service.Faces;

/// <summary>The call of an action in the transaction of a unit, the same for every face.</summary>
internal static class ActionCall
{
    /// <summary>What an action gave.</summary>
    /// <param name="Body">Empty = nothing.</param>
    /// <param name="ETag">Of the entity that it gave; null = it gave none, or the entity has no tag.</param>
    internal sealed record Given(byte[] Body, string? ETag);

    /// <summary>Carries out an action and writes what it gives; nothing of it is final yet.</summary>
    /// <param name="body">The arguments of the body; null = there is none.</param>
    /// <param name="addresses">How the face spells those of entities.</param>
    /// <param name="write">Writes the result, or the entity that it names; not called when there is none.</param>
    public static async Task<Result<Given>> RunAsync(
        Exchange exchange,
        ChangeUnit unit,
        PreparedChange change,
        ISpelledRequest spelled,
        ISentBody? body,
        IEntityAddresses addresses,
        Func<PreparedRequest, QueryRun, ISpelledRequest, PayloadOutput, Task> write
    )
    {
        var action = change.Request.Path.Root!;
        var started = await ActionRunner.RunAsync(unit, change, spelled, body, exchange.Allowance, exchange.Cancellation);
        if (!started.Is(out var call, out var fault))
            return fault;
        var (prepared, run) = call;
        ISpelledRequest? entity = null;
        byte[] result;
        await using (run)
        {
            if (action.EntitiesOf is { } of)
            {
                entity = AddressOf(run, exchange.Service.ModelFor(exchange.Caller).FindSet(of), addresses);
                result = [];
            }
            else
                result = IsThere(action, run, prepared)
                    ? await ReadInChange.WrittenAsync(exchange, output => write(prepared, run, spelled, output))
                    : [];
            if (await run.EndOfCallAsync(action, exchange.Cancellation) is { } tooMuch)
                return tooMuch;
        }
        return entity is null ? new Given(result, null) : await EntityAsync(exchange, unit, entity, write);
    }

    /// <summary>The address of the entity that the first row of a result names; null = it names none that the caller may see.</summary>
    private static ISpelledRequest? AddressOf(QueryRun run, EntitySet? set, IEntityAddresses addresses)
    {
        var key = run.Query.Shape.Entity.Key;
        return set is null || !run.HasRow || key.Any(k => run.Rows.IsNull(k.Column))
            ? null
            : addresses.Find(
                addresses.Of(new EntityAddress(set, [.. key.Select(k => RowValue.Published(run.Rows, k.Property, k.Column))], null))
            );
    }

    /// <summary>An entity as it is in the transaction, and as the caller may see it.</summary>
    private static async Task<Result<Given>> EntityAsync(
        Exchange exchange,
        ChangeUnit unit,
        ISpelledRequest spelled,
        Func<PreparedRequest, QueryRun, ISpelledRequest, PayloadOutput, Task> write
    )
    {
        if (!(await ReadInChange.StartAsync(exchange, unit, spelled)).Is(out var read, out var fault))
            return fault;
        var (prepared, run) = read;
        await using (run)
        {
            return run.HasRow
                ? new Given(
                    await ReadInChange.WrittenAsync(exchange, output => write(prepared, run, spelled, output)),
                    RawValueWriter.ETag(run)
                )
                : new Given([], null);
        }
    }

    /// <summary>Whether there is something to write: a list may be empty, and a single value may be missing or null.</summary>
    private static bool IsThere(EntitySet action, QueryRun run, PreparedRequest prepared) =>
        action.Gives switch
        {
            QueryResult.Rows => true,
            QueryResult.Nothing => false,
            _ => run.HasRow && (prepared.Query!.Shape.Value is not { Column: >= 0 } cell || !run.Rows.IsNull(cell.Column)),
        };

    /// <summary>What an answer is kept as.</summary>
    /// <param name="given">As <see cref="RunAsync"/> gives it.</param>
    public static KeptAnswer Kept(string print, Given given, string contentType, Preferences preferences)
    {
        var body = given.Body;
        var headers = new Dictionary<string, string>();
        if (given.ETag is { } tag)
            headers[HeaderNames.ETag] = tag;
        var isShown = body.Length > 0 && preferences.Return != "minimal";
        if (preferences.Return is not null)
            preferences.Apply("return");
        if (preferences.Applied is { } applied)
            headers["Preference-Applied"] = applied;
        if (isShown)
            headers[HeaderNames.ContentType] = contentType;
        return new KeptAnswer(
            print,
            isShown ? StatusCodes.Status200OK : StatusCodes.Status204NoContent,
            headers,
            isShown ? Convert.ToBase64String(body) : ""
        )
        {
            IsBase64 = true,
        };
    }
}
