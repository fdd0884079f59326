using System.Collections.Immutable;
using RapidGable.Sources;

namespace RapidGable.Inspection;

/// <summary>What a try of a source gave.</summary>
/// <param name="Failure">Why it cannot be used at all, in plain words; null = it can.</param>
/// <param name="Objects">Tables and views that the catalog names.</param>
/// <param name="Unreadable">Those that cannot be read, and why.</param>
public sealed record SourceTrial(
    string Source,
    string Address,
    string? Failure,
    int Objects,
    ImmutableArray<(string Object, string Why)> Unreadable,
    TimeSpan Time
);

/// <summary>Tries a source: connects, reads the catalog, and asks every object for no rows.</summary>
public static class SourceProbe
{
    /// <summary>Asks the database whether it is there; why it is not, in plain words, or null.</summary>
    public static async Task<string?> PingAsync(ISource source, CancellationToken cancellation)
    {
        try
        {
            await using var session = await source.OpenSessionAsync(SessionKind.Plain, cancellation);
            await using var cursor = await session.QueryAsync(source.Dialect.Ping, default, cancellation);
            await cursor.ReadAsync(cancellation);
            return null;
        }
        catch (SourceException exception)
        {
            return exception.Message;
        }
    }

    /// <summary>Opens the source and reads from each object that is on offer.</summary>
    public static async Task<SourceTrial> TryAsync(ISource source, Action<string> progress, CancellationToken cancellation)
    {
        var clock = System.Diagnostics.Stopwatch.StartNew();
        var unreadable = ImmutableArray.CreateBuilder<(string, string)>();
        try
        {
            progress("catalog");
            var catalog = await source.ReadCatalogAsync(cancellation);
            foreach (var item in catalog.Objects)
            {
                progress(item.FullName);
                if ((item.Fault ?? await ReadAsync(source, item, cancellation)) is { } why)
                    unreadable.Add((catalog.ShortName(item), why));
            }
            return new SourceTrial(source.Name, source.Address, null, catalog.Objects.Length, unreadable.ToImmutable(), clock.Elapsed);
        }
        catch (SourceException exception)
        {
            return new SourceTrial(source.Name, source.Address, exception.Message, 0, [], clock.Elapsed);
        }
    }

    private static async Task<string?> ReadAsync(ISource source, SourceObject item, CancellationToken cancellation)
    {
        try
        {
            await using var session = await source.OpenSessionAsync(SessionKind.Plain, cancellation);
            await using var cursor = await session.QueryAsync(
                $"SELECT 1 FROM {source.Dialect.Table(item.Schema, item.Name)} WHERE 1 = 0",
                default,
                cancellation
            );
            await cursor.ReadAsync(cancellation);
            return null;
        }
        catch (SourceException exception)
        {
            return exception.Message;
        }
    }
}
