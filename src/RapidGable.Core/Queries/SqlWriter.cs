using System.Collections.Immutable;
using System.Text;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>Relational plan -> SQL. Values never become text: each is a parameter.</summary>
public sealed partial class SqlWriter
{
    private readonly SqlDialect _dialect;
    private readonly List<PlanParameter> _parameters = [];
    private readonly RowGuard? _guard;
    private readonly bool _isFenced;

    private SqlWriter(SqlDialect dialect) => _dialect = dialect;

    /// <param name="tables">All tables of the statement that rules may restrict.</param>
    /// <param name="isGuarded">Expressions of the statement must not meet rows that rules take away, see <see cref="RowGuard"/>.</param>
    /// <param name="isStaged">What rules leave is chosen before anything around it is evaluated: it goes through stages, or all of it is
    /// read anyway.</param>
    private SqlWriter(SqlDialect dialect, bool isGuarded, bool isStaged, IEnumerable<PlanTable> tables, bool isFenced = false)
        : this(dialect)
    {
        _isFenced = isFenced;
        if (!isGuarded)
            return;
        _guard = new RowGuard(dialect, source => From(source, isMarked: false, isFenced: false));
        _isFenced = isStaged || tables.Any(t => _guard.NeedsFence(t.Source));
    }

    private SqlWriter(SqlDialect dialect, SelectPlan plan)
        : this(
            dialect,
            RowGuard.IsNeeded(plan),
            plan.From.Apply is not null || (!dialect.KeepsMarkers && RowGuard.ReadsAll(plan)),
            Tables(plan)
        ) { }

    /// <summary>Writes the tables and parameters of a statement whose rest is written elsewhere.</summary>
    /// <param name="isFenced">What rules leave of a table is chosen before anything around it is evaluated.</param>
    internal static SqlWriter OfParts(SqlDialect dialect, bool isFenced) => new(dialect, false, false, [], isFenced);

    /// <summary>What stands after FROM for a table, or for what of it the caller may see.</summary>
    internal string Table(RowSource source) => From(source);

    /// <summary>The placeholder of a parameter.</summary>
    internal string Placeholder(PlanParameter parameter) => Parameter(parameter);

    /// <summary>The parameters so far, in the order of their numbers.</summary>
    internal ImmutableArray<PlanParameter> Parameters => [.. _parameters];

    /// <summary>Writes all statements of a plan; the fault is 501 for what the dialect cannot express.</summary>
    /// <param name="dialectOf">The dialect of a source, by its name.</param>
    public static Result<CompiledQuery> Compile(QueryPlan plan, Func<string, SqlDialect> dialectOf)
    {
        try
        {
            return Written(plan, dialectOf);
        }
        catch (FaultException exception)
        {
            return exception.Fault;
        }
    }

    /// <summary>
    /// The main statement of a plan with another protection of hidden rows than its own, so that what each of them costs can be measured;
    /// never for callers.
    /// </summary>
    internal static SqlStatement WriteWith(HiddenRowProtection protection, SelectPlan plan, SqlDialect dialect)
    {
        var writer =
            protection == HiddenRowProtection.Guard
                ? new SqlWriter(dialect, plan)
                : new SqlWriter(dialect, false, false, [], protection == HiddenRowProtection.Fence);
        return new SqlStatement(writer.Select(plan, plan.Output.IsEmpty ? "COUNT(*)" : null), [.. writer._parameters]);
    }

    private static CompiledQuery Written(QueryPlan plan, Func<string, SqlDialect> dialectOf)
    {
        var dialect = dialectOf(plan.Main.From.Source.Source);
        return new CompiledQuery(
            Write(plan.Main, dialect),
            plan.Count is { } count ? Write(count, dialect) : null,
            plan.Probe is { } probe ? Write(probe, dialect) : null,
            [.. plan.Children.Select((_, i) => WriteChildren(plan.Children, i, dialect))],
            plan.Shape
        )
        {
            ChildDepths = [.. plan.Children.Select(c => Depth(plan.Children, c))],
            Remotes =
            [
                .. plan.Remotes.Select(r => new RemoteStatements(
                    r,
                    WriteKeys(r, dialect),
                    WriteBatch(r, dialectOf(r.Related.From.Source.Source))
                )),
            ],
            Tracking = plan.Tracking is { } changes ? Tracking(changes, plan.Main.From.Source, dialect) : null,
            Bridge = plan.Bridge is { } bridge
                ? new BridgeStatement(bridge, Write(bridge.Select, dialectOf(bridge.Select.From.Source.Source)))
                : null,
        };
    }

    private static int Depth(ImmutableArray<ChildrenPlan> all, ChildrenPlan child) =>
        child.Parent is { } parent ? Depth(all, all[parent]) + 1 : 1;

    /// <summary>The statement of a plan, in the SQL of an engine.</summary>
    public static SqlStatement Write(SelectPlan plan, SqlDialect dialect)
    {
        var writer = new SqlWriter(dialect, plan);
        var text = writer.Select(plan, plan.Output.IsEmpty ? "COUNT(*)" : null);
        return new SqlStatement(text, [.. writer._parameters]);
    }

    private static SqlStatement WriteChildren(ImmutableArray<ChildrenPlan> all, int number, SqlDialect dialect)
    {
        var (isGuarded, tables) = (false, Tables(all[number].Main).ToList());
        for (int? i = number; i is { } at; i = all[at].Parent)
        {
            isGuarded |= RowGuard.IsNeeded(all[at].Related);
            tables.AddRange(Tables(all[at].Related));
        }
        var main = all[number].Main;
        var writer = new SqlWriter(dialect, isGuarded || RowGuard.IsNeeded(main), main.From.Apply is not null, tables)
        {
            GuardsChildren = tables.Exists(t => RowGuard.IsRestricted(t.Source)),
        };
        var text = writer.Children(all, number);
        return new SqlStatement(text, [.. writer._parameters]);
    }

    private string Select(SelectPlan plan, string? output)
    {
        var expressions = new SqlExpressions(_dialect, Inner, plan.Aliases, Parameter, new RootAlias(plan.From.Alias, IsTable: true))
        {
            Guards = Guards(plan),
            Guard = _guard,
        };
        var sql = new StringBuilder("SELECT ").Append(output ?? string.Join(", ", Outputs(plan.Output, expressions)));
        sql.Append("\nFROM ").Append(From(plan.From)).Append(" AS ").Append(plan.From.Alias);
        foreach (var join in plan.Joins)
            sql.Append('\n').Append(Join(join, alias => alias));
        var terms = plan.Order.Select(o => expressions.GuardedValue(o.Value)).ToList();
        var conditions = plan.Where.SelectMany(c => Conditions(c, plan, expressions, terms)).ToList();
        if (conditions.Count > 0)
            sql.Append("\nWHERE ").AppendJoin("\n  AND ", conditions);
        if (terms.Count > 0)
            sql.Append("\nORDER BY ").AppendJoin(", ", terms.Zip(plan.Order, (t, o) => _dialect.OrderTerm(t, o.Descending, o.MayBeNull)));
        if (plan.Limited)
            sql.Append("\nLIMIT ").Append(Parameter(new LimitParameter()));
        if (plan.Skips)
            sql.Append(" OFFSET ").Append(Parameter(new SkipParameter()));
        return sql.ToString();
    }

    /// <summary>
    /// What must hold before an expression of the caller may be evaluated: every row that is joined is seen, and the rows of a path
    /// belong together.
    /// </summary>
    private ImmutableArray<string> Guards(SelectPlan plan)
    {
        if (_guard is null || !Tables(plan).Any(t => t.Apply is null && RowGuard.IsRestricted(t.Source)))
            return [];
        // Rows that have been chosen by themselves need no look at each; rows of a path must still belong together.
        if (_isFenced && plan.Joins.All(j => j.Outer))
            return [RowGuard.Fenced];
        var together = plan.Joins.Where(j => !j.Outer && !j.On.IsEmpty).SelectMany(j => On(j, j.Table.Alias, j.LeftAlias));
        ImmutableArray<string> guards =
        [
            .. _guard.Seen(Tables(plan).Where(t => t.Apply is null).Select(t => (t.Alias, t.Source))),
            .. _guard.Opaque(together),
        ];
        return guards.IsEmpty ? [RowGuard.Fenced] : guards;
    }

    private IEnumerable<string> On(PlanJoin join, string table, string left) =>
        join.On.Select(p => $"{table}.{_dialect.Quote(p.Target.Column)} = {left}.{_dialect.Quote(p.Own.Column)}");

    private string Changed(string stamp, Property property, int mark)
    {
        var value = Parameter(new MarkParameter(mark, property.Type, property.StorageForm));
        var again = Parameter(new MarkAgainParameter(mark));
        return $"({stamp} > {value} OR ({stamp} = {value} AND {again} = 1) OR {again} = 2)";
    }

    private static TrackingStatements Tracking(ChangeTracking changes, RowSource rows, SqlDialect dialect)
    {
        var tables = new List<(RowSource Source, Property Stamp)> { (rows, changes.Stamp) };
        if (changes.Log is { } log)
            tables.Add((log.Source, log.Stamp));
        SqlStatement Of(Func<SqlWriter, string> write)
        {
            var writer = new SqlWriter(dialect);
            return new SqlStatement(write(writer), [.. writer._parameters]);
        }
        string Raw(Property property) => $"t0.{dialect.Quote(property.Column)}";
        return new TrackingStatements(
            changes,
            [
                .. tables.Select(t =>
                    Of(_ =>
                        $"SELECT {Raw(t.Stamp)}, COUNT(*) FROM {dialect.From(t.Source)} AS t0 WHERE {Raw(t.Stamp)} = (SELECT "
                        + $"MAX({dialect.Quote(t.Stamp.Column)}) FROM {dialect.From(t.Source)} AS m) GROUP BY {Raw(t.Stamp)}"
                    )
                ),
            ],
            [
                .. tables.Select(
                    (t, i) =>
                        Of(w =>
                            $"SELECT COUNT(*) FROM {dialect.From(t.Source)} AS t0 WHERE {w.Column("t0", t.Stamp)} = "
                            + $"{w.Parameter(new MarkParameter(i, t.Stamp.Type, t.Stamp.StorageForm))}"
                        )
                ),
            ],
            changes.Log is not { } deleted
                ? null
                : Of(w =>
                    $"SELECT {string.Join(", ", deleted.Key.Select(k => w.Column("t0", k)))} FROM "
                    + $"{dialect.From(deleted.Source)} AS t0 WHERE "
                    + $"{w.Changed(w.Column("t0", deleted.Stamp), deleted.Stamp, 1)} ORDER BY {w.Column("t0", deleted.Stamp)}"
                )
        );
    }

    private string From(PlanTable table) => table.Apply is { } apply ? $"(\n{Stages(apply)}\n)" : From(table.Source);

    private string Stages(ApplyPlan apply)
    {
        string Fence(SelectPlan plan) => _isFenced && IsRestricted(plan) ? _dialect.Fence : "";
        var stages = new ApplySql(
            _dialect,
            Inner,
            Parameter,
            (plan, output) => Select(plan, output) + Fence(plan),
            join => Join(join, alias => alias)
        )
        {
            Guards = _isFenced && IsRestricted(apply.Input) ? [RowGuard.Fenced] : [],
            Guard = _guard,
        };
        return stages.Write(apply);
    }

    private static LiteralParameter KeyValue(PlanKeyCondition key)
    {
        var property = key.Column.Property;
        return new LiteralParameter(key.Value.Slot, property.Type, property.StorageForm, key.Value.Conversion);
    }

    /// <summary>Some parents may be kept from the caller, so that an expression must not meet the children of others.</summary>
    private bool GuardsChildren { get; init; }

    private static IEnumerable<PlanTable> Tables(RelatedPlan plan) => plan.Joins.Select(j => j.Table).Prepend(plan.From);

    private static IEnumerable<PlanTable> Tables(SelectPlan plan) => plan.Joins.Select(j => j.Table).Prepend(plan.From);

    private static bool IsRestricted(SelectPlan plan) => Tables(plan).Any(t => RowGuard.IsRestricted(t.Source));

    /// <summary>Restricted tables say of each row whether it is seen.</summary>
    private bool IsMarked => _guard is not null && _dialect.KeepsMarkers;

    private string From(RowSource source) => From(source, IsMarked, _isFenced);

    /// <summary>A table of a subquery within an expression, which has guards of its own: a fence would keep indexes from it.</summary>
    private string Inner(RowSource source) => From(source, IsMarked, isFenced: false);

    /// <summary>A table, or what of it the caller may see. Every table of a statement is written here.</summary>
    private string From(RowSource source, bool isMarked, bool isFenced) =>
        source switch
        {
            RestrictedSource restriction => new RestrictedSql(_dialect, Parameter).Write(restriction, isMarked, isFenced),
            ComputedSource computed => Computed(computed, isMarked, isFenced),
            _ => QuerySql.Write(source, _dialect, Parameter),
        };

    /// <summary>
    /// Rows with the values that are computed from them; a level deeper each name gets its own, so that none hides another.
    /// </summary>
    private string Computed(ComputedSource source, bool isMarked, bool isFenced)
    {
        var level = new PlanLevel(source.Model, "g", n => "g" + n);
        foreach (var (_, value) in source.Values)
            level.Reach(value.Condition!);
        // A value that is asked for in a condition is evaluated with it.
        var restricted = level
            .Joins.Select(j => j.Table)
            .Prepend(new PlanTable(source.Rows, "g"))
            .Where(t => RowGuard.IsRestricted(t.Source))
            .ToList();
        var guard =
            restricted.Count > 0 && source.Values.Any(v => RowGuard.IsNeeded(v.Value.Condition!))
                ? new RowGuard(_dialect, s => From(s, isMarked: false, isFenced: false))
                : null;
        isMarked |= guard is not null && _dialect.KeepsMarkers;
        isFenced |= guard is not null && restricted.Exists(t => guard.NeedsFence(t.Source));
        ImmutableArray<string> guards = guard is null ? [] : [.. guard.Seen(restricted.Select(t => (t.Alias, t.Source)))];
        string Value(BoundRule value)
        {
            var expressions = new SqlExpressions(
                _dialect,
                s => From(s, isMarked, isFenced: false),
                level.Aliases,
                p => Parameter(RestrictedSql.Of(value, p))
            )
            {
                Guards = guards,
                Guard = guard,
            };
            if (value.Condition is BoundProperty kept)
                return expressions.Raw(kept);
            var written = expressions.Output(new PlanExpression(value.Condition!));
            return !guards.IsEmpty && RowGuard.IsNeeded(value.Condition!) ? RowGuard.Of(guards, written) : written;
        }
        var columns = source.Values.Select(v => $"{Value(v.Value)} AS {_dialect.Quote(v.Column)}");
        var joins = string.Concat(
            level.Joins.Select(j =>
                $" LEFT JOIN {From(j.Table.Source, isMarked, isFenced)} AS {j.Table.Alias} ON "
                + $"{string.Join(" AND ", On(j, j.Table.Alias, j.LeftAlias))}"
            )
        );
        return $"(SELECT g.*, {string.Join(", ", columns)} FROM {From(source.Rows, isMarked, isFenced)} AS g{joins})";
    }

    private IEnumerable<string> Conditions(PlanCondition condition, SelectPlan plan, SqlExpressions expressions, List<string> terms) =>
        condition switch
        {
            PlanKeyCondition key => [$"{expressions.Value(key.Column)} = {Parameter(KeyValue(key))}"],
            PlanBridgeCondition bridge =>
            [
                $"{expressions.Value(bridge.Column)} = {Parameter(new BridgeParameter(bridge.Index, bridge.Column.Property))}",
            ],
            PlanFilter filter => [expressions.From(filter.Base).Condition(filter.Condition)],
            PlanChanged changed => [Changed(expressions.Value(changed.Stamp), changed.Stamp.Property, changed.Mark)],
            PlanSeek seek => Seek(seek.Nulls, plan.Order, terms),
            _ => throw new InvalidOperationException(condition.GetType().Name),
        };

    /// <summary>
    /// "After this position" in lexicographic order, nulls first when ascending. Terms that all run one way and hold no
    /// null are compared as one row; otherwise a bound on the first term comes first, so that an index on it is used.
    /// </summary>
    private IEnumerable<string> Seek(ImmutableArray<bool> isNull, ImmutableArray<PlanOrder> order, List<string> terms)
    {
        var values = Enumerable
            .Range(0, order.Length)
            .Select(i => isNull[i] ? "NULL" : Parameter(SeekParameter.For(i, order[i].Value)))
            .ToList();
        if (order.All(o => !o.MayBeNull && o.Descending == order[0].Descending))
        {
            var sign = order[0].Descending ? "<" : ">";
            yield return order.Length == 1
                ? $"{terms[0]} {sign} {values[0]}"
                : $"({string.Join(", ", terms)}) {sign} ({string.Join(", ", values)})";
            yield break;
        }
        if (!isNull[0] && order.Length > 1 && !(order[0].Descending && order[0].MayBeNull))
            yield return $"{terms[0]} {(order[0].Descending ? "<=" : ">=")} {values[0]}";
        var branches = new List<string>();
        for (var i = 0; i < order.Length; i++)
        {
            if (After(order[i], terms[i], isNull[i], values[i]) is not { } after)
                continue;
            var equal = Enumerable.Range(0, i).Select(j => isNull[j] ? $"{terms[j]} IS NULL" : $"{terms[j]} = {values[j]}");
            branches.Add($"({string.Join(" AND ", equal.Append(after))})");
        }
        yield return $"({string.Join(" OR ", branches)})";
    }

    private static string? After(PlanOrder order, string term, bool isNull, string value) =>
        (order.Descending, isNull) switch
        {
            (false, true) => $"{term} IS NOT NULL",
            (false, false) => $"{term} > {value}",
            (true, true) => null,
            (true, false) => order.MayBeNull ? $"({term} < {value} OR {term} IS NULL)" : $"{term} < {value}",
        };

    /// <summary>The columns of the result. Computed ones get short names, since servers make names of the whole expression.</summary>
    private static IEnumerable<string> Outputs(ImmutableArray<PlanValue> output, SqlExpressions expressions) =>
        output.Select(
            (o, i) => o is PlanExpression { Expression: not BoundProperty } ? $"{expressions.Output(o)} AS v{i}" : expressions.Output(o)
        );

    private string Join(PlanJoin join, Func<string, string> alias)
    {
        var (table, left) = (alias(join.Table.Alias), alias(join.LeftAlias));
        if (join.On.IsEmpty)
            return $"CROSS JOIN {From(join.Table.Source)} AS {table}";
        return $"{(join.Outer ? "LEFT JOIN" : "JOIN")} {From(join.Table.Source)} AS {table} ON "
            + $"{string.Join(" AND ", On(join, table, left))}";
    }

    private string Column(string alias, Property property) => _dialect.Column($"{alias}.{_dialect.Quote(property.Column)}", property);

    /// <summary>The placeholder of a parameter; one that is there already is used again.</summary>
    private string Parameter(PlanParameter parameter)
    {
        var index = _parameters.IndexOf(parameter);
        if (index < 0)
        {
            index = _parameters.Count;
            _parameters.Add(parameter);
        }
        return parameter switch
        {
            LiteralParameter literal => _dialect.Parameter(index + 1, literal.Conversion?.Parameter ?? literal.Type, literal.StorageForm),
            ValueParameter known => _dialect.Parameter(index + 1, known.Type, known.StorageForm),
            MarkParameter mark => _dialect.Parameter(index + 1, mark.Type, mark.StorageForm),
            ArgumentParameter { Parameter: var argument } => _dialect.Argument(
                index + 1,
                argument.Conversion?.Parameter ?? argument.Type,
                argument.StorageForm
            ),
            PatternParameter => _dialect.Parameter(index + 1, EdmType.String, null),
            RuleParameter { Literal: var literal } => _dialect.Parameter(
                index + 1,
                literal.Conversion?.Parameter ?? literal.Type,
                literal.StorageForm
            ),
            ConstantParameter constant => _dialect.Parameter(index + 1, constant.Type, constant.StorageForm),
            TruthParameter truth => _dialect.Parameter(index + 1, truth.Conversion.Parameter, null),
            BridgeParameter bridge => _dialect.Parameter(index + 1, bridge.Target.StoredType, bridge.Target.StorageForm),
            BatchParameter item => _dialect.Parameter(index + 1, item.Target.StoredType, item.Target.StorageForm),
            NowParameter now => _dialect.Parameter(index + 1, EdmType.DateTimeOffset, now.StorageForm),
            SeekParameter seek => _dialect.Parameter(index + 1, seek.Type, seek.StorageForm),
            _ => _dialect.Parameter(index + 1),
        };
    }
}

/// <summary>How expressions are kept from rows that rules take away.</summary>
internal enum HiddenRowProtection
{
    /// <summary>Not at all.</summary>
    None,

    /// <summary>As the service does it, see <see cref="RowGuard"/>.</summary>
    Guard,

    /// <summary>The rows are chosen by themselves first.</summary>
    Fence,
}
