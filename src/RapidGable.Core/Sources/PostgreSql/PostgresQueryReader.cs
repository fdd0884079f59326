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
            coalesce(b.typcategory, t.typcategory)::text
        FROM pg_type t LEFT JOIN pg_type b ON t.typtype = 'd' AND b.oid = t.typbasetype WHERE t.oid::bigint = ANY ($1)
        """;

    public async Task<SourceObject> ReadAsync(string name, string select, ReadOnlyMemory<StoredValue> arguments)
    {
        var columns = new List<(string Name, uint Type, string Shown)>();
        await using (var command = new NpgsqlCommand($"SELECT * FROM (\n{select}\n) AS q LIMIT 0", connection))
        {
            foreach (var argument in arguments.Span)
                command.Parameters.Add(PostgresSession.Parameter(argument));
            await using var reader = await command.ExecuteReaderAsync(cancellation);
            columns.AddRange(
                Enumerable.Range(0, reader.FieldCount).Select(i => (reader.GetName(i), reader.GetDataTypeOID(i), reader.GetDataTypeName(i)))
            );
            if (await reader.NextResultAsync(cancellation))
                throw new SourceException(SourceFaultKind.Broken, QueryObject.Several);
        }
        var types = await TypesAsync([.. columns.Select(c => (long)c.Type).Distinct()]);
        return QueryObject.Of(
            name,
            select,
            arguments,
            columns.Select(c =>
            {
                var (typeName, kind, category) = types[c.Type];
                var (type, form, mediaType, reason) = PostgresTypes.Map(typeName, kind, category, Modifier(c.Shown, typeName), c.Shown);
                return new SourceColumn(c.Name, c.Shown, type, Nullable: true, reason)
                {
                    StorageForm = form,
                    MediaType = mediaType,
                    TextForm = PostgresTypes.AsText,
                };
            })
        );
    }

    private async Task<Dictionary<long, (string Name, char Kind, char Category)>> TypesAsync(long[] oids)
    {
        var types = new Dictionary<long, (string, char, char)>();
        await using var command = new NpgsqlCommand(Types, connection) { Parameters = { new NpgsqlParameter { Value = oids } } };
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        while (await reader.ReadAsync(cancellation))
            types[reader.GetInt64(0)] = (reader.GetString(1), reader.GetString(2)[0], reader.GetString(3)[0]);
        return types;
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
