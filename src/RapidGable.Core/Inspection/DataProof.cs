using System.Collections.Immutable;
using System.Text;
using System.Text.Json;
using RapidGable.Building;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Inspection;

/// <summary>Whether the rows of a set keep one promise of its declaration.</summary>
/// <param name="What">The promise: <c>key</c> or <c>values</c>.</param>
/// <param name="Rows">Rows that were read.</param>
/// <param name="Fault">What breaks the promise; null = it is kept.</param>
/// <param name="Examples">Rows that break it.</param>
public sealed record DataFinding(string Service, string Set, string What, long Rows, string? Fault, ImmutableArray<string> Examples);

/// <summary>Reads every row of every published object and holds it to the model: keys that identify, values of their types.</summary>
public sealed class DataProof
{
    private const int ExamplesShown = 5;

    private readonly EntitySet _set;
    private readonly string _service;
    private readonly ISource _source;
    private readonly CancellationToken _cancellation;

    private DataProof(string service, EntitySet set, ISource source, CancellationToken cancellation)
    {
        _service = service;
        _set = set;
        _source = source;
        _cancellation = cancellation;
    }

    /// <summary>Counts rows and compares values of every set with its source.</summary>
    /// <returns>Errors name what does not fit; an unreachable source is one of them.</returns>
    public static async Task<IReadOnlyList<DataFinding>> ProveAsync(
        LoadedWorkspace workspace,
        Action<string> progress,
        CancellationToken cancellation
    )
    {
        var findings = new List<DataFinding>();
        foreach (var service in workspace.Services)
        {
            // An action is described by the database, and not carried out; what a procedure gives stands in no FROM.
            foreach (var set in service.Model.Sets.Where(s => s is { IsAction: false, Call: null }))
            {
                progress($"{service.Model.Service}/{set.Name}");
                var proof = new DataProof(service.Model.Service, set, workspace.Sources[set.Source.Source], cancellation);
                try
                {
                    if (!set.IsUnkeyed)
                        findings.Add(await proof.KeyAsync());
                    findings.Add(await proof.ValuesAsync(rows => progress($"{service.Model.Service}/{set.Name}, {rows:N0} rows")));
                }
                catch (SourceException exception)
                {
                    findings.Add(proof.Finding("values", 0, $"the rows cannot be read: {exception.Message}", []));
                }
            }
        }
        return findings;
    }

    private DataFinding Finding(string what, long rows, string? fault, IEnumerable<string> examples) =>
        new(_service, _set.Name, what, rows, fault, [.. examples]);

    /// <summary>A query with parameters is tried with its examples.</summary>
    private string Table =>
        _set.Source is QuerySource { Parameters.IsEmpty: false } query
            ? $"(\n{QueryBuilder.Trial(query, _source.Dialect).Sql}\n) AS q"
            : _source.Dialect.From(_set.Source) + " AS q";

    private StoredValue[] Arguments =>
        _set.Source is QuerySource { Parameters.IsEmpty: false } query ? QueryBuilder.Trial(query, _source.Dialect).Arguments : [];

    private string Column(Property property) => _source.Dialect.Column(_source.Dialect.Quote(property.Column), property);

    private async Task<DataFinding> KeyAsync()
    {
        var key = _set.Type.Key;
        var columns = string.Join(", ", key.Select(Column));
        await using var session = await _source.OpenSessionAsync(SessionKind.Plain, _cancellation);
        var nulls = await RowsAsync(
            session,
            $"SELECT {columns} FROM {Table} WHERE {string.Join(" OR ", key.Select(k => Column(k) + " IS NULL"))} LIMIT {ExamplesShown}",
            key.Length
        );
        var names = string.Join(", ", key.Select(k => k.Column));
        if (nulls.Count > 0)
            return Finding(
                "key",
                0,
                $"the key ({names}) holds nulls, so it does not identify a row. Examples:",
                nulls.Select(r => Shown(key, r))
            );
        var doubled = await RowsAsync(
            session,
            $"SELECT {columns}, COUNT(*) FROM {Table} GROUP BY {columns} HAVING COUNT(*) > 1 LIMIT {ExamplesShown}",
            key.Length + 1
        );
        return doubled.Count == 0
            ? Finding("key", 0, null, [])
            : Finding(
                "key",
                0,
                $"the key ({names}) does not identify a row: some values stand in several rows. Examples:",
                doubled.Select(r => $"{Shown(key, r)}: {r[^1]} rows")
            );
    }

    private static string Shown(ImmutableArray<Property> key, StoredValue[] row) =>
        string.Join(", ", key.Select((k, i) => $"{k.Column} = {row[i]}"));

    private async Task<List<StoredValue[]>> RowsAsync(ISourceSession session, string sql, int width)
    {
        var rows = new List<StoredValue[]>();
        await using var cursor = await session.QueryAsync(sql, Arguments, _cancellation);
        while (await cursor.ReadAsync(_cancellation))
            rows.Add([.. Enumerable.Range(0, width).Select(cursor.GetStored)]);
        return rows;
    }

    private async Task<DataFinding> ValuesAsync(Action<long> progress)
    {
        // Streams are taken as they are, and may be large.
        var properties = _set
            .Type.Properties.SelectMany(p => p.Leaves)
            .Where(p => p.Type.Kind != EdmKind.Stream && p.Expression is null)
            .ToList();
        if (properties.Count == 0)
            return Finding("values", 0, null, []);
        var key = _set.Type.Key;
        properties.AddRange(key.Except(properties));
        var faults = new Dictionary<string, string>();
        long rows = 0;
        await using var session = await _source.OpenSessionAsync(SessionKind.Plain, _cancellation);
        await using var cursor = await session.QueryAsync(
            $"SELECT {string.Join(", ", properties.Select(Column))} FROM {Table}",
            Arguments,
            _cancellation
        );
        while (await cursor.ReadAsync(_cancellation))
        {
            if (++rows % 100_000 == 0)
                progress(rows);
            for (var i = 0; i < properties.Count; i++)
            {
                if (
                    faults.Count >= ExamplesShown
                    || faults.ContainsKey(properties[i].Name)
                    || Fault(properties[i], cursor, i) is not { } fault
                )
                    continue;
                var row = _set.IsUnkeyed
                    ? ""
                    : $" The row is ({Shown(key, [.. key.Select(k => cursor.GetStored(properties.IndexOf(k)))])}).";
                faults.Add(properties[i].Name, $"{properties[i].Column}: {fault}{row}");
            }
        }
        return Finding(
            "values",
            rows,
            faults.Count == 0 ? null : "some values do not have the type they are published with:",
            faults.Values
        );
    }

    private static string? Fault(Property property, IRowCursor cursor, int column)
    {
        if (cursor.IsNull(column))
            return property.Nullable || property.Type.IsCollection ? null : "a null, and the property is published as never null";
        try
        {
            return property.Conversion is null ? Read(property, cursor, column) : Converted(property, cursor, column);
        }
        catch (SourceException exception) when (exception.Kind == SourceFaultKind.BadData)
        {
            return exception.Message;
        }
    }

    /// <summary>Reads the value through its conversion, and says which facet the published one breaks.</summary>
    private static string? Converted(Property property, IRowCursor cursor, int column)
    {
        if (property.Conversion is JsonConversion)
        {
            using var json = new Utf8JsonWriter(Stream.Null);
            RowValue.WriteJson(json, cursor, property, column, numbersAsText: false);
            return null;
        }
        return RowValue.Published(cursor, property, column) switch
        {
            string text when property.Type.MaxLength is { } most && text.EnumerateRunes().Count() > most =>
                $"a text is longer than {most} characters",
            decimal number => DecimalFault(property.Type, number),
            _ => null,
        };
    }

    private static string? DecimalFault(EdmType type, decimal number)
    {
        var scale = (number / 1.000000000000000000000000000000000m).Scale;
        if (type.Scale is { } most && scale > most)
            return $"{number} has more than {most} digits after the point";
        return
            type.Precision is { } precision
            && Math.Abs(decimal.Truncate(number)) >= (decimal)Math.Pow(10, Math.Min(28, precision - (type.Scale ?? 0)))
            ? $"{number} has more than {precision} digits"
            : null;
    }

    private static bool IsRepresentable(EdmType type, IRowCursor cursor, int column) =>
        type.Kind switch
        {
            EdmKind.Date => cursor.TryGetDate(column, out _),
            EdmKind.DateTimeOffset => cursor.TryGetInstant(column, out _),
            EdmKind.Duration => cursor.TryGetDuration(column, out _),
            EdmKind.Decimal => cursor.TryGetDecimal(column, out _) || char.IsAsciiDigit(cursor.GetNumber(column)[^1]),
            _ => true,
        };

    /// <summary>A value that is served as null, and that conditions still see as it is stored.</summary>
    private static string Advice(SourceException odd) =>
        $"{odd.Message} It is served as null; declare 'unrepresentable: null', so that filters take it for null, too, or 'text'.";

    /// <summary>Reads the value as its type, and says which facet it breaks.</summary>
    private static string? Read(Property property, IRowCursor cursor, int column)
    {
        var type = property.Type;
        if (!IsRepresentable(type, cursor, column))
            return property.ServesUnrepresentableAsNull ? Advice(cursor.Odd(column)) : cursor.Odd(column).Message;
        switch (type.Kind)
        {
            case EdmKind.Boolean:
                cursor.GetBoolean(column);
                return null;
            case EdmKind.Decimal:
                return cursor.TryGetDecimal(column, out var number) ? DecimalFault(type, number) : null;
            case EdmKind.Single or EdmKind.Double:
                cursor.GetDouble(column);
                return null;
            case EdmKind.String:
                var text = cursor.GetUtf8(column);
                return
                    type.MaxLength is { } length && text.Length > length && Encoding.UTF8.GetString(text).EnumerateRunes().Count() > length
                    ? $"a text is longer than {length} characters"
                    : null;
            case EdmKind.Guid:
                cursor.GetGuid(column);
                return null;
            case EdmKind.Date:
                cursor.GetDate(column);
                return null;
            case EdmKind.TimeOfDay:
                cursor.GetTimeOfDay(column);
                return null;
            case EdmKind.DateTimeOffset:
                var instant = cursor.GetInstant(column);
                return instant.Ticks % (long)Math.Pow(10, 7 - Math.Min(7, type.Precision ?? 0)) == 0
                    ? null
                    : $"{instant:O} has more than {type.Precision ?? 0} fraction digits";
            case EdmKind.Duration:
                cursor.GetDuration(column);
                return null;
            case EdmKind.Binary:
                return type.MaxLength is { } bytes && cursor.GetBytes(column).Length > bytes ? $"it has more than {bytes} bytes" : null;
            default:
                cursor.GetInt64(column);
                return null;
        }
    }
}
