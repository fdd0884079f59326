using System.Globalization;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Publishing;

namespace RapidGable.Changes;

/// <summary>Values that the service makes, added to those of a row on its way.</summary>
internal sealed class ValueMaking(ChangeUnit unit, EntitySet whole, ChangeStatements statements, PublishedService service)
{
    /// <param name="columns">What is known of the row so far; receives the rest.</param>
    /// <param name="row">The row when it is there already.</param>
    public async Task AddAsync(List<ColumnValue> columns, SetOperations operation, EntityRow? row = null)
    {
        var made = whole
            .Type.Properties.SelectMany(p => p.Leaves)
            .Concat(whole.Type.Hidden)
            .Where(p =>
                p.Maker is { } maker
                && (operation == SetOperations.Create || maker.AtUpdate)
                && !(maker.IsDefault && columns.Exists(c => c.Property.Column == p.Column))
            );
        // Expressions are about the others.
        foreach (var property in made.OrderBy(p => p.Maker!.From == ValueSource.Expression))
        {
            var value = await MakeAsync(property, property.Maker!, columns, row);
            if (value is null && !property.Nullable)
                throw new FaultException(
                    property.Maker!.From is ValueSource.User or ValueSource.Attribute
                        ? new RequestFault(
                            403,
                            "forbidden",
                            $"'{property.Name}' is made of who you are, and nothing is known of you that fits.",
                            property.Name
                        )
                        : new RequestFault(
                            422,
                            "rule-broken",
                            $"'{property.Name}' is made of other values, and there is none for it.",
                            property.Name
                        )
                );
            columns.RemoveAll(c => c.Property.Column == property.Column);
            columns.Add(new ColumnValue(property, value));
        }
    }

    private async Task<object?> MakeAsync(Property property, ValueMaker maker, List<ColumnValue> columns, EntityRow? row) =>
        maker.From switch
        {
            ValueSource.Uuid => property.Type.Kind == EdmKind.Guid ? unit.NewOrderedId() : unit.NewOrderedId().ToString(),
            ValueSource.Now => Now(property.Type),
            ValueSource.User => unit.Caller.Name,
            ValueSource.Attribute => unit.Caller.Attribute(maker.Text) is [var only, ..] ? Lexer.Plain(only, property.Type) : null,
            ValueSource.Constant => Lexer.Plain(maker.Text, property.Type),
            ValueSource.Number => await NextAsync(property, maker),
            _ => await ComputeAsync(property, maker, columns, row),
        };

    private object Now(EdmType type)
    {
        if (type.Kind == EdmKind.Date)
            return DateOnly.FromDateTime(unit.Now);
        if (type.Kind == EdmKind.TimeOfDay)
            return TimeOnly.FromDateTime(unit.Now);
        var step = (long)Math.Pow(10, 7 - Math.Min(7, type.Precision ?? 7));
        var now = new DateTime(unit.Now.Ticks / step * step, DateTimeKind.Utc);
        return type.Kind == EdmKind.String ? ValueConversion.Text(now) : now;
    }

    /// <summary>
    /// The number after the highest. Others who need one wait until this transaction ends, so that none is given twice or lost.
    /// </summary>
    private async Task<object> NextAsync(Property property, ValueMaker maker)
    {
        var table = (TableSource)whole.Source;
        await statements.SerializeAsync($"gable number {table.Schema}.{table.Name}.{property.Column}");
        if (property.Type.IsNumeric)
            return await statements.HighestAsync(whole.Source, property) is { } highest
                ? Convert.ToInt64(highest, CultureInfo.InvariantCulture) + 1
                : 1L;
        var number = await statements.HighestAsync(whole.Source, property, maker.Prefix, maker.Digits) + 1;
        return maker.Prefix + number.ToString("D" + maker.Digits, CultureInfo.InvariantCulture);
    }

    /// <summary>An expression about the row as it will be; what it leads to is as it is.</summary>
    private async Task<object?> ComputeAsync(Property property, ValueMaker maker, List<ColumnValue> columns, EntityRow? row)
    {
        var value = service.ValueOf(whole, maker.Text);
        if (value.For(unit.Caller) is not [var own, ..])
            return null;
        var known = columns.Where(c => !c.IsIncrement && c.Property.Via is null).ToDictionary(c => c.Property.Column, c => c);
        var others = whole
            .Type.Properties.SelectMany(p => p.Leaves)
            .Concat(whole.Type.Hidden)
            .Where(p => p.Expression is null && !known.ContainsKey(p.Column))
            .DistinctBy(p => p.Column)
            .ToList();
        var there = row is null ? null : await statements.FindAsync(whole.Source, others, row.Where);
        var proposed = known
            .Values.Concat(
                others.Select(
                    (p, i) =>
                        new ColumnValue(
                            p,
                            there?[i]
                                ?? (
                                    p.DefaultValue is { } literal && row is null
                                        ? Lexer.Plain(literal, p.StoredType) is { } plain && p.Conversion is null
                                            ? plain
                                            : null
                                        : null
                                )
                        )
                )
            )
            .ToList();
        return await statements.ComputeAsync(service.Model.Stored, own, proposed, property.Type);
    }
}
