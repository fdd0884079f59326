using System.Collections.Immutable;
using System.Text.RegularExpressions;
using RapidGable.Declarations;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Building;

/// <summary>What is declared of written values: rules, makers, notes of changes. What cannot be kept is reported with its place.</summary>
internal sealed partial class WritingBuilder(Diagnostics diagnostics)
{
    /// <summary>A property with the rules and the maker that are declared for its column.</summary>
    public Property Apply(Property property, ColumnDeclaration declared) =>
        property with
        {
            Rules = Rules(property, declared),
            Maker = Maker(property, declared),
            Measure = Measure(property, declared),
            RefersToAll = declared.RefersToAll,
        };

    private Measure? Measure(Property property, ColumnDeclaration declared)
    {
        if ((declared.Currency ?? declared.MeasuredIn) is not { } text)
            return null;
        var isCurrency = declared.Currency is not null;
        if (isCurrency && declared.MeasuredIn is { } other)
            diagnostics.Error(
                "measure",
                $"'{declared.Column.Value}' has a 'currency' and is 'measured-in' something; it is one of them.",
                other.Location
            );
        else if (!property.Type.IsNumeric)
            diagnostics.Error(
                "measure",
                $"'{declared.Column.Value}' is {property.Type.Name}, and only numbers have a unit or a currency.",
                text.Location
            );
        else if (text.Value.Trim() is "" or "=")
            diagnostics.Error(
                "measure",
                $"'{declared.Column.Value}' has an empty unit.",
                text.Location,
                "Write a unit or a code, or = and a path to the text that holds it."
            );
        else if (text.Value.StartsWith('='))
            return new Measure(text.Value[1..].Trim(), true, isCurrency);
        else if (isCurrency && !(text.Value.Length == 3 && text.Value.All(char.IsAsciiLetterUpper)))
            diagnostics.Error("measure", $"'{text.Value}' is not a currency code: three capital letters, such as EUR.", text.Location);
        else
            return new Measure(text.Value, false, isCurrency);
        return null;
    }

    private ValueRules Rules(Property property, ColumnDeclaration declared)
    {
        if (property.Type.IsCollection || property.Type.Kind is EdmKind.Complex or EdmKind.Stream)
        {
            foreach (
                var rule in new[] { declared.Minimum, declared.Maximum, declared.Pattern, declared.Exists }
                    .OfType<Located<string>>()
                    .Concat(declared.Values)
            )
                diagnostics.Error(
                    "value-rule",
                    $"'{declared.Column.Value}' is {property.Type.Name}, and rules are about single plain values.",
                    rule.Location
                );
            return ValueRules.None;
        }
        if ((declared.MinLength ?? declared.MaxLength) is not null && property.Type.Kind != EdmKind.String)
            diagnostics.Error(
                "value-rule",
                $"'{declared.Column.Value}' is {property.Type.Name}, and only texts have a length.",
                declared.Column.Location
            );
        var (minimum, maximum) = (Bound(declared.Minimum, property), Bound(declared.Maximum, property));
        if (minimum is IComparable low && maximum is not null && low.CompareTo(maximum) > 0)
            diagnostics.Error(
                "value-rule",
                $"'minimum' ({declared.Minimum!.Value}) is more than 'maximum' ({declared.Maximum!.Value}).",
                declared.Minimum.Location
            );
        var rules = new ValueRules
        {
            Minimum = minimum,
            Maximum = maximum,
            MinLength = declared.MinLength,
            MaxLength = declared.MaxLength,
            Pattern = Pattern(declared.Pattern, property),
            Values = [.. declared.Values.Select(v => Value(v, property)).OfType<object>()],
            Exists = Exists(declared.Exists),
            Message = declared.Message?.Value,
        };
        if (declared.Message is { } message && (rules with { Message = null }).IsEmpty && !declared.IsUnique)
            diagnostics.Warning("value-rule", $"'{declared.Column.Value}' has a 'message' and no rule that it is about.", message.Location);
        return rules;
    }

    private object? Bound(Located<string>? bound, Property property)
    {
        if (bound is null)
            return null;
        if (
            property.Type.IsNumeric || property.Type.Kind is EdmKind.Date or EdmKind.TimeOfDay or EdmKind.DateTimeOffset or EdmKind.Duration
        )
            return Value(bound, property);
        diagnostics.Error(
            "value-rule",
            $"'{property.Column}' is {property.Type.Name}, which has no minimum and no maximum.",
            bound.Location
        );
        return null;
    }

    private object? Value(Located<string> text, Property property)
    {
        if (Lexer.Plain(text.Value, property.Type) is { } value)
            return value;
        diagnostics.Error("value-rule", $"'{text.Value}' is not a value of {property.Type.Name}.", text.Location);
        return null;
    }

    private Regex? Pattern(Located<string>? pattern, Property property)
    {
        if (pattern is null)
            return null;
        if (property.Type.Kind != EdmKind.String)
            diagnostics.Error(
                "value-rule",
                $"'{property.Column}' is {property.Type.Name}, and only texts match a pattern.",
                pattern.Location
            );
        try
        {
            // By itself first, so that a fault is told of what is declared.
            _ = new Regex(pattern.Value, RegexOptions.ECMAScript, TimeSpan.FromMilliseconds(200));
            return new Regex($"^(?:{pattern.Value})$", RegexOptions.ECMAScript, TimeSpan.FromMilliseconds(200));
        }
        catch (ArgumentException exception)
        {
            diagnostics.Error("value-rule", $"'{pattern.Value}' is not a regular expression: {exception.Message}", pattern.Location);
            return null;
        }
    }

    private ExistsRule? Exists(Located<string>? exists)
    {
        if (exists?.Value.Split('/') is [{ Length: > 0 } set, { Length: > 0 } property])
            return new ExistsRule(set, property);
        if (exists is not null)
            diagnostics.Error("value-rule", $"'{exists.Value}' is not a set and its property, such as Stations/code.", exists.Location);
        return null;
    }

    private ValueMaker? Maker(Property property, ColumnDeclaration declared)
    {
        if ((declared.Generate ?? declared.Regenerate ?? declared.Default) is not { } text)
            return null;
        var maker = new ValueMaker(ValueSource.Expression, declared.Regenerate is not null) { IsDefault = declared.Default is not null };
        var kind = property.Type.Kind;
        void Wrong(string what) =>
            diagnostics.Error("generate", $"'{property.Column}' is {property.Type.Name}, and {what}.", text.Location);
        if (property.Type.IsCollection || kind is EdmKind.Complex or EdmKind.Stream)
        {
            Wrong("only single plain values are made");
            return null;
        }
        switch (text.Value)
        {
            case "uuid":
                if (kind is not (EdmKind.Guid or EdmKind.String))
                    Wrong("a uuid is made for a uuid or a text");
                return maker with { From = ValueSource.Uuid };
            case "now":
                if (kind is not (EdmKind.DateTimeOffset or EdmKind.Date or EdmKind.TimeOfDay or EdmKind.String))
                    Wrong("the time is made for a point in time, a date or a time of day");
                return maker with { From = ValueSource.Now };
            case "user":
                if (kind != EdmKind.String)
                    Wrong("a caller's name is a text");
                return maker with { From = ValueSource.User };
            case "number":
                if (!property.Type.IsIntegral && kind != EdmKind.Decimal)
                    Wrong("'number' makes whole numbers; for a text write a prefix, as in VIS-{00000}");
                return maker with { From = ValueSource.Number };
        }
        if (text.Value.StartsWith('@') && SimpleIdentifier.IsValid(text.Value[1..]))
            return maker with { From = ValueSource.Attribute, Text = text.Value[1..] };
        if (NumberPattern().Match(text.Value) is { Success: true } number)
        {
            if (kind != EdmKind.String)
                Wrong("numbers with a prefix are texts");
            return maker with { From = ValueSource.Number, Prefix = number.Groups[1].Value, Digits = number.Groups[2].Length };
        }
        if (text.Value.StartsWith('='))
            return maker with { Text = text.Value[1..].Trim() };
        if (declared.Default is not null && Lexer.Plain(text.Value, property.Type) is not null)
            return maker with { From = ValueSource.Constant, Text = text.Value };
        diagnostics.Error(
            "generate",
            $"'{text.Value}' cannot be generated for {property.Type.Name}.",
            text.Location,
            "Write uuid, now, user, number, @attribute, a prefix with the digits of a number as in VIS-{00000}, or '= ' and an expression."
        );
        return null;
    }

    /// <summary>The rules about rows, those of single columns among them.</summary>
    public ImmutableArray<RowRule> RowRules(SetDraft draft)
    {
        var rules = ImmutableArray.CreateBuilder<RowRule>();
        foreach (var column in draft.Declaration.Columns.Where(c => c.IsUnique && draft.FindColumn(c.Column.Value) is not null))
            rules.Add(
                new RowRule(SetOperations.Create | SetOperations.Update)
                {
                    Unique = [column.Column.Value],
                    Message = column.Message?.Value,
                    Property = NameOf(draft, column.Column.Value),
                }
            );
        foreach (var rule in draft.Declaration.RowRules)
        {
            foreach (var lost in rule.Unique.Append(rule.Column).OfType<Located<string>>().Where(c => draft.FindColumn(c.Value) is null))
                diagnostics.Error(
                    "no-column",
                    $"'{draft.Item.Name}' has no column "
                        + $"'{lost.Value}'.{NearestName.Hint(lost.Value, draft.Item.Columns.Select(c => c.Name))}",
                    lost.Location
                );
            if (rule.Unique.Append(rule.Column).OfType<Located<string>>().Any(c => draft.FindColumn(c.Value) is null))
                continue;
            rules.Add(
                new RowRule(rule.On)
                {
                    Condition = rule.Where?.Value,
                    Unique = [.. rule.Unique.Select(u => u.Value)],
                    Who = rule.Who,
                    Property = rule.Column is { } column ? NameOf(draft, column.Value) : null,
                    Message = rule.Message?.Value,
                }
            );
        }
        return rules.ToImmutable();
    }

    private static string? NameOf(SetDraft draft, string column) =>
        draft
            .Visible.Select(p =>
                p.IsGroup ? p.Members.Where(m => m.Column == column).Select(m => $"{p.Name}/{m.Name}").FirstOrDefault()
                : p.Column == column ? p.Name
                : null
            )
            .OfType<string>()
            .FirstOrDefault();

    /// <summary>Where changes are noted; null = nowhere, or it cannot be, which is then reported.</summary>
    public async Task<ChangeLog?> LogAsync(SetDraft draft, SourceCatalog catalog, ISource source, CancellationToken cancellation)
    {
        if (draft.Declaration.Log is not { } declared)
            return null;
        if (catalog.Find(declared.Table.Value) is not { Fault: null, Kind: SourceObjectKind.Table } found)
        {
            diagnostics.Error(
                "no-object",
                $"The source has no table "
                    + $"'{declared.Table.Value}'.{NearestName.Hint(declared.Table.Value, catalog.Objects.Select(catalog.ShortName))}",
                declared.Table.Location
            );
            return null;
        }
        var table = await source.DescribeAsync(found, cancellation);
        var columns = ImmutableDictionary.CreateBuilder<string, Property>();
        foreach (var (what, column) in declared.Columns)
        {
            if (table.Column(column.Value) is not { Type: { } type } there)
            {
                diagnostics.Error(
                    "no-column",
                    $"'{table.Name}' has no column '{column.Value}'.{NearestName.Hint(column.Value, table.Columns.Select(c => c.Name))}",
                    column.Location
                );
                return null;
            }
            if (type.Kind != EdmKind.String && !(what.Value == "when" && type.Kind == EdmKind.DateTimeOffset))
                diagnostics.Error(
                    "log",
                    $"The column '{column.Value}' is {type.Name}, and '{what.Value}' is noted as "
                        + $"{(what.Value == "when" ? "a point in time or a text" : "a text")}.",
                    column.Location
                );
            columns[what.Value] = new Property(there.Name, type, there.Nullable, there.Name, there.StorageForm);
        }
        return new ChangeLog(new TableSource(draft.Declaration.Source.Value, table.Schema, table.Name), columns.ToImmutable());
    }

    /// <summary>Names in rules that only the whole model can tell, and expressions that only it can bind.</summary>
    public void Check(IReadOnlyList<SetDraft> drafts, EntityModel model)
    {
        foreach (var set in model.Sets)
        {
            var declared = drafts.First(d => d.Name == set.Name).Declaration;
            foreach (var property in set.Type.Properties.SelectMany(p => p.Leaves).Concat(set.Type.Hidden))
            {
                if (declared.Columns.FirstOrDefault(c => c.Column.Value == property.Column) is not { } column)
                    continue;
                if (property.Rules.Exists is { } exists)
                    CheckExists(exists, property, model, column.Exists!);
                if (property.Measure is { IsPath: true } measure)
                    CheckMeasure(Access.BoundRule.BindValue(model, set, measure.Text), (column.Currency ?? column.MeasuredIn)!);
                if (
                    property.Maker is { From: ValueSource.Expression } maker
                    && Access.BoundRule.BindValue(model, set, maker.Text) is var bound
                )
                    CheckValue(bound, property.Type, (column.Generate ?? column.Regenerate ?? column.Default)!);
            }
            foreach (var rule in declared.RowRules.Where(r => r.Where is not null))
            {
                if (Access.BoundRule.BindCondition(model, set, rule.Where!.Value).Fault is { } fault)
                    diagnostics.Error("value-rule", $"The rule cannot be kept: {fault.Message}", rule.Where!.Location, fault.Pointer());
            }
        }
    }

    private void CheckExists(ExistsRule rule, Property property, EntityModel model, Located<string> text)
    {
        if (model.FindSet(rule.Set) is not { } set)
            diagnostics.Error(
                "value-rule",
                $"There is no set '{rule.Set}'.{NearestName.Hint(rule.Set, model.Sets.Select(s => s.Name))}",
                text.Location
            );
        else if (set.Type.FindProperty(rule.Property) is not { } there)
            diagnostics.Error(
                "value-rule",
                $"'{rule.Set}' has no property "
                    + $"'{rule.Property}'.{NearestName.Hint(rule.Property, set.Type.Properties.Select(p => p.Name))}",
                text.Location
            );
        else if (there.IsGroup || (there.Type.Kind != property.Type.Kind && !(there.Type.IsNumeric && property.Type.IsNumeric)))
            diagnostics.Error(
                "value-rule",
                $"'{text.Value}' is {there.Type.Name}, and '{property.Column}' is {property.Type.Name}.",
                text.Location
            );
    }

    private void CheckMeasure(Result<Access.BoundRule> bound, Located<string> text)
    {
        if (bound.Fault is { } fault)
            diagnostics.Error("measure", $"The unit cannot be looked up: {fault.Message}", text.Location, fault.Pointer());
        else if (bound.Value!.Condition is not BoundProperty { Scope: "", Property.Type: { Kind: EdmKind.String, IsCollection: false } })
            diagnostics.Error(
                "measure",
                $"'{text.Value}' does not lead to a text of the same entity or of one that it refers to.",
                text.Location
            );
    }

    private void CheckValue(Result<Access.BoundRule> bound, EdmType type, Located<string> text)
    {
        if (bound.Fault is { } fault)
            diagnostics.Error("generate", $"The expression cannot be computed: {fault.Message}", text.Location, fault.Pointer());
        else if (bound.Value!.Condition!.Type is { } made && made.Kind != type.Kind && !(made.IsNumeric && type.IsNumeric))
            diagnostics.Error("generate", $"The expression gives {made.Name}, and {type.Name} is what the column holds.", text.Location);
    }

    [GeneratedRegex(@"^([^{}]*)\{(0{1,15})\}$")]
    private static partial Regex NumberPattern();
}
