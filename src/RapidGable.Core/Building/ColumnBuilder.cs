using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Building;

internal sealed record ColumnDraft(Property Property, bool Hidden);

/// <summary>Columns of one object -> properties, hidden or visible, under their outside names.</summary>
internal sealed class ColumnBuilder(
    SetDeclaration set, SourceObject item, string setName, NamingPolicy names, Diagnostics diagnostics, Action<string, string, string> note)
{
    /// <summary>Null when two columns would have one name, which is then reported.</summary>
    public List<ColumnDraft>? Build()
    {
        ReportUnknown();
        var drafts = new List<ColumnDraft>();
        foreach (var column in item.Columns)
        {
            if (column.Type is null)
            {
                diagnostics.Warning("no-type", $"The column '{column.Name}' of '{item.Name}' is left out: {column.Reason}.", set.From.Location);
                continue;
            }
            var hidden = set.Hide.Any(h => h.Value == column.Name);
            drafts.Add(new ColumnDraft(Property(column, hidden), hidden));
        }
        return ReportCollisions(drafts) ? null : drafts;
    }

    private void ReportUnknown()
    {
        var columns = item.Columns.Select(c => c.Name).ToList();
        foreach (var name in set.Hide.Concat(set.Rename.Select(r => r.Column)).Where(n => !columns.Contains(n.Value)))
            diagnostics.Error("no-column", $"'{item.Name}' has no column '{name.Value}'.{NearestName.Hint(name.Value, columns)}", name.Location,
                $"Its columns: {string.Join(", ", columns)}.");
        foreach (var (column, _) in set.Rename.Where(r => set.Hide.Any(h => h.Value == r.Column.Value)))
            diagnostics.Warning("hidden-renamed", $"The column '{column.Value}' is hidden, so its new name is never seen.", column.Location);
    }

    private Property Property(SourceColumn column, bool hidden)
    {
        var renamed = set.Rename.FirstOrDefault(r => r.Column.Value == column.Name).Name?.Value;
        var name = renamed ?? OutsideNames.Property(column.Name, names);
        if (!hidden)
        {
            if (renamed is null && name != column.Name)
                note($"{setName}/{name}", name, names == NamingPolicy.AsIs ? $"column '{column.Name}', whose name is no identifier" : $"column '{column.Name}', by the naming policy");
            note($"{setName}/{name}", $"{column.Type}{(column.Nullable ? "" : ", not null")}", column.Reason);
        }
        return new Property(name, column.Type!, column.Nullable, column.Name, column.StorageForm)
        {
            HasComputedDefault = column.HasComputedDefault,
            IsComputed = column.IsComputed,
            DefaultValue = column.DefaultValue,
            MediaType = column.MediaType,
            Description = column.Comment,
        };
    }

    private bool ReportCollisions(List<ColumnDraft> drafts)
    {
        var found = false;
        foreach (var group in drafts.Where(d => !d.Hidden).GroupBy(d => d.Property.Name).Where(g => g.Count() > 1))
        {
            found = true;
            var columns = string.Join("' and '", group.Select(d => d.Property.Column));
            var place = set.Rename.FirstOrDefault(r => r.Name.Value == group.Key).Name?.Location ?? set.From.Location;
            diagnostics.Error("name-collision", $"The columns '{columns}' of '{item.Name}' would both be called '{group.Key}'.", place,
                "Give one of them another name under 'rename', or 'hide' it.");
        }
        return found;
    }
}
