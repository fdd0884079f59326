using System.Collections.Immutable;
using RapidGable.Sources.MariaDb;
using RapidGable.Sources.PostgreSql;
using RapidGable.Sources.Sqlite;

namespace RapidGable.Sources;

/// <summary>The one place that knows the engines' folders.</summary>
public static class EngineRegistry
{
    public static ImmutableArray<IEngine> All { get; } = [new SqliteEngine(), new PostgresEngine(), new MariaDbEngine()];

    /// <summary>The engine of a name in declarations; null = there is none.</summary>
    public static IEngine? Find(string name) => All.FirstOrDefault(e => e.Name == name || e.OtherNames.Contains(name));
}
