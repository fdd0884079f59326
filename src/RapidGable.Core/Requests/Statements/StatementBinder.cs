using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Requests.Statements;

/// <summary>
/// What a statement says -> what it means for a caller: names are those of the sets and properties that they may know of, and nothing
/// else has a name. Types are checked as for filters; nulls follow SQL.
/// </summary>
/// <param name="model">What the caller may know of.</param>
/// <param name="arguments">Values of the parameters: string, long, decimal, <see cref="LongDecimal"/>, double or bool; null = NULL.</param>
public sealed partial class StatementBinder
{
    private readonly EntityModel _model;
    private readonly string _text;
    private readonly IReadOnlyDictionary<string, object?> _arguments;
    private readonly HashSet<string> _used = new(StringComparer.Ordinal);
    private StatementScope _scope = new(null);
    private string? _source;
    private int _tables;
    private int _selects;
    private int _terms;

    private readonly StepBudget _steps;
    private readonly JoinedTexts _joined = new();

    private StatementBinder(EntityModel model, string text, IReadOnlyDictionary<string, object?> arguments, StepBudget steps)
    {
        _steps = steps;
        _model = model;
        _text = text;
        _arguments = arguments;
    }

    /// <summary>Reads and binds a statement; the fault says what is wrong, and where.</summary>
    /// <param name="steps">Of the request; null = a budget of its own.</param>
    public static Result<StatementSelect> Bind(
        string text,
        EntityModel model,
        IReadOnlyDictionary<string, object?> arguments,
        StepBudget? steps = null
    )
    {
        if (text.Length > Limits.StatementCharacters)
            return new RequestFault(
                400,
                "too-large",
                $"The statement has more than {Limits.StatementCharacters} characters.",
                StatementFaults.Target
            );
        if (!StatementParser.Parse(text).Is(out var syntax, out var fault))
            return fault;
        try
        {
            var binder = new StatementBinder(model, text, arguments, steps ?? new StepBudget());
            var select = binder.Select(syntax, null);
            return arguments.Keys.FirstOrDefault(a => !binder._used.Contains(a)) is { } other
                ? new RequestFault(
                    400,
                    "argument",
                    $"The statement has no parameter '{other}'.{NearestName.Hint(other, binder._used)}",
                    "parameters"
                )
                : select;
        }
        catch (FaultException exception)
        {
            return exception.Fault;
        }
    }

    /// <summary>Whether statements can read a set.</summary>
    public static bool Reads(EntitySet set) =>
        set is { IsTransient: false, ContainedIn: null, IsQuery: false, Call: null, RequiresFilter: false }
        && set.Type.Properties.Any(Names.IsColumn);

    private FaultException Fault(string code, string message, int position) => StatementFaults.Of(code, message, _text, position);

    private FaultException NotSupported(string message, int position) => StatementFaults.NotSupported(message, _text, position);

    /// <param name="outer">The tables of the SELECT around; null = there is none.</param>
    private StatementSelect Select(SelectSyntax syntax, StatementScope? outer)
    {
        var scope = _scope = new StatementScope(outer);
        var number = ++_selects;
        var from = Table(syntax.From, isOuter: false);
        var joins = syntax.Joins.Select(Join).ToImmutableArray();
        var where = syntax.Where is { } condition ? Condition(condition) : null;
        var groups = syntax.GroupBy.Select(g => Grouped(g)).ToImmutableArray();
        scope.TakesAggregates = true;
        var select = new StatementSelect(number, Items(syntax), from)
        {
            IsDistinct = syntax.IsDistinct,
            Joins = joins,
            Where = where,
            GroupBy = groups,
            Having = syntax.Having is { } having ? Condition(having) : null,
        };
        select = select with
        {
            OrderBy = [.. syntax.OrderBy.Select(o => Order(o, select))],
            Limit = syntax.Limit is { } limit ? Rows(limit) : null,
            Offset = syntax.Offset is { } offset ? Rows(offset) : null,
        };
        CheckGroups(select, syntax, scope);
        _scope = outer ?? scope;
        return select;
    }

    private StatementTable Table(TableSyntax syntax, bool isOuter)
    {
        var set = SetOf(syntax.Name);
        var table = new StatementTable(set, ++_tables) { IsOuter = isOuter };
        var name = syntax.Alias ?? syntax.Name;
        return _scope.Add(name, table)
            ? table
            : throw Fault("syntax", $"Two sets are called '{name.Text}' here; give one an alias.", name.Position);
    }

    private EntitySet SetOf(StatementName name)
    {
        var sets = _model.Sets.Where(s => s is { IsTransient: false, ContainedIn: null }).ToList();
        if (Names.Find(sets, s => s.Name, name) is not { } set)
            throw Fault(
                "unknown-set",
                $"There is no set '{name.Text}'.{NearestName.Hint(name.Text, sets.Select(s => s.Name))}",
                name.Position
            );
        if (set is { IsQuery: true } or { Call: not null })
            throw NotSupported($"'{set.Name}' is called with values, and cannot be read by a statement.", name.Position);
        if (set.RequiresFilter)
            throw NotSupported($"'{set.Name}' is read with a filter only, and not by statements.", name.Position);
        _source ??= set.Source.Source;
        return _source == set.Source.Source
            ? set
            : throw NotSupported(
                $"'{set.Name}' is in another database than the sets before it, and cannot be joined with these.",
                name.Position
            );
    }

    private StatementJoin Join(JoinSyntax syntax)
    {
        var table = Table(syntax.Table, syntax.IsOuter);
        var on = Condition(syntax.On);
        var equalities = Conjuncts(on).ToList();
        var (isPlain, isTied) = (
            equalities.TrueForAll(e =>
                e is OperatorTerm { Operator: StatementOperator.Equal, Left: ColumnTerm or ValueTerm, Right: ColumnTerm or ValueTerm }
            ),
            equalities.Exists(e => e is OperatorTerm { Left: ColumnTerm left, Right: ColumnTerm right } && Ties(left, right, table))
        );
        return isPlain && isTied
            ? new StatementJoin(table, on)
            : throw NotSupported(
                $"What ties '{table.Set.Name}' to the sets before it must be equalities of columns, joined by AND.",
                syntax.On.Position
            );
    }

    private bool Ties(ColumnTerm left, ColumnTerm right, StatementTable table) =>
        (left.Table == table) != (right.Table == table) && _scope.Owns(left.Table) && _scope.Owns(right.Table);

    private static IEnumerable<BoundTerm> Conjuncts(BoundTerm term) =>
        term is OperatorTerm { Operator: StatementOperator.And } both ? Conjuncts(both.Left).Concat(Conjuncts(both.Right)) : [term];

    private ImmutableArray<StatementItem> Items(SelectSyntax syntax)
    {
        var items = ImmutableArray.CreateBuilder<StatementItem>();
        var names = new HashSet<string>(StringComparer.Ordinal);
        foreach (var item in syntax.Items)
        {
            foreach (var bound in Item(item, items.Count))
            {
                if (!names.Add(bound.Name))
                    throw Fault("alias", $"Two columns are called '{bound.Name}'. Give one another name with AS.", item.Position);
                if (items.Count == Limits.StatementColumns)
                    throw Fault("too-large", $"The result has more than {Limits.StatementColumns} columns.", item.Position);
                items.Add(bound);
            }
        }
        return items.Count > 0
            ? items.ToImmutable()
            : throw NotSupported("The sets have no plain values, and cannot be read by a statement.", syntax.Position);
    }

    private IEnumerable<StatementItem> Item(ItemSyntax item, int before)
    {
        if (item.Term is not { } syntax)
            return (item.Table is { } name ? [TableOf(name)] : _scope.Tables).SelectMany(t =>
                t.Set.Type.Properties.Where(Names.IsColumn).Select(p => new StatementItem(new ColumnTerm(t, p), p.Name))
            );
        var term = Term(syntax);
        if (term.Type is null)
            throw Fault("type", "NULL has no type here; write CAST(NULL AS …).", syntax.Position);
        var named = item.Alias?.Text
            ?? term switch
            {
                ColumnTerm column => column.Property.Name,
                AggregateTerm aggregate => aggregate.Function.ToLowerInvariant(),
                _ => $"column{before + 1}",
            };
        return SimpleIdentifier.IsValid(named)
            ? [new StatementItem(term, named)]
            : throw Fault("alias", $"'{named}' cannot be the name of a column: it needs letters, digits and _.", item.Alias!.Position);
    }

    private StatementTable TableOf(StatementName name) =>
        _scope.Find(name)
        ?? throw Fault(
            "unknown-set",
            $"No set is called '{name.Text}' here.{NearestName.Hint(name.Text, _scope.TableNames)}",
            name.Position
        );

    private BoundTerm Grouped(TermSyntax syntax)
    {
        if (syntax is ValueSyntax)
            throw Fault("syntax", "GROUP BY takes columns and expressions, not numbers of columns.", syntax.Position);
        var term = Term(syntax);
        if (term.All.Any(t => t.Inner is not null))
            throw NotSupported("A SELECT cannot stand in GROUP BY.", syntax.Position);
        if (!term.All.Any(t => t is ColumnTerm))
            throw Fault("grouped", "What is grouped by names a column.", syntax.Position);
        NotConverted(term, "grouped by", syntax.Position, ConvertedUse.Equality);
        return term;
    }

    private StatementOrder Order(OrderSyntax syntax, StatementSelect select)
    {
        var term = syntax.Term switch
        {
            ValueSyntax { Value: long number } => number >= 1 && number <= select.Items.Length
                ? select.Items[(int)number - 1].Term
                : throw Fault("number", $"The result has no column {number}.", syntax.Term.Position),
            ColumnSyntax { Table: null } column when Names.Find(select.Items, i => i.Name, column.Name) is { } item => item.Term,
            _ => Term(syntax.Term),
        };
        if (term is ColumnTerm { Property: { IsSortable: false } property })
            throw Fault("not-sortable", $"'{property.Name}' may not be sorted by.", syntax.Term.Position);
        NotConverted(term, "sorted by", syntax.Term.Position, ConvertedUse.Sorting);
        return new StatementOrder(term, syntax.IsDescending);
    }

    /// <summary>A number of rows.</summary>
    private long Rows(TermSyntax syntax)
    {
        var value = syntax is ParameterSyntax parameter ? Argument(parameter) : ((ValueSyntax)syntax).Value;
        if (value is string text)
            value = StatementValues.Number(text);
        return value is long and >= 0
            ? (long)value
            : throw Fault("number", "A number of rows is a whole number of at least 0.", syntax.Position);
    }

    private object? Argument(ParameterSyntax syntax)
    {
        _used.Add(syntax.Name);
        return _arguments.TryGetValue(syntax.Name, out var value)
            ? value
            : throw Fault("argument", $"'{syntax.Name}' is missing among the parameters.", syntax.Position);
    }

    /// <summary>Where rows are grouped, every value is one of the group: what it is grouped by, an aggregate, or made of these.</summary>
    private void CheckGroups(StatementSelect select, SelectSyntax syntax, StatementScope scope)
    {
        var isGrouped = !select.GroupBy.IsEmpty || scope.HasAggregates || select.Having is not null;
        var ordered = select.OrderBy.Select((o, i) => (o.Term, syntax.OrderBy[i].Term.Position));
        if (select.IsDistinct)
        {
            var shown = select.Items.Select(i => i.Term.Key).ToHashSet();
            foreach (var (term, position) in ordered.Where(o => !shown.Contains(o.Term.Key)))
                throw Fault("grouped", "With DISTINCT, only columns of the result can be sorted by.", position);
            foreach (var item in select.Items)
                NotConverted(item.Term, "compared", syntax.Position, ConvertedUse.Equality);
        }
        if (!isGrouped)
            return;
        var keys = select.GroupBy.Select(g => g.Key).ToHashSet();
        var checkedTerms = select
            .Items.Select(i => (i.Term, syntax.Items[0].Position))
            .Concat(select.Having is { } having ? [(having, syntax.Having!.Position)] : [])
            .Concat(ordered);
        foreach (var (term, position) in checkedTerms)
        {
            if (Ungrouped(term, keys, scope, []) is { } column)
                throw Fault(
                    "grouped",
                    $"'{column.Property.Name}' is another one for each row of a group: group by it, or use an aggregate.",
                    position
                );
        }
    }

    /// <summary>A column of the SELECT's own tables that is no value of the group; null = there is none.</summary>
    /// <param name="seen">Keys of terms that hold none.</param>
    private static ColumnTerm? Ungrouped(BoundTerm term, HashSet<string> keys, StatementScope scope, HashSet<string> seen)
    {
        if (keys.Contains(term.Key) || term is AggregateTerm || !seen.Add(term.Key))
            return null;
        if (term is ColumnTerm column)
            return scope.Owns(column.Table) ? column : null;
        var inner = term.Inner?.AllTerms.OfType<ColumnTerm>().FirstOrDefault(c => scope.Owns(c.Table) && !keys.Contains(c.Key));
        return inner ?? term.Parts.Select(p => Ungrouped(p, keys, scope, seen)).FirstOrDefault(c => c is not null);
    }
}
