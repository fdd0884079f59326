using RapidGable.Model;

namespace RapidGable.Sources;

/// <summary>An operand in SQL with what is known of it, for the dialect to translate.</summary>
/// <param name="Sql">Text that stands for one operand wherever it is put.</param>
/// <param name="StorageForm">As in <see cref="Property.StorageForm"/>; null for values in the engine's usual form.</param>
public sealed record SqlOperand(string Sql, EdmType Type, string? StorageForm = null);

/// <summary>
/// How one engine writes SQL and values. Every difference between engines that a statement shows is a member here;
/// the default forms are those of the SQL standard.
/// </summary>
public abstract class SqlDialect
{
    public abstract string Quote(string identifier);

    /// <summary>The placeholder of a parameter, counted from 1.</summary>
    public abstract string Parameter(int number);

    /// <summary>The placeholder of a value that is compared or computed with; engines that need it told give its type.</summary>
    public virtual string Parameter(int number, EdmType type, string? storageForm) => Parameter(number);

    /// <summary>A column as its property's type, where it is stored as another.</summary>
    public virtual string Column(string quotedColumn, string? storageForm) => quotedColumn;

    /// <summary>Whether columns of these storage forms compare as they are, so that tables can be joined by them.</summary>
    public virtual bool CanJoin(string? storageForm, string? other) => true;

    public string Table(string? schema, string name) => schema is null ? Quote(name) : $"{Quote(schema)}.{Quote(name)}";

    /// <summary>What stands after FROM for a table, a view, or a SELECT of a declaration.</summary>
    public string From(SourceObjectName item) => item.Query is { } query ? $"(\n{query}\n)" : Table(item.Schema, item.Name);

    /// <summary>What stands after FROM for an object of the catalog; with an alias, since a SELECT needs one.</summary>
    public string From(SourceObject item) => item.Query is { } query ? $"(\n{query}\n) AS q" : Table(item.Schema, item.Name);

    /// <summary>Equality that holds for two nulls and is never unknown.</summary>
    public abstract string NullSafeEqual(string left, string right);

    public virtual string True => "1";

    public virtual string False => "0";

    /// <summary>A sort term with nulls first when ascending and last when descending (protocol 11.2.6.2).</summary>
    public abstract string OrderTerm(string sql, bool descending);

    /// <summary>Both sides of a comparison brought to one form, when their stored forms differ.</summary>
    public abstract (string Left, string Right) Comparable(SqlOperand left, SqlOperand right);

    /// <summary>A built-in function; null when the engine cannot express it.</summary>
    public abstract string? Call(CanonicalFunction function, IReadOnlyList<SqlOperand> arguments);

    /// <summary>Arithmetic on two numbers; a zero divisor of an integer or decimal must raise <see cref="SourceFaultKind.DivisionByZero"/>.</summary>
    public abstract string Arithmetic(ArithmeticOperator op, SqlOperand left, SqlOperand right, EdmType result);

    /// <summary>The form that literals take when they meet a value that has no stored form of its own.</summary>
    public abstract StoredValue Encode(object value, EdmType type, string? storageForm);

    /// <summary>A join of <c>p</c>, the parents of a page, to the first children of each, under the name <c>c</c>.</summary>
    public abstract string FirstChildren(ChildrenSql children);

    /// <summary>The sort terms of the children of one parent.</summary>
    protected string ChildOrder(ChildrenSql children, string alias) => string.Join(", ", children.Order.Select(o => OrderTerm($"{alias}.{o.Column}", o.Descending)));
}

/// <summary>What a join to the first children of each parent is made of.</summary>
/// <param name="Table">The children's table, quoted.</param>
/// <param name="Key">Columns of the children's key, quoted.</param>
/// <param name="References">Columns of the children that refer to the parent, quoted, and the parent's columns in <c>p</c>.</param>
/// <param name="Limit">Placeholder of the number of children for each parent.</param>
/// <param name="Order">The order among the children of one parent: columns, quoted, and whether each descends; total by itself.</param>
/// <param name="IsShared">A child may belong to several parents.</param>
/// <param name="Page">The statement of the page of parents, whose columns are those of <paramref name="References"/> and more.</param>
public sealed record ChildrenSql(
    string Table, IReadOnlyList<string> Key, IReadOnlyList<(string Child, string Parent)> References, IReadOnlyList<(string Column, bool Descending)> Order,
    bool IsShared, string Limit, string Page)
{
    /// <summary>What the children must fulfil beside, for the alias of their table; null = nothing.</summary>
    public Func<string, string>? Filter { get; init; }

    /// <summary>The key's columns of one table, such as <c>x."id", x."no"</c>.</summary>
    public string KeyOf(string alias) => string.Join(", ", Key.Select(k => $"{alias}.{k}"));

    /// <summary>That the children of one table belong to the current parent.</summary>
    public string BelongTo(string alias) => string.Join(" AND ", References.Select(r => $"{alias}.{r.Child} = p.{r.Parent}"));

    /// <summary><see cref="Filter"/> behind other conditions; empty when there is none.</summary>
    public string AndFilter(string alias) => Filter is { } filter ? $" AND {filter(alias)}" : "";
}
