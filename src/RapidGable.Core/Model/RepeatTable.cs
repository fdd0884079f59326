namespace RapidGable.Model;

/// <summary>
/// A table that keeps the answers of requests that may be sent again (OASIS Repeatable Requests 1.0), written together with what they
/// changed.
/// </summary>
/// <param name="Id">Its key, a text of at least 100 characters.</param>
/// <param name="Answer">A text without a limit.</param>
/// <param name="At">When it was given; null = not kept.</param>
public sealed record RepeatTable(TableSource Source, Property Id, Property Answer, Property? At);
