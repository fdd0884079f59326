using System.Collections.Immutable;
using System.Diagnostics.CodeAnalysis;

namespace RapidGable.Expressions;

/// <summary>Why a request cannot be answered, ready for any face's error body.</summary>
/// <param name="Status">The HTTP status that says the same.</param>
/// <param name="Code">Stable, language-neutral code, listed in docs/errors.md.</param>
/// <param name="Message">For people; never holds SQL, paths or connection data.</param>
/// <param name="Target">The option or path concerned, such as <c>$filter</c>; null = the request as a whole.</param>
/// <param name="Text">The decoded text in which the fault is; null when there is none to show.</param>
/// <param name="Position">Where in <paramref name="Text"/>, in characters from 0; null when unknown.</param>
public sealed record RequestFault(int Status, string Code, string Message, string? Target = null, string? Text = null, int? Position = null)
{
    /// <summary>Every single thing that is wrong, when there are several; empty = this is all.</summary>
    public ImmutableArray<RequestFault> Details { get; init; } = [];

    /// <summary>Single faults that one answer tells.</summary>
    public const int MostDetails = 100;

    /// <summary>For 503: seconds after which it may be tried again; null = it is set elsewhere.</summary>
    public int? RetryAfter { get; init; }

    /// <summary>For 405: the methods that are allowed instead, as the header lists them; null = it is set elsewhere.</summary>
    public string? Allow { get; init; }

    /// <summary>405: the resource takes other methods.</summary>
    public static RequestFault NotAllowed(string message, string allow) => new(405, "method", message) { Allow = allow };

    /// <summary>One fault for some that were found in a body.</summary>
    /// <param name="faults">At least one.</param>
    public static RequestFault Of(IReadOnlyList<RequestFault> faults) =>
        faults.Count == 1
            ? faults[0]
            : new RequestFault(
                faults.Max(f => f.Status),
                "invalid",
                $"{(faults.Count >= MostDetails ? "At least " : "")}{faults.Count} things are wrong with the body; "
                    + $"{(faults.Count > MostDetails ? $"the first {MostDetails} stand" : "each stands")} in the details."
            )
            {
                Details = [.. faults.Take(MostDetails)],
            };

    /// <summary>The text around the fault with a caret below it, on two lines; null when there is no position.</summary>
    public string? Pointer()
    {
        if (Text is null || Position is not { } position)
            return null;
        const int Around = 60;
        var start = Math.Max(0, Math.Min(position, Text.Length) - Around);
        var end = Math.Min(Text.Length, position + Around);
        var lead = start > 0 ? "…" : "";
        var line = lead + Text[start..end] + (end < Text.Length ? "…" : "");
        return $"{line}\n{new string(' ', lead.Length + position - start)}^";
    }

    public static RequestFault ForeignPosition { get; } =
        new(400, "skiptoken", "The $skiptoken belongs to another request. Follow the next link as it is.", "$skiptoken");

    /// <summary>What is published is no longer what changes were followed from.</summary>
    public static RequestFault GoneChangePosition { get; } =
        new(410, "gone", "The changes since then can no longer be told: the service has changed. Read the set again.", "$deltatoken");

    public static RequestFault ForeignChangePosition { get; } =
        new(400, "deltatoken", "The $deltatoken was not made by this service. Follow the delta link as it is.", "$deltatoken");

    public static RequestFault GonePosition { get; } =
        new(
            410,
            "gone",
            "The position is no longer known: the set or its order has changed since the link was made. Read it from the start.",
            "$skiptoken"
        );

    /// <summary>Why a position is not taken.</summary>
    /// <param name="isOwn">It was made for the same request, so the set has changed since.</param>
    public static RequestFault OfPosition(bool isOwn) => isOwn ? GonePosition : ForeignPosition;

    /// <summary>404: there is no such thing, or the caller may not know of it.</summary>
    public static RequestFault NotFound(string message, string? target = null) => new(404, "not-found", message, target);

    /// <summary>501: the request is valid, and this service does not support it.</summary>
    public static RequestFault NotImplemented(string message, string? target = null, string? text = null, int? position = null) =>
        new(501, "not-implemented", message, target, text, position);
}

/// <summary>A value, or the fault that kept it from being made.</summary>
public readonly struct Result<T>
    where T : class
{
    private Result(T? value, RequestFault? fault)
    {
        Value = value;
        Fault = fault;
    }

    public T? Value { get; }

    public RequestFault? Fault { get; }

    public static implicit operator Result<T>(T value) => new(value, null);

    /// <summary>A value whose type is an interface, which nothing converts by itself.</summary>
    public static Result<T> Of(T value) => new(value, null);

    public static implicit operator Result<T>(RequestFault fault) => new(null, fault);

    /// <summary>True with the value, false with the fault.</summary>
    public bool Is([NotNullWhen(true)] out T? value, [NotNullWhen(false)] out RequestFault? fault)
    {
        (value, fault) = (Value, Fault);
        return value is not null;
    }
}

/// <summary>Carries a fault out of the depth of one stage to that stage's own entry; it never crosses a stage.</summary>
internal sealed class FaultException(RequestFault fault) : Exception(fault.Message)
{
    public RequestFault Fault { get; } = fault;
}
