using System.Security.Cryptography;
using System.Text;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Inspection;

/// <summary>Says where the database would read a whole table to find related rows, or to put a set in its own order.</summary>
public static class IndexAdvice
{
    /// <summary>Whether a finding is such advice: its own advice is then the statement that makes the index.</summary>
    public static bool Is(Diagnostic finding) => finding.Code == "no-index";

    /// <summary>Adds a warning for each missing index, with the statement that makes it.</summary>
    public static void Add(LoadedWorkspace workspace, Diagnostics diagnostics)
    {
        var said = new HashSet<string>();
        foreach (var service in workspace.Services)
        {
            var location = workspace.Declaration.Services.First(s => s.Name == service.Model.Service).Location;
            foreach (var set in service.Model.Sets)
            {
                foreach (var navigation in set.Type.Navigations)
                {
                    if (navigation.Link is { } link)
                        Check(link.Source, [.. link.Own.Select(o => o.Link)], $"the relation '{set.Name}/{navigation.Name}'");
                    else
                        Check(
                            service.Model.Target(navigation).Source,
                            [.. navigation.Joins.Select(j => j.Target.Column)],
                            $"the relation '{set.Name}/{navigation.Name}'"
                        );
                }
                if (!set.DefaultOrder.IsEmpty)
                    Check(set.Source, [.. set.DefaultOrder.Select(o => o.Property.Column)], $"the order of '{set.Name}'");
            }

            void Check(RowSource rows, List<string> columns, string what)
            {
                if (rows is not TableSource name)
                    return;
                var item = workspace.Catalogs[name.Source].Objects.FirstOrDefault(o => o.Schema == name.Schema && o.Name == name.Name);
                if (
                    item is not { Kind: SourceObjectKind.Table }
                    || IsFound(item, columns)
                    || !said.Add($"{name.Source} {name} {string.Join(',', columns)}")
                )
                    return;
                var dialect = workspace.Sources[name.Source].Dialect;
                var (table, quoted) = (dialect.Table(item.Schema, item.Name), string.Join(", ", columns.Select(dialect.Quote)));
                diagnostics.Warning(
                    "no-index",
                    $"Nothing finds rows of '{item.Name}' by {string.Join(", ", columns)}, which {what} needs: the whole table "
                        + $"is read each time.",
                    location,
                    $"CREATE INDEX {dialect.Quote(IndexName(item.Name, columns))} ON {table} ({quoted});"
                );
            }
        }
    }

    /// <summary>A name that fits the 63 characters which servers take; a shortened one ends with what tells it from others.</summary>
    internal static string IndexName(string table, IReadOnlyList<string> columns)
    {
        const int Longest = 63;
        var name = $"{table}_{string.Join("_", columns)}";
        if (Encoding.UTF8.GetByteCount(name) <= Longest)
            return name;
        var mark = Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(name)))[..8];
        var start = name;
        while (Encoding.UTF8.GetByteCount(start) > Longest - mark.Length - 1)
            start = start[..^1];
        return $"{start.TrimEnd('_')}_{mark}";
    }

    /// <summary>An index serves when it starts with these columns; for several of them their order does not matter to equality.</summary>
    private static bool IsFound(SourceObject item, List<string> columns) =>
        item.Indexes.Concat(item.UniqueKeys)
            .Append(item.PrimaryKey)
            .Any(i => i.Length >= columns.Count && i.Take(columns.Count).All(columns.Contains))
        // One unique row is found by part of the columns, too.
        || item.UniqueKeys.Append(item.PrimaryKey).Any(i => i.Length > 0 && i.All(columns.Contains));
}
