using System.Collections.Immutable;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Building;

internal sealed record ColumnDraft(Property Property, bool Hidden);

/// <summary>What the sets of one service share while they are built.</summary>
/// <param name="Note">Takes a value that nobody wrote, with its reason: subject, value, reason.</param>
internal sealed record ServiceParts(
    NamingPolicy Names,
    TypeBuilder Types,
    Diagnostics Diagnostics,
    Action<string, string, string> Note,
    BuildGuard Guard
);

/// <summary>Columns of one object -> properties, hidden or visible, under their public names and with their published types.</summary>
internal sealed class ColumnBuilder(SetDeclaration set, SourceObject item, string setName, ServiceParts service)
{
    private readonly Diagnostics _diagnostics = service.Diagnostics;
    private readonly ConversionBuilder _conversions = new(service.Diagnostics);

    /// <summary>The columns that have a type, in the order of the table or of <c>show</c>; groups are not made yet.</summary>
    public List<ColumnDraft> Build()
    {
        ReportUnknown();
        var drafts = new List<ColumnDraft>();
        foreach (var column in Ordered())
        {
            var declared = set.Columns.FirstOrDefault(c => c.Column.Value == column.Name);
            service.Guard.At(column.Name, declared?.Column.Location);
            var hidden = set.Hide.Any(h => h.Value == column.Name) || (set.Show.Length > 0 && set.Show.All(s => s.Value != column.Name));
            if (Property(column, declared) is { } property)
                drafts.Add(new ColumnDraft(property, hidden));
            else if (!hidden)
                _diagnostics.Warning(
                    "no-type",
                    $"The column '{column.Name}' of '{item.Name}' is left out: {column.Reason}.",
                    set.From.Location,
                    column.TextForm is null ? null : $"Publish it as text with 'columns: {{ {column.Name}: string }}', or 'hide' it."
                );
        }
        service.Guard.AtNoColumn();
        return drafts;
    }

    private IEnumerable<SourceColumn> Ordered() =>
        set.Show.Length == 0 ? item.Columns : item.Columns.OrderBy(c => set.Show.TakeWhile(s => s.Value != c.Name).Count());

    private void ReportUnknown()
    {
        var columns = item.Columns.Select(c => c.Name).ToList();
        var named = set
            .Hide.Concat(set.Show)
            .Concat(set.Rename.Select(r => r.Column))
            .Concat(set.Columns.Select(c => c.Column))
            .Concat(set.Groups.SelectMany(g => g.Columns))
            .Concat(set.Order.Select(o => o.Column))
            .Concat(set.Columns.Select(c => c.MediaTypeColumn).OfType<Located<string>>());
        foreach (var name in named.Where(n => !columns.Contains(n.Value)))
            _diagnostics.Error(
                "no-column",
                $"'{item.Name}' has no column '{name.Value}'.{NearestName.Hint(name.Value, columns)}",
                name.Location,
                $"Its columns: {string.Join(", ", columns)}."
            );
        foreach (var (column, _) in set.Rename.Where(r => set.Hide.Any(h => h.Value == r.Column.Value)))
            _diagnostics.Warning(
                "hidden-renamed",
                $"The column '{column.Value}' is hidden, so its new name is never seen.",
                column.Location
            );
        foreach (var twice in set.Rename.Where(r => set.Columns.Any(c => c.Name is not null && c.Column.Value == r.Column.Value)))
            _diagnostics.Error(
                "renamed-twice",
                $"The column '{twice.Column.Value}' has a new name under 'rename' and under 'columns'.",
                twice.Column.Location
            );
    }

    private Property? Property(SourceColumn column, ColumnDeclaration? declared)
    {
        var renamed = (declared?.Name ?? set.Rename.FirstOrDefault(r => r.Column.Value == column.Name).Name)?.Value;
        var name = renamed ?? PublicNames.Property(column.Name, service.Names);
        if (Typed(column, name, declared) is not { } property)
            return null;
        property = declared is null
            ? property
            : property with
            {
                Nullable = property.Nullable && !declared.IsRequired,
                Description = declared.Description?.Value ?? property.Description,
                Deprecation = declared.Deprecation,
                IsFilterable = declared.IsFilterable,
                IsSortable = declared.IsSortable,
                Access = declared.Access,
                MediaType = declared.MediaType?.Value ?? property.MediaType,
            };
        return declared is null ? property : new WritingBuilder(_diagnostics).Apply(property, declared);
    }

    /// <summary>Says of each visible column what it is published as, and why.</summary>
    public void Explain(IEnumerable<ColumnDraft> drafts)
    {
        foreach (var draft in drafts.Where(d => !d.Hidden))
            Explain(
                item.Column(draft.Property.Column)!,
                draft.Property,
                set.Columns.FirstOrDefault(c => c.Column.Value == draft.Property.Column)
            );
    }

    private void Explain(SourceColumn column, Property property, ColumnDeclaration? declared)
    {
        var isRenamed = declared?.Name is not null || set.Rename.Any(r => r.Column.Value == column.Name);
        var subject = $"{setName}/{property.Name}";
        var type = $"{property.Type}{(property.Nullable ? "" : ", not null")}";
        if (isRenamed)
            service.Note(subject, property.Name, $"declared, for column '{column.Name}'");
        else if (property.Name != column.Name)
            service.Note(
                subject,
                property.Name,
                service.Names == NamingPolicy.AsIs
                    ? $"column '{column.Name}', whose name is not an identifier"
                    : $"column '{column.Name}', by the naming policy"
            );
        service.Note(
            subject,
            type,
            declared is { Type: not null } or { IsStream: true } ? $"declared; {property.Conversion?.Description ?? "stored so"}"
                : property.Conversion is HexConversion hex ? $"{column.Reason}, of a key: {hex.Description}"
                : column.Reason
        );
        if (property.Unrepresentable != UnrepresentableValues.Undeclared)
            service.Note(
                subject,
                $"unrepresentable values: {property.Unrepresentable.ToString().ToLowerInvariant()}",
                declared?.Unrepresentable is null ? "of the source, or by the column's default" : "declared"
            );
        if (property.Description is { } description)
            service.Note(subject, $"\"{description}\"", declared?.Description is null ? "comment of the column" : "declared");
        if (property is { IsFilterable: false } or { IsSortable: false } or { Access: not PropertyAccess.Full })
            service.Note(
                subject,
                string.Join(
                    ", ",
                    new[]
                    {
                        property.IsFilterable ? "" : "not in $filter",
                        property.IsSortable ? "" : "not in $orderby",
                        property.Access switch
                        {
                            PropertyAccess.CreateOnly => "written at create only",
                            PropertyAccess.ReadOnly => "never written",
                            _ => "",
                        },
                    }.Where(t => t.Length > 0)
                ),
                "declared"
            );
    }

    /// <summary>The property with the type of its column, or with the declared one.</summary>
    private Property? Typed(SourceColumn column, string name, ColumnDeclaration? declared)
    {
        // Clients send 0 or -1 for a key that they leave to the database.
        var isMade =
            column.IsNumbered
            && !set.HasCallerKeys
            && (set.Key.IsEmpty ? item.NaturalKey : [.. set.Key.Select(k => k.Value)]).Contains(column.Name);
        var plain = new Property(name, column.Type ?? EdmType.String, column.Nullable, column.Name, column.StorageForm)
        {
            HasComputedDefault = column.HasComputedDefault && !isMade,
            IsComputed = column.IsComputed || isMade,
            DefaultValue = column.DefaultValue,
            MediaType = column.MediaType,
            Collation = column.Collation,
            Description = column.Comment,
            DeclaredType = column.DeclaredType,
            IsForeignKey = item.ForeignKeys.Any(f => f.Columns.Contains(column.Name)),
            SourceChecks = item.Checks.IsEmpty ? ValueRules.None : CheckHints.Of(column.Name, column.Type ?? EdmType.String, item.Checks),
            AllowedValues = column.AllowedValues,
        };
        plain = Unrepresentable(plain, column, declared);
        if (plain is { Unrepresentable: UnrepresentableValues.Text } && declared?.Type is null)
            return plain;
        if (declared?.IsStream == true)
            return Stream(plain, column, declared);
        if (column.Type is null && column.Fields.Length > 0 && declared?.Type is null)
            return Composite(plain, column);
        var wanted = declared?.Type is { } word ? Wanted(word, column) : null;
        if (column.Type is null)
        {
            if (wanted is null || column.TextForm is null)
                return null;
            // Read as text, and converted from there.
            plain = plain with { StorageForm = column.TextForm, Definition = service.Types.DefinitionOf(declared!.Type!.Value) };
            return wanted.Kind == EdmKind.String && !wanted.IsCollection ? plain : _conversions.Apply(plain, wanted, declared!);
        }
        if (column.Type.IsCollection)
            plain = plain with { Type = EdmType.String, Nullable = false };
        if (column.Type.IsCollection && wanted is null)
            return plain with { Type = column.Type, Conversion = new JsonConversion(EdmType.String, column.Type) };
        if (wanted is null && IsBinaryKey(column))
            return plain with { Type = HexText(column.Type), Conversion = new HexConversion(column.Type), DefaultValue = null };
        if (wanted is null)
            return declared is { Format: not null } or { Unit: not null } or { True: not null } ? Missing(declared, plain) : plain;
        plain = plain with { Definition = service.Types.DefinitionOf(declared!.Type!.Value) };
        return _conversions.Apply(plain, wanted, declared) is { } converted
            ? wanted.IsCollection
                ? converted with
                {
                    Nullable = false,
                    AllowedValues = [],
                }
                : converted with
                {
                    AllowedValues = wanted.Kind == EdmKind.Enum ? [] : converted.AllowedValues,
                }
            : plain;
    }

    /// <summary>The property with what is declared of values that no payload has a value for.</summary>
    private Property Unrepresentable(Property plain, SourceColumn column, ColumnDeclaration? declared)
    {
        if (declared?.Unrepresentable is { } word && !column.MayBeUnrepresentable)
            _diagnostics.Warning(
                "unrepresentable",
                $"Every value of the column '{column.Name}' ({column.DeclaredType}) can be served, so the word has no effect.",
                word.Location
            );
        if (!column.MayBeUnrepresentable)
            return plain;
        var policy = declared?.Unrepresentable?.Value ?? column.Unrepresentable;
        var isKey = set.Key.Any(k => k.Value == column.Name) || (set.Key.IsEmpty && item.NaturalKey.Contains(column.Name));
        return policy switch
        {
            UnrepresentableValues.Text when column.TextForm is not null => plain with
            {
                Unrepresentable = policy,
                Type = EdmType.String,
                StorageForm = column.TextForm,
                DefaultValue = null,
            },
            // A key is never null.
            UnrepresentableValues.Null when isKey => plain with { Unrepresentable = UnrepresentableValues.Fault },
            UnrepresentableValues.Null => plain with
            {
                Unrepresentable = policy,
                Nullable = true,
                DefaultValue = plain.DefaultValue?.StartsWith("0000", StringComparison.Ordinal) == true ? null : plain.DefaultValue,
            },
            _ => plain with { Unrepresentable = policy },
        };
    }

    /// <summary>
    /// Whether a column of bytes identifies rows, here or in another table: the standard knows no binary keys (CSDL 6.5), so it is
    /// text.
    /// </summary>
    private bool IsBinaryKey(SourceColumn column) =>
        column.Type is { Kind: EdmKind.Binary, IsCollection: false }
        && (
            set.Key.Any(k => k.Value == column.Name)
            || item.PrimaryKey.Contains(column.Name)
            || item.UniqueKeys.Any(u => u.Contains(column.Name))
            || item.ForeignKeys.Any(f => f.Columns.Contains(column.Name))
        );

    private static EdmType HexText(EdmType binary) =>
        binary.MaxLength is { } bytes ? new EdmType(EdmKind.String, MaxLength: bytes * 2) : EdmType.String;

    private Property Missing(ColumnDeclaration declared, Property plain)
    {
        _diagnostics.Error(
            "missing",
            $"'type' is missing for the column '{declared.Column.Value}': the other words say how it is converted, and not to what.",
            declared.Column.Location,
            "Write 'type: …'."
        );
        return plain;
    }

    private EdmType? Wanted(Located<string> word, SourceColumn column) =>
        !service.Types.IsTaken(word.Value)
        && !column.AllowedValues.IsEmpty
        && SimpleIdentifier.IsValid(word.Value)
        && !Enum.TryParse<EdmKind>(word.Value, ignoreCase: true, out _)
            ? service.Types.FromLabels(word.Value, column.AllowedValues)
            : service.Types.Parse(word);

    private Property Stream(Property plain, SourceColumn column, ColumnDeclaration declared)
    {
        if (column.Type is not { Kind: EdmKind.Binary or EdmKind.String, IsCollection: false })
            _diagnostics.Error(
                "stream",
                $"The column '{column.Name}' is {column.Type?.ToString() ?? "of no type"}, and only binary values and texts "
                    + $"can be streams.",
                declared.Column.Location
            );
        if (declared.Type is not null)
            _diagnostics.Error("stream", $"A stream has no other 'type'.", declared.Type.Location);
        return plain with
        {
            Type = new EdmType(EdmKind.Stream),
            Conversion = new StreamConversion(column.Type ?? EdmType.Binary),
            MediaType = plain.MediaType ?? (column.Type?.Kind == EdmKind.String ? "text/plain" : "application/octet-stream"),
            MediaTypeColumn = declared.MediaTypeColumn?.Value,
            IsFilterable = false,
            IsSortable = false,
        };
    }

    /// <summary>A value of several fields, which the engine gives as JSON.</summary>
    private Property? Composite(Property plain, SourceColumn column)
    {
        var fields = column.Fields.Where(f => f.Type is not null).ToList();
        if (fields.Count == 0 || column.TextForm is null)
            return null;
        var members = fields
            .Select(f => new Property(PublicNames.Property(f.Name, service.Names), f.Type!, true, f.Name))
            .ToImmutableArray();
        return service.Types.FromMembers(PublicNames.Type(column.CompositeName!, service.Names), members, set.From.Location) is not { } type
            ? null
            : plain with
            {
                Type = type,
                StorageForm = column.TextForm,
                Conversion = new JsonConversion(EdmType.String, type),
            };
    }

    /// <summary>
    /// The properties of the type: the visible columns, with each group in the place of its first one. Null when two would have one
    /// name.
    /// </summary>
    public ImmutableArray<Property>? Assemble(IReadOnlyList<ColumnDraft> drafts, IReadOnlyList<Property> key)
    {
        var visible = drafts.Where(d => !d.Hidden).Select(d => d.Property).ToList();
        foreach (var group in set.Groups)
        {
            foreach (var inKey in group.Columns.Where(c => key.Any(k => k.Column == c.Value)))
                _diagnostics.Error(
                    "group-key",
                    $"The column '{inKey.Value}' is part of the key and stays outside of the group '{group.Name.Value}'.",
                    inKey.Location
                );
            var members = group.Columns.Select(c => visible.Find(p => p.Column == c.Value && !p.IsGroup)).ToList();
            foreach (var lost in group.Columns.Where((_, i) => members[i] is null && item.Column(group.Columns[i].Value) is not null))
                _diagnostics.Error(
                    "group-column",
                    $"The column '{lost.Value}' of the group '{group.Name.Value}' is hidden, has no type, or is in another group.",
                    lost.Location
                );
            if (members.Contains(null) || members.Count == 0 || members.Any(m => key.Any(k => k.Column == m!.Column)))
                continue;
            ImmutableArray<Property> own = [.. members.Select(m => m!)];
            var typeName = group.Type?.Value ?? PublicNames.Type(group.Name.Value, service.Names);
            if (service.Types.FromMembers(typeName, own, group.Name.Location) is not { } type)
                continue;
            var place = visible.IndexOf(own[0]);
            visible.RemoveAll(own.Contains);
            visible.Insert(Math.Min(place, visible.Count), new Property(group.Name.Value, type, false, own[0].Column) { Members = own });
            service.Note($"{setName}/{group.Name.Value}", typeName, $"group of the columns {string.Join(", ", own.Select(m => m.Column))}");
        }
        return
            ReportCollisions(visible)
            || set.Groups.Any(g =>
                ReportCollisions([.. visible.Where(v => v.IsGroup && v.Name == g.Name.Value).SelectMany(v => v.Members)])
            )
            ? null
            : [.. visible];
    }

    private bool ReportCollisions(List<Property> properties)
    {
        var found = false;
        foreach (var group in properties.GroupBy(p => p.Name).Where(g => g.Count() > 1))
        {
            found = true;
            var columns = string.Join("' and '", group.Select(p => p.Column));
            var place = set.Rename.FirstOrDefault(r => r.Name.Value == group.Key).Name?.Location ?? set.From.Location;
            _diagnostics.Error(
                "name-collision",
                $"The columns '{columns}' of '{item.Name}' would both be called '{group.Key}'.",
                place,
                "Give one of them another name under 'rename', or 'hide' it."
            );
        }
        foreach (
            var group in properties
                .GroupBy(p => p.Name, StringComparer.OrdinalIgnoreCase)
                .Where(g => g.Select(p => p.Name).Distinct().Count() > 1)
        )
            _diagnostics.Warning(
                "name-case",
                $"The names {string.Join(" and ", group.Select(p => $"'{p.Name}'"))} of '{item.Name}' differ in case only, "
                    + $"which confuses people and some clients.",
                set.From.Location,
                "Rename one of them."
            );
        return found;
    }
}
