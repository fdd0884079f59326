using RapidGable.Model;

namespace RapidGable.Expressions;

/// <summary>
/// The work that reading, binding and writing one request may take, in steps: each part of an expression that a stage visits is one.
/// It belongs to one request and is never shared, so that no request pays for another.
/// </summary>
public sealed class StepBudget
{
    private long _steps;
    private int _parts;

    /// <summary>Ends the work; a caller who has left needs no answer.</summary>
    public CancellationToken Cancellation { get; set; }

    /// <summary>The steps so far.</summary>
    public long Steps => _steps;

    /// <summary>Takes one step.</summary>
    /// <exception cref="FaultException">The request has taken more than <see cref="Limits.RequestSteps"/>.</exception>
    /// <exception cref="OperationCanceledException">The caller has left.</exception>
    public void Step()
    {
        if ((++_steps & 0xFF) == 0)
            Cancellation.ThrowIfCancellationRequested();
        if (_steps > Limits.RequestSteps)
            throw new FaultException(
                new RequestFault(400, "too-large", $"The request takes more than {Limits.RequestSteps} steps to read. Split it.")
            );
    }

    /// <summary>
    /// Counts one part of an expression; false when all expressions of the request, with aliases written out at each use, have too many.
    /// </summary>
    internal bool TryAddPart()
    {
        Step();
        return ++_parts <= Limits.RequestParts;
    }
}
