using System.Collections.Immutable;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Building;

/// <summary>The derived types of one set: told by a column of its table, or by rows in tables of their own.</summary>
internal sealed class DerivedBuilder(SetDraft draft, SourceCatalog catalog, ISource source, NamingPolicy names, Diagnostics diagnostics)
{
    /// <summary>The set without what only derived types have, and these.</summary>
    public async Task<SetDraft> BuildAsync(CancellationToken cancellation)
    {
        var derived = new List<DerivedType>();
        var visible = draft.Visible;
        foreach (var declared in draft.Declaration.Derived)
        {
            if (derived.Exists(d => d.Name == declared.Name.Value) || declared.Name.Value == draft.TypeName)
            {
                diagnostics.Error("type-twice", $"Two types are called '{declared.Name.Value}'.", declared.Name.Location);
                continue;
            }
            if (
                (declared.From is null ? ByColumn(declared, ref visible) : await ByTableAsync(declared, declared.From, cancellation)) is
                { } type
            )
                derived.Add(type);
        }
        return draft with { Visible = visible, Derived = [.. derived] };
    }

    private DerivedType? ByColumn(DerivedDeclaration declared, ref ImmutableArray<Property> visible)
    {
        if (draft.Declaration.Discriminator is not { } column)
        {
            diagnostics.Error(
                "derived",
                "'discriminator' is missing: the column whose values tell the type.",
                declared.Name.Location,
                "Write 'discriminator: column' in the set."
            );
            return null;
        }
        if (draft.Item.Column(column.Value) is not { Type: { } stored } found)
        {
            diagnostics.Error(
                "no-column",
                $"'{draft.Item.Name}' has no column "
                    + $"'{column.Value}'.{NearestName.Hint(column.Value, draft.Item.Columns.Select(c => c.Name))}",
                column.Location
            );
            return null;
        }
        if (!stored.IsIntegral && stored.Kind != EdmKind.String)
        {
            diagnostics.Error(
                "derived",
                $"The column '{column.Value}' is {stored.Name}; a type is told by a text or a whole number.",
                column.Location
            );
            return null;
        }
        var values = ImmutableArray.CreateBuilder<object>();
        foreach (var value in declared.When)
        {
            if (stored.Kind == EdmKind.String)
                values.Add(value.Value);
            else if (long.TryParse(value.Value, out var number))
                values.Add(number);
            else
                diagnostics.Error(
                    "derived",
                    $"'{value.Value}' is not a value of '{column.Value}', which is {stored.Name}.",
                    value.Location
                );
        }
        var own = ImmutableArray.CreateBuilder<Property>();
        foreach (var name in declared.Columns)
        {
            if (
                draft.Visible.FirstOrDefault(p => p.Column == name.Value && !p.IsGroup) is not { } property
                || draft.Key.Any(k => k.Column == property.Column)
            )
                diagnostics.Error(
                    "derived",
                    $"'{name.Value}' is not a column that one type alone can have: it is hidden, part of the key or a group, or missing.",
                    name.Location
                );
            else
                own.Add(property with { Nullable = true });
        }
        visible = [.. visible.Where(v => own.All(o => o.Column != v.Column))];
        return new DerivedType(
            declared.Name.Value,
            own.ToImmutable(),
            new Property(found.Name, stored, found.Nullable, found.Name, found.StorageForm),
            values.ToImmutable(),
            null,
            null
        );
    }

    private async Task<DerivedType?> ByTableAsync(DerivedDeclaration declared, Located<string> from, CancellationToken cancellation)
    {
        if (catalog.Find(from.Value) is not { Fault: null } found)
        {
            diagnostics.Error(
                "no-object",
                $"The source has no table or view '{from.Value}'.{NearestName.Hint(from.Value, catalog.Objects.Select(catalog.ShortName))}",
                from.Location
            );
            return null;
        }
        var item = await source.DescribeAsync(found, cancellation);
        // Its key is the set's: by a foreign key, else by the columns of the same names.
        var pairs = item.ForeignKeys.FirstOrDefault(f =>
            f.TargetObject == draft.Item.FullName && f.TargetColumns.Order().SequenceEqual(draft.Key.Select(k => k.Column).Order())
        )
            is { } reference
            ? draft.Key.Select(k => reference.Columns[reference.TargetColumns.IndexOf(k.Column)]).ToList()
            : draft.Key.Select(k => k.Column).ToList();
        if (pairs.Find(c => item.Column(c) is null) is { } missing)
        {
            diagnostics.Error(
                "derived",
                $"'{from.Value}' has no column '{missing}' that holds the key of '{draft.Item.Name}'.",
                from.Location
            );
            return null;
        }
        Property Plain(SourceColumn column) =>
            new(PublicNames.Property(column.Name, names), column.Type!, true, column.Name, column.StorageForm)
            {
                Description = column.Comment,
            };
        var key = pairs.ConvertAll(c => Plain(item.Column(c)!) with { Nullable = false });
        foreach (var unknown in declared.Hide.Where(h => item.Column(h.Value) is null))
            diagnostics.Error(
                "no-column",
                $"'{item.Name}' has no column '{unknown.Value}'.{NearestName.Hint(unknown.Value, item.Columns.Select(c => c.Name))}",
                unknown.Location
            );
        var own = item
            .Columns.Where(c =>
                c.Type is { IsCollection: false, Kind: not EdmKind.Complex }
                && !pairs.Contains(c.Name)
                && declared.Hide.All(h => h.Value != c.Name)
            )
            .Select(Plain)
            .ToList();
        if (own.Find(o => draft.Visible.Any(v => v.Name == o.Name)) is { } twice)
        {
            diagnostics.Error(
                "name-collision",
                $"'{declared.Name.Value}' and the type that it derives from would both have a property '{twice.Name}'.",
                from.Location,
                "Add it to 'hide'."
            );
            return null;
        }
        var rows = new EntitySet(
            $"{draft.Name}/{declared.Name.Value}",
            new EntityType(
                declared.Name.Value,
                [.. own],
                [.. declared.Hide.Select(h => item.Column(h.Value)).Where(c => c?.Type is not null).Select(c => Plain(c!))],
                [.. key],
                []
            ),
            new TableSource(draft.Declaration.Source.Value, item.Schema, item.Name)
        )
        {
            IsTransient = true,
        };
        var way = new NavigationProperty(
            "\u2192" + declared.Name.Value,
            rows.Name,
            false,
            true,
            [.. draft.Key.Zip(key, (k, t) => new JoinPair(k, t))]
        );
        return new DerivedType(declared.Name.Value, [.. own.Select(o => o with { Via = way })], null, [], way, rows);
    }
}
