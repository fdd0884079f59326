using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Sources.Sqlite;

/// <summary>Reads from the rows of one object what its declaration leaves open.</summary>
internal sealed class SqliteObjectReader(ISourceSession session, CancellationToken cancellation)
{
    private const int RowsLookedAt = 500;

    public async Task<SourceObject> DescribeAsync(SourceObject item)
    {
        if (item.Fault is not null)
            return item;
        var columns = item.Columns.ToArray();
        var open = Enumerable
            .Range(0, columns.Length)
            .Where(i => columns[i].Type is null || columns[i].Type!.Kind is EdmKind.DateTimeOffset or EdmKind.Guid)
            .ToList();
        if (open.Count == 0)
            return item;
        var evidence = open.ToDictionary(i => i, _ => new Evidence());
        var names = string.Join(", ", open.Select(i => Quote(columns[i].Name)));
        await using (
            var cursor = await session.QueryAsync(
                $"SELECT {names} FROM {(item.Query is { } query ? $"(\n{query}\n)" : Quote(item.Name))} LIMIT {RowsLookedAt}",
                item.Arguments.AsMemory(),
                cancellation
            )
        )
        {
            while (await cursor.ReadAsync(cancellation))
            {
                for (var i = 0; i < open.Count; i++)
                    evidence[open[i]].Add(cursor, i);
            }
        }
        foreach (var i in open)
            columns[i] = evidence[i].Apply(columns[i]);
        return item with { Columns = [.. columns] };
    }

    private static string Quote(string name) => $"\"{name.Replace("\"", "\"\"", StringComparison.Ordinal)}\"";

    /// <summary>What the looked-at values of one column have in common.</summary>
    private sealed class Evidence
    {
        private readonly HashSet<StoredValueKind> _kinds = [];
        private readonly Dictionary<string, int> _instantForms = [];
        private bool _upperCase;
        private bool _lowerCase;

        public void Add(IRowCursor cursor, int column)
        {
            if (cursor.IsNull(column))
                return;
            var value = cursor.GetStored(column);
            _kinds.Add(value.Kind);
            if (value.Kind != StoredValueKind.Text)
                return;
            _upperCase |= value.Text.Any(c => c is >= 'A' and <= 'F');
            _lowerCase |= value.Text.Any(c => c is >= 'a' and <= 'f');
            if (SqliteText.InstantForm(System.Text.Encoding.UTF8.GetBytes(value.Text)) is { } form)
                _instantForms[form] = _instantForms.GetValueOrDefault(form) + 1;
        }

        public SourceColumn Apply(SourceColumn column) =>
            column.Type?.Kind switch
            {
                EdmKind.DateTimeOffset => WithInstantForm(column),
                EdmKind.Guid => column with
                {
                    StorageForm =
                        !_upperCase ? "lower"
                        : _lowerCase ? "mixed"
                        : "upper",
                },
                _ => column with
                {
                    Type = FromKinds(),
                    Reason = column.Reason + (_kinds.Count == 0 ? ", and no values" : ", read from the values"),
                },
            };

        private SourceColumn WithInstantForm(SourceColumn column)
        {
            var form = _instantForms.Count == 0 ? SqliteText.UsualInstantForm : _instantForms.MaxBy(f => f.Value).Key;
            return column with
            {
                StorageForm = form,
                Type = new EdmType(
                    EdmKind.DateTimeOffset,
                    Precision: _instantForms.Count == 0 ? 7 : _instantForms.Keys.Max(SqliteText.FractionDigits)
                ),
            };
        }

        private EdmType FromKinds()
        {
            if (_kinds.Count == 0 || _kinds.Contains(StoredValueKind.Text))
                return EdmType.String;
            if (_kinds.Contains(StoredValueKind.Blob))
                return EdmType.Binary;
            return _kinds.Contains(StoredValueKind.Double) ? EdmType.Double : EdmType.Int64;
        }
    }
}
