using RapidGable.Expressions;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Changes;

/// <summary>An action that has been carried out, up to the first row of what it gives. Nothing of it is final.</summary>
/// <param name="Rows">What it gives; to be disposed of.</param>
public sealed record StartedCall(PreparedRequest Prepared, QueryRun Rows);

/// <summary>Carries out calls of actions, in the transaction of a unit (Protocol 11.5.5).</summary>
public static class ActionRunner
{
    /// <summary>Carries out the statements of an action; whatever is wrong leaves the transaction to be undone.</summary>
    /// <param name="spelled">What the path's literals are taken from.</param>
    /// <param name="body">The arguments of the body; null = there is none.</param>
    /// <exception cref="SourceException">When a source fails; <see cref="SourceFaultKind.Collision"/> is worth another try of the whole
    /// unit.</exception>
    public static async Task<Result<StartedCall>> RunAsync(
        ChangeUnit unit,
        PreparedChange change,
        ISpelledRequest spelled,
        ISentBody? body,
        RequestAllowance allowance,
        CancellationToken cancellation
    )
    {
        var action = change.Request.Path.Root!;
        var source = unit.Service.SourceOf(action);
        if (
            !ActionArguments.Read(body, change.Request.Path, change.Model, source.Dialect).Is(out var given, out var fault)
            || !unit.Service.PrepareCall(change).Is(out var prepared, out fault)
            || !QueryValues.Make(prepared.Request, spelled, null, unit.Now, unit.Caller).Is(out var values, out fault)
        )
            return fault;
        if (action.Call!.Commits)
            return await ByItselfAsync(unit, prepared, values.With(allowance).For(given), cancellation);
        if (!(await unit.SessionAsync(source, cancellation)).Is(out var session, out fault))
            return fault;
        if (await QueryRun.MissingAsync(prepared, values, session, cancellation) is { } missing)
            return missing;
        unit.NoteCall();
        try
        {
            var started = await QueryRun.CallAsync(prepared, values.With(allowance).For(given), session, cancellation);
            return started.Is(out var run, out fault) ? new StartedCall(prepared, run) : fault;
        }
        catch (SourceException exception) when (CallFaults.Tells(exception) is { } broken)
        {
            return CallFaults.Of(broken, action.Name);
        }
    }

    /// <summary>A routine that ends transactions by itself is called outside of any, and what it has done is done.</summary>
    private static async Task<Result<StartedCall>> ByItselfAsync(
        ChangeUnit unit,
        PreparedRequest prepared,
        QueryValues values,
        CancellationToken cancellation
    )
    {
        var (source, name) = (prepared.Source!, prepared.Request.Path.Root!.Name);
        if (unit.IsGroup)
            return RequestFault.NotImplemented($"'{name}' ends transactions by itself, so that it cannot be a part of a group.", "path");
        if (unit.UndoesCalls)
            return RequestFault.NotImplemented(
                $"'{name}' ends transactions by itself, so what it does cannot be undone. It was not called.",
                "path"
            );
        if (!values.CanTell(source))
            return new RequestFault(403, "forbidden", "No database role is configured for your roles, so this source cannot be queried.");
        if (await QueryRun.MissingAsync(prepared, values, null, cancellation) is { } missing)
            return missing;
        // Once it is called it cannot be taken back.
        unit.BeforeFinal?.Invoke();
        var session = await values.OpenAsync(source, SessionKind.Unbound, cancellation);
        try
        {
            var started = await QueryRun.CallAsync(prepared, values, session, cancellation, isShared: false);
            if (started.Is(out var run, out var fault))
                return new StartedCall(prepared, run);
            await session.DisposeAsync();
            return fault;
        }
        catch (SourceException exception) when (CallFaults.Tells(exception) is { } broken)
        {
            await session.DisposeAsync();
            return CallFaults.Of(broken, name);
        }
        catch
        {
            await session.DisposeAsync();
            throw;
        }
    }
}
