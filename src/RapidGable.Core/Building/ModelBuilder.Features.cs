using System.Collections.Immutable;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Building;

public sealed partial class ModelBuilder
{
    private ImmutableArray<OrderTerm> Order(SetDraft draft)
    {
        var terms = ImmutableArray.CreateBuilder<OrderTerm>();
        foreach (var (column, descending) in draft.Declaration.Order)
        {
            if (draft.Visible.SelectMany(p => p.Leaves).FirstOrDefault(p => p.Column == column.Value) is not { } property)
            {
                if (draft.Item.Column(column.Value) is not null)
                    _diagnostics.Error(
                        "order",
                        $"The column '{column.Value}' is hidden, and its values would show in next links.",
                        column.Location
                    );
            }
            else if (
                property.Type.Kind is EdmKind.Binary or EdmKind.Complex
                || property.Type.IsCollection
                || property.Conversion is { Use: ConvertedUse.Read or ConvertedUse.Equality }
            )
                _diagnostics.Error(
                    "order",
                    $"The column '{column.Value}' is {property.Type.Name}{(property.Conversion is null ? "" : ", converted,")} "
                        + $"and has no order that the database knows.",
                    column.Location
                );
            else
                terms.Add(new OrderTerm(property, descending));
        }
        return terms.ToImmutable();
    }

    /// <summary>The declared columns of a search; null = none is declared.</summary>
    private ImmutableArray<Property>? Searched(SetDraft draft)
    {
        if (draft.Declaration.Search is not { } columns)
            return null;
        var found = ImmutableArray.CreateBuilder<Property>();
        foreach (var column in columns)
        {
            if (draft.Visible.SelectMany(p => p.Leaves).FirstOrDefault(p => p.Column == column.Value) is { } property)
            {
                if (property is { Type: { Kind: EdmKind.String, IsCollection: false }, Conversion: null })
                    found.Add(property);
                else
                    _diagnostics.Error(
                        "search",
                        $"The column '{column.Value}' is "
                            + $"{property.Type.Name}{(property.Conversion is null ? "" : ", converted")}, and only texts are searched.",
                        column.Location
                    );
            }
            else if (draft.Item.Column(column.Value) is not null)
                _diagnostics.Error(
                    "search",
                    $"The column '{column.Value}' is hidden, and a search would tell what it holds.",
                    column.Location
                );
            else
                _diagnostics.Error(
                    "no-column",
                    $"'{draft.Item.Name}' has no column "
                        + $"'{column.Value}'.{NearestName.Hint(column.Value, draft.Item.Columns.Select(c => c.Name))}",
                    column.Location
                );
        }
        return found.ToImmutable();
    }

    /// <summary>The declared full-text index; null = none is.</summary>
    private TextIndex? SearchIndex(SetDraft draft)
    {
        if (draft.Declaration.SearchIndex is not { } declared)
            return null;
        var known = draft.Item.TextIndexes;
        if (known.FirstOrDefault(i => i.Name == declared.Value) is not { } index)
        {
            _diagnostics.Error(
                "search",
                $"'{draft.Item.Name}' has no full-text index "
                    + $"'{declared.Value}'.{NearestName.Hint(declared.Value, known.Select(i => i.Name))}",
                declared.Location,
                known.IsEmpty
                    ? "It has none at all; name the columns to look through instead: search: [name]."
                    : $"It has {string.Join(", ", known.Select(i => i.Name))}."
            );
            return null;
        }
        if (draft.Key.IsEmpty)
            _diagnostics.Error(
                "search",
                "Rows without a key cannot be found by a full-text index.",
                declared.Location,
                "Declare a 'key', or name the columns to look through."
            );
        foreach (var hidden in index.Columns.Where(c => draft.Visible.SelectMany(p => p.Leaves).All(p => p.Column != c)))
            _diagnostics.Error(
                "search",
                $"The index '{index.Name}' holds the column '{hidden}', which is hidden, and a search would tell what is in it.",
                declared.Location
            );
        return index;
    }

    private async Task<ChangeTracking?> ChangesAsync(SetDraft draft, ISource source, CancellationToken cancellation)
    {
        if (draft.Declaration.Changes is not { } declared)
            return null;
        if (draft.Key.IsEmpty)
        {
            _diagnostics.Error(
                "changes",
                "Rows without a key cannot be told apart, so their changes cannot be tracked.",
                declared.Stamp.Location
            );
            return null;
        }
        if (Stamp(draft.FindColumn(declared.Stamp.Value), declared.Stamp, draft.Item) is not { } stamp)
            return null;
        if (declared.Log is not { } name)
            return new ChangeTracking(stamp, null);
        if (_catalogs[draft.Declaration.Source.Value].Find(name.Value) is not { Fault: null } found)
        {
            _diagnostics.Error("no-object", $"The source has no table '{name.Value}'.", name.Location);
            return null;
        }
        var log = await source.DescribeAsync(found, cancellation);
        Property? Column(string column) =>
            log.Column(column) is { Type: { } type } there
                ? new Property(there.Name, type, there.Nullable, there.Name, there.StorageForm)
                : null;
        var key = draft.Key.Select(k => Column(k.Column)).ToList();
        if (draft.Key.Zip(key).FirstOrDefault(p => p.Second?.Type.Kind != p.First.StoredType.Kind) is { First: { } missing })
        {
            _diagnostics.Error(
                "changes",
                $"'{name.Value}' has no column '{missing.Column}' of type {missing.StoredType.Name} for the key of deleted rows.",
                name.Location
            );
            return null;
        }
        return Stamp(Column(declared.LogStamp!.Value), declared.LogStamp, log) is { } at
            ? new ChangeTracking(
                stamp,
                new DeletionLog(
                    new TableSource(draft.Declaration.Source.Value, log.Schema, log.Name),
                    [.. key.Zip(draft.Key, (own, set) => own! with { Name = set.Name, Type = set.Type, Conversion = set.Conversion })],
                    at
                )
            )
            : null;
    }

    private Property? Stamp(Property? property, Located<string> column, SourceObject item)
    {
        if (property is null)
            _diagnostics.Error(
                "no-column",
                $"'{item.Name}' has no column '{column.Value}'.{NearestName.Hint(column.Value, item.Columns.Select(c => c.Name))}",
                column.Location
            );
        else if (property.Conversion is not null || !(property.Type.IsIntegral || property.Type.Kind == EdmKind.DateTimeOffset))
            _diagnostics.Error(
                "changes",
                $"The column '{column.Value}' is {property.Type.Name}{(property.Conversion is null ? "" : ", converted")}; "
                    + $"changes are found by a whole number or a point in time.",
                column.Location
            );
        else
            return property;
        return null;
    }

    private Property? Version(SetDraft draft)
    {
        if (draft.Declaration.RequiresVersion && draft.Declaration.Version is null)
            _diagnostics.Error(
                "version",
                $"'{draft.Name}' asks for a version that its entities do not have.",
                draft.Declaration.Location,
                "Name the column with 'version', or write 'version: row'."
            );
        if (draft.Declaration.Version is not { } column || column.Value == RowVersion)
            return null;
        if (draft.FindColumn(column.Value) is not { } property)
        {
            _diagnostics.Error(
                "no-column",
                $"'{draft.Item.Name}' has no column "
                    + $"'{column.Value}'.{NearestName.Hint(column.Value, draft.Item.Columns.Select(c => c.Name))}",
                column.Location
            );
            return null;
        }
        if (
            property.Type.Kind is not (EdmKind.Stream or EdmKind.Binary or EdmKind.Complex)
            && !property.Type.IsCollection
            && property.Conversion is null
        )
            return property;
        _diagnostics.Error(
            "version",
            $"The column '{column.Value}' is {property.Type.Name}{(property.Conversion is null ? "" : ", converted")}; a "
                + $"version is a number, a point in time, a uuid or a short text.",
            column.Location
        );
        return null;
    }
}
