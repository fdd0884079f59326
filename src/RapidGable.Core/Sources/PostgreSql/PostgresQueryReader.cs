using System.Data;
using System.Globalization;
using System.Text.RegularExpressions;
using Npgsql;
using RapidGable.Model;

namespace RapidGable.Sources.PostgreSql;

/// <summary>Describes the columns of a SELECT: their types from the server, without running it.</summary>
internal sealed partial class PostgresQueryReader(NpgsqlConnection connection, CancellationToken cancellation)
{
    private const string Types = """
        SELECT t.oid::bigint, coalesce(b.typname, t.typname), coalesce(b.typtype, t.typtype)::text,
            coalesce(b.typcategory, t.typcategory)::text, e.typname, e.typtype::text, format_type(e.oid, NULL)
        FROM pg_type t LEFT JOIN pg_type b ON t.typtype = 'd' AND b.oid = t.typbasetype
        LEFT JOIN pg_type e ON t.typcategory = 'A' AND e.oid = t.typelem
        WHERE t.oid::bigint = ANY ($1)
        """;

    private const string Fields = """
        SELECT t.oid::bigint, a.attname::text, format_type(a.atttypid, a.atttypmod), coalesce(b.typname, f.typname),
            coalesce(b.typtype, f.typtype)::text, coalesce(b.typcategory, f.typcategory)::text, a.atttypmod, a.attnotnull
        FROM pg_type t
        JOIN pg_attribute a ON a.attrelid = t.typrelid AND a.attnum > 0 AND NOT a.attisdropped
        JOIN pg_type f ON f.oid = a.atttypid
        LEFT JOIN pg_type b ON f.typtype = 'd' AND b.oid = f.typbasetype
        WHERE t.typtype = 'c' AND t.oid::bigint = ANY ($1)
        ORDER BY t.oid, a.attnum
        """;

    /// <summary>A type as the catalog tells it.</summary>
    /// <param name="Element">The type of an array's elements; null = it is no array of what JSON has.</param>
    private sealed record Told(string Name, char Kind, char Category, EdmType? Element);

    public async Task<SourceObject> ReadAsync(string name, string select, ReadOnlyMemory<StoredValue> arguments) =>
        QueryObject.Of(
            name,
            select,
            arguments,
            await ColumnsAsync($"SELECT * FROM (\n{select}\n) AS q LIMIT 0", arguments, CommandBehavior.Default)
        );

    /// <summary>The columns of a statement; empty when it gives no rows.</summary>
    /// <param name="behavior">Whether it may be carried out.</param>
    public async Task<IReadOnlyList<SourceColumn>> ColumnsAsync(string sql, ReadOnlyMemory<StoredValue> arguments, CommandBehavior behavior)
    {
        var columns = new List<(string Name, uint Type, string Shown)>();
        await using (var command = new NpgsqlCommand(sql, connection))
        {
            foreach (var argument in arguments.Span)
                command.Parameters.Add(PostgresSession.Parameter(argument));
            await using var reader = await command.ExecuteReaderAsync(behavior, cancellation);
            columns.AddRange(
                Enumerable.Range(0, reader.FieldCount).Select(i => (reader.GetName(i), reader.GetDataTypeOID(i), reader.GetDataTypeName(i)))
            );
            if (await reader.NextResultAsync(cancellation))
                throw new SourceException(SourceFaultKind.Broken, QueryObject.Several);
        }
        long[] oids = [.. columns.Select(c => (long)c.Type).Distinct()];
        var (types, fields) = (await TypesAsync(oids), await FieldsAsync(oids));
        return [.. columns.Select(c => Column(c.Name, c.Shown, types[c.Type], fields[c.Type]))];
    }

    private static SourceColumn Column(string name, string shown, Told told, IEnumerable<SourceColumn> fields)
    {
        var isComposite = told.Kind == 'c';
        var (type, form, mediaType, reason) = told.Element is { } element
            ? (element with { IsCollection = true }, PostgresTypes.AsJson, null, shown)
            : PostgresTypes.Map(told.Name, told.Kind, told.Category, Modifier(shown, told.Name), shown);
        return new SourceColumn(name, shown, type, Nullable: true, reason)
        {
            StorageForm = form,
            MediaType = mediaType,
            TextForm = isComposite ? PostgresTypes.AsJson : PostgresTypes.AsText,
            CompositeName = isComposite ? told.Name : null,
            Fields = [.. fields],
        };
    }

    private async Task<Dictionary<long, Told>> TypesAsync(long[] oids)
    {
        var types = new Dictionary<long, Told>();
        await using var command = new NpgsqlCommand(Types, connection) { Parameters = { new NpgsqlParameter { Value = oids } } };
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        while (await reader.ReadAsync(cancellation))
            types[reader.GetInt64(0)] = new Told(
                reader.GetString(1),
                reader.GetString(2)[0],
                reader.GetString(3)[0],
                reader.IsDBNull(4) ? null : PostgresTypes.Element(reader.GetString(4), reader.GetString(5)[0], reader.GetString(6))
            );
        return types;
    }

    /// <summary>The fields of composite types, in their order.</summary>
    private async Task<ILookup<long, SourceColumn>> FieldsAsync(long[] oids)
    {
        var fields = new List<(long Type, SourceColumn Field)>();
        await using var command = new NpgsqlCommand(Fields, connection) { Parameters = { new NpgsqlParameter { Value = oids } } };
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        while (await reader.ReadAsync(cancellation))
        {
            var shown = reader.GetString(2);
            var (type, form, mediaType, reason) = PostgresTypes.Map(
                reader.GetString(3),
                reader.GetString(4)[0],
                reader.GetString(5)[0],
                reader.GetInt32(6),
                shown
            );
            var field = new SourceColumn(reader.GetString(1), shown, type, !reader.GetBoolean(7), reason)
            {
                StorageForm = form,
                MediaType = mediaType,
            };
            fields.Add((reader.GetInt64(0), field));
        }
        return fields.ToLookup(f => f.Type, f => f.Field);
    }

    /// <summary>The type's modifier as the catalog would hold it, from its facets as they are shown; -1 = none.</summary>
    private static int Modifier(string shown, string typeName)
    {
        var match = Facets().Match(shown);
        if (!match.Success)
            return -1;
        var first = int.Parse(match.Groups[1].ValueSpan, CultureInfo.InvariantCulture);
        var second = match.Groups[2].Success ? int.Parse(match.Groups[2].ValueSpan, CultureInfo.InvariantCulture) : 0;
        return typeName switch
        {
            "numeric" => ((first << 16) | second) + 4,
            "varchar" or "bpchar" => first + 4,
            _ => first,
        };
    }

    [GeneratedRegex(@"\((\d+)(?:,\s*(\d+))?\)")]
    private static partial Regex Facets();
}
