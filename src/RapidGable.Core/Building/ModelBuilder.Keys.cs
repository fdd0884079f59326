using System.Collections.Immutable;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Building;

public sealed partial class ModelBuilder
{
    private ImmutableArray<Property> Key(SetDeclaration set, SourceObject item, List<ColumnDraft> columns, string setName)
    {
        ImmutableArray<string> names;
        var location = set.From.Location;
        if (set.Key.Length > 0)
        {
            location = set.Key[0].Location;
            names = [.. set.Key.Select(k => k.Value)];
            foreach (var unknown in set.Key.Where(k => item.Column(k.Value) is null))
                _diagnostics.Error(
                    "no-column",
                    $"'{item.Name}' has no column '{unknown.Value}'.{NearestName.Hint(unknown.Value, item.Columns.Select(c => c.Name))}",
                    unknown.Location
                );
            if (names.Any(n => item.Column(n) is null))
                return [];
            foreach (var twice in set.Key.GroupBy(k => k.Value).Where(g => g.Count() > 1))
                _diagnostics.Error("key-twice", $"The column '{twice.Key}' stands twice in the key.", twice.Last().Location);
        }
        else if (item.PrimaryKey.Length > 0)
        {
            names = item.PrimaryKey;
            Note(setName, "key " + string.Join(", ", names), "primary key");
        }
        else if (item.NaturalKey is { IsEmpty: false } unique)
        {
            names = unique;
            Note(
                setName,
                "key " + string.Join(", ", names),
                item.Kind == SourceObjectKind.MaterializedView ? "unique index of the materialized view" : "unique index without nulls"
            );
        }
        else
        {
            _diagnostics.Error(
                "no-key",
                $"The {KindOf(item)} '{item.Name}' has no key, and an entity needs one.",
                set.From.Location,
                $"Name the columns that identify a row, and 'gable check' proves it:\n  - from: {item.Name}\n    key: "
                    + $"[{KeyExample(item)}]\nIts columns: {string.Join(", ", item.Columns.Select(c => c.Name))}. 'gable keys' "
                    + $"finds the ones that do. Without any, 'keyless: true' publishes it for reading only."
            );
            return [];
        }
        var key = names.Select(n => columns.Find(c => c.Property.Column == n)).ToList();
        for (var i = 0; i < key.Count; i++)
        {
            if (key[i] is null)
                _diagnostics.Error("key-type", $"The key column '{names[i]}' of '{item.Name}' has no type to publish it with.", location);
            else if (key[i]!.Hidden)
                _diagnostics.Error(
                    "key-hidden",
                    $"The column '{names[i]}' is part of the key of '{item.Name}' and cannot be hidden.",
                    location
                );
            else if (key[i]!.Property.Conversion is { Use: ConvertedUse.Read })
                _diagnostics.Error(
                    "key-type",
                    $"The key column '{names[i]}' of '{item.Name}' is converted in a way that the database cannot search by.",
                    location,
                    "Publish it as it is, or declare another 'key'."
                );
            else if (!key[i]!.Property.Type.MayBeKey)
                _diagnostics.Error(
                    "key-type",
                    $"The key column '{names[i]}' of '{item.Name}' is {key[i]!.Property.Type.Name}, which the standard forbids in a key.",
                    location,
                    "Declare another 'key'."
                );
        }
        return key.All(k => k is { Hidden: false } && k.Property.Type.MayBeKey && k.Property.Conversion is not { Use: ConvertedUse.Read })
            ? [.. key.Select(k => k!.Property)]
            : [];
    }

    private static string KeyExample(SourceObject item) =>
        string.Join(
            ", ",
            item.Columns.Where(c => c.Name.EndsWith("id", StringComparison.OrdinalIgnoreCase))
                .Select(c => c.Name)
                .DefaultIfEmpty(item.Columns[0].Name)
        );
}
