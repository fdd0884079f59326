using Microsoft.Data.Sqlite;

namespace RapidGable.Demo;

/// <summary>One prepared INSERT, used for every row of a table.</summary>
internal sealed class RowInsert : IDisposable
{
    private readonly SqliteCommand _command;

    public RowInsert(SqliteConnection connection, string table, int columns)
    {
        _command = connection.CreateCommand();
        _command.CommandText = $"INSERT INTO {table} VALUES ({string.Join(", ", Enumerable.Range(1, columns).Select(i => "$" + i))})";
        for (var i = 1; i <= columns; i++)
            _command.Parameters.Add(new SqliteParameter("$" + i, null));
        _command.Prepare();
    }

    public void Add(params object?[] values)
    {
        for (var i = 0; i < values.Length; i++)
            _command.Parameters[i].Value = values[i] ?? DBNull.Value;
        _command.ExecuteNonQuery();
    }

    public void Dispose() => _command.Dispose();
}
