using RapidGable.Declarations;
using RapidGable.Sources;

namespace RapidGable.Building;

/// <summary>
/// Turns an exception that nobody expected into a diagnostic with its place, so that one odd table never hides what is wrong
/// with the others. Failures of a source and cancellation pass through: they have their own words.
/// </summary>
internal sealed class BuildGuard(Diagnostics diagnostics)
{
    private string? _column;
    private SourceLocation? _location;

    /// <summary>Says which column is being worked on.</summary>
    /// <param name="location">Where it is declared; null = nowhere.</param>
    public void At(string column, SourceLocation? location) => (_column, _location) = (column, location);

    public void AtNoColumn() => (_column, _location) = (null, null);

    /// <summary>The result of work on a set; null when it failed, which is then reported.</summary>
    public T? Try<T>(SetDeclaration set, Func<T?> work)
        where T : class
    {
        try
        {
            AtNoColumn();
            return work();
        }
        catch (Exception exception) when (IsUnexpected(exception))
        {
            return Report<T>(set, exception);
        }
    }

    /// <summary>Does work on a set; its failure is reported.</summary>
    public void Do(SetDeclaration set, Action work) => Try<object>(set, () =>
        {
            work();
            return null;
        });

    /// <inheritdoc cref="Try{T}"/>
    public async Task<T?> TryAsync<T>(SetDeclaration set, Func<Task<T?>> work)
        where T : class
    {
        try
        {
            AtNoColumn();
            return await work();
        }
        catch (Exception exception) when (IsUnexpected(exception))
        {
            return Report<T>(set, exception);
        }
    }

    /// <summary>Whether an exception is a fault of ours.</summary>
    public static bool IsUnexpected(Exception exception) =>
        exception is not (OperationCanceledException or SourceException or OutOfMemoryException);

    private T? Report<T>(SetDeclaration set, Exception exception)
        where T : class
    {
        var column = _column is null ? "" : $" at its column '{_column}'";
        var message = $"The set of '{set.From.Value}' cannot be built{column}, which is a fault of Rapid Gable: {exception.Message}";
        var place = exception.TargetSite is { } method ? $" ({method.DeclaringType?.Name}.{method.Name})" : "";
        diagnostics.Error(
            "unexpected",
            message + place,
            _location ?? set.From.Location,
            "Leave the set out until this is fixed, and report this message."
        );
        return null;
    }
}
