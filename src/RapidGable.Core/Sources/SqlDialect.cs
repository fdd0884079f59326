using RapidGable.Model;

namespace RapidGable.Sources;

/// <summary>An operand in SQL with what is known of it, for the dialect to translate.</summary>
/// <param name="Sql">Text that stands for one operand wherever it is put.</param>
/// <param name="StorageForm">As in <see cref="Property.StorageForm"/>; null for values in the engine's usual form.</param>
public sealed record SqlOperand(string Sql, EdmType Type, string? StorageForm = null)
{
    /// <summary>As in <see cref="Property.Collation"/>; null = none that matters.</summary>
    public string? Collation { get; init; }
}

/// <summary>How an engine gives back what a procedure gives by its parameters.</summary>
public enum RoutineForm
{
    /// <summary>It has no routines.</summary>
    None,

    /// <summary>As a row; functions that give rows stand after FROM, and arguments may have names.</summary>
    Arguments,

    /// <summary>In variables of the session; procedures give results of their own beside.</summary>
    Variables,
}

/// <summary>
/// How one engine writes SQL and values. Every difference between engines that a statement shows is a member here;
/// the default forms are those of the SQL standard.
/// </summary>
public abstract class SqlDialect
{
    /// <summary>How routines are called.</summary>
    public virtual RoutineForm Routines => RoutineForm.None;

    /// <summary>Whether a statement that changes rows and gives some back can be read from by a SELECT around it.</summary>
    public virtual bool ReadsChanges => false;

    /// <summary>A name as the engine quotes it, whatever characters it has.</summary>
    public abstract string Quote(string identifier);

    /// <summary>How the engine tells texts, names and comments from the rest of a statement.</summary>
    public abstract SqlLexis Lexis { get; }

    /// <summary>The form in which a query takes values of a type, where it could take them in several; null = the usual one.</summary>
    public virtual string? ArgumentForm(EdmType type) => null;

    /// <summary>The placeholder of a parameter, counted from 1.</summary>
    public abstract string Parameter(int number);

    /// <summary>The placeholder of a value that is compared or computed with; engines that need it told give its type.</summary>
    public virtual string Parameter(int number, EdmType type, string? storageForm) => Parameter(number);

    /// <summary>The placeholder of what a query is called with, as a value of just its type: functions are told apart by it.</summary>
    public virtual string Argument(int number, EdmType type, string? storageForm) => Parameter(number, type, storageForm);

    /// <summary>A column as its property's type, where it is stored as another.</summary>
    public virtual string Column(string quotedColumn, string? storageForm) => quotedColumn;

    /// <summary>A statement of one row that a database which is well answers at once.</summary>
    public virtual string Ping => "SELECT 1";

    /// <summary>A column of any type as text in small letters, to look for a part of it.</summary>
    public virtual string Searched(string quotedColumn) => $"LOWER(CAST({quotedColumn} AS TEXT))";

    /// <summary>Asks for the SELECT of a view, as its one value; null = the engine does not keep it, or it is no view.</summary>
    public virtual SourceStatement? DefinitionOf(SourceObject item) => null;

    /// <summary>Asks for the bytes of a table with its indexes, as their one value; null = the engine does not tell.</summary>
    public virtual SourceStatement? SizeOf(SourceObject item) => null;

    /// <summary>A property's column as its stored type; values that no payload has are null where that is declared.</summary>
    public string Column(string quotedColumn, Property property)
    {
        var plain = Column(quotedColumn, property.StorageForm);
        var isNull = property.Unrepresentable == UnrepresentableValues.Null;
        return isNull && Unrepresentable(quotedColumn, property.StoredType) is { } condition
            ? $"(CASE WHEN {condition} THEN NULL ELSE {plain} END)"
            : plain;
    }

    /// <summary>
    /// A column as it is kept, in a form that rows can be grouped by and that <see cref="Column(string, Property)"/> still takes.
    /// </summary>
    public string Groupable(string quotedColumn, Property property)
    {
        var isNull = property.Unrepresentable == UnrepresentableValues.Null;
        return isNull && Unrepresentable(quotedColumn, property.StoredType) is { } condition
            ? $"(CASE WHEN {condition} THEN NULL ELSE {quotedColumn} END)"
            : Groupable(quotedColumn, property.StorageForm);
    }

    /// <summary>As the other, by the storage form alone.</summary>
    protected virtual string Groupable(string quotedColumn, string? storageForm) => quotedColumn;

    /// <summary>
    /// A condition that holds for values of a column that no payload has a value for; null = the engine has none of the type.
    /// </summary>
    public virtual string? Unrepresentable(string quotedColumn, EdmType type) => null;

    /// <summary>The number at a place of a text, or of a whole number's digits; null where the text has another form.</summary>
    public abstract string TextPart(SqlOperand text, TextPart part);

    /// <summary>Whether columns of these storage forms compare as they are, so that tables can be joined by them.</summary>
    public virtual bool CanJoin(string? storageForm, string? other) => true;

    /// <summary>A table's quoted name, with its schema where there is one.</summary>
    public string Table(string? schema, string name) => schema is null ? Quote(name) : $"{Quote(schema)}.{Quote(name)}";

    /// <summary>What stands after FROM for a table, a view, or a SELECT of a declaration.</summary>
    public string From(RowSource rows) =>
        rows switch
        {
            TableSource table => Table(table.Schema, table.Name),
            QuerySource { Parameters.IsEmpty: false } => throw new InvalidOperationException(
                "A query with parameters needs their placeholders."
            ),
            QuerySource query => $"(\n{query.Select}\n)",
            SingleRow => "(SELECT 1 AS gable_one)",
            _ => throw new InvalidOperationException(
                $"{rows} are not all rows of a table; what a caller may see is written with its conditions."
            ),
        };

    /// <summary>What stands after FROM for an object of the catalog; with an alias, since a SELECT needs one.</summary>
    public string From(SourceObject item) => item.Query is { } query ? $"(\n{query}\n) AS q" : Table(item.Schema, item.Name);

    /// <summary>Equality that holds for two nulls and is never unknown.</summary>
    public abstract string NullSafeEqual(string left, string right);

    /// <summary>A text that compares character by character, whatever its column's collation says; null = it does so as it is.</summary>
    public virtual string? Exact(SqlOperand text) => null;

    /// <summary>
    /// Whether a computed column of a subquery is evaluated for its own row as it is written, whatever conditions stand beside it.
    /// </summary>
    public abstract bool KeepsMarkers { get; }

    /// <summary>
    /// A condition as the engine evaluates it row by row, without replacing columns in it by values that other conditions compare them
    /// with.
    /// </summary>
    public virtual string Opaque(string condition) => condition;

    /// <summary>What stands at the end of a subquery, so that nothing around it is evaluated before its rows have been chosen.</summary>
    public abstract string Fence { get; }

    public virtual string True => "1";

    public virtual string False => "0";

    /// <summary>A sort term with nulls first when ascending and last when descending (protocol 11.2.6.2).</summary>
    /// <param name="mayBeNull">Whether nulls have to be thought of.</param>
    public abstract string OrderTerm(string sql, bool descending, bool mayBeNull);

    /// <summary>Both sides of a comparison brought to one form, when their stored forms differ.</summary>
    public abstract (string Left, string Right) Comparable(SqlOperand left, SqlOperand right);

    /// <summary>A built-in function; null when the engine cannot express it.</summary>
    public abstract string? Call(CanonicalFunction function, IReadOnlyList<SqlOperand> arguments);

    /// <summary>
    /// Arithmetic on two numbers; a zero divisor of an integer or decimal must raise <see cref="SourceFaultKind.DivisionByZero"/>.
    /// </summary>
    public abstract string Arithmetic(ArithmeticOperator op, SqlOperand left, SqlOperand right, EdmType result);

    /// <summary>Arithmetic with dates, times and durations; null when the engine cannot express it.</summary>
    public virtual string? Temporal(ArithmeticOperator op, SqlOperand left, SqlOperand right, EdmType result) => null;

    /// <summary>The storage form of computed values of a type, which literals take that are computed with; null = the usual one.</summary>
    public virtual string? ComputedForm(EdmType type) => null;

    /// <summary>
    /// A value as another primitive type, null where it cannot be that (URL conventions 5.1.1.10.1); null when the engine cannot
    /// express it.
    /// </summary>
    public string? Cast(SqlOperand value, EdmType to) =>
        (value.Type, to.Kind) switch
        {
            ({ IsNumeric: true }, EdmKind.Byte) => Whole(value.Sql, "0", "255"),
            ({ IsNumeric: true }, EdmKind.SByte) => Whole(value.Sql, "-128", "127"),
            ({ IsNumeric: true }, EdmKind.Int16) => Whole(value.Sql, "-32768", "32767"),
            ({ IsNumeric: true }, EdmKind.Int32) => Whole(value.Sql, "-2147483648", "2147483647"),
            ({ IsNumeric: true }, EdmKind.Int64) => Whole(value.Sql, "-9223372036854775807", "9223372036854775807"),
            ({ IsNumeric: true }, EdmKind.Decimal) => AsDecimal(value.Sql),
            ({ IsNumeric: true }, EdmKind.Single or EdmKind.Double) => AsDouble(value.Sql),
            ({ Kind: EdmKind.Boolean }, EdmKind.String) => $"(CASE WHEN {value.Sql} THEN 'true' WHEN NOT {value.Sql} THEN 'false' END)",
            ({ IsIntegral: true } or { Kind: EdmKind.Guid or EdmKind.Date }, EdmKind.String) => AsText(value.Sql),
            ({ Kind: EdmKind.Date }, EdmKind.DateTimeOffset) => AtMidnight(value.Sql),
            ({ Kind: EdmKind.DateTimeOffset }, EdmKind.Date) => Call(CanonicalFunction.Date, [value]),
            ({ Kind: EdmKind.DateTimeOffset }, EdmKind.TimeOfDay) => Call(CanonicalFunction.Time, [value]),
            _ => null,
        };

    private string Whole(string sql, string least, string most)
    {
        var rounded = Rounded(sql);
        return $"(CASE WHEN {rounded} BETWEEN {least} AND {most} THEN {AsInteger(rounded)} END)";
    }

    /// <summary>The nearest whole number, halves away from zero, not yet as an integer.</summary>
    protected abstract string Rounded(string number);

    protected abstract string AsInteger(string wholeNumber);

    protected abstract string AsDecimal(string number);

    protected abstract string AsDouble(string number);

    /// <summary>An integer, a uuid or a date in its payload form.</summary>
    protected abstract string AsText(string value);

    /// <summary>The instant at which a date starts in UTC.</summary>
    protected abstract string AtMidnight(string date);

    /// <summary>A computed value as a column of the result that is read as its type; null when it cannot be.</summary>
    public virtual string? Result(string sql, EdmType type, string? storageForm) => sql;

    /// <summary>An aggregate of a value; <c>COUNT</c> counts different values.</summary>
    /// <param name="function">SUM, MIN, MAX, AVG or COUNT.</param>
    public virtual string Aggregate(string function, string sql, EdmType result) =>
        function switch
        {
            "AVG" => $"AVG({AsDouble(sql)})",
            "COUNT" => $"COUNT(DISTINCT {sql})",
            _ => $"{function}({sql})",
        };

    /// <summary>What before a statement makes the engine tell how it means to run it, and no more.</summary>
    public virtual string Explain => "EXPLAIN ";

    /// <summary>The first column of that which is meant for people.</summary>
    public virtual int ExplainedFrom => 0;

    /// <summary>What stands after LIMIT when there is none.</summary>
    public virtual string NoLimit => "9223372036854775807";

    /// <summary>What stands after FROM for the values of a collection, each a row; null when the engine cannot express it.</summary>
    /// <param name="collection">The stored collection: an array of the engine, or a JSON array as text.</param>
    /// <param name="alias">Name of the rows.</param>
    public virtual string? Unnest(SqlOperand collection, EdmType item, string alias) => null;

    /// <summary>One of the values of <see cref="Unnest"/>.</summary>
    public virtual string Item(string alias, EdmType type) => alias + ".value";

    /// <summary>Whether a row of a table holds a word or phrase, asked of the table's full-text index.</summary>
    /// <param name="alias">The table's.</param>
    /// <param name="term">Placeholder of the word or phrase.</param>
    public abstract string Matches(TextIndex index, string alias, string term);

    /// <summary>The form that literals take when they meet a value that has no stored form of its own.</summary>
    public abstract StoredValue Encode(object value, EdmType type, string? storageForm);

    /// <summary>The placeholder of a value that a column is set to.</summary>
    /// <param name="number">Counted from 1.</param>
    /// <param name="table">The column's.</param>
    public virtual string Assigned(int number, Property column, TableSource table) => Parameter(number);

    /// <summary>What stands behind the table's name for a row of nothing but defaults.</summary>
    public virtual string DefaultRow => "DEFAULT VALUES";

    /// <summary>
    /// What stands at the end of a SELECT that keeps others from changing its rows; empty = a transaction that changes is alone anyway.
    /// </summary>
    public virtual string LockRows => " FOR UPDATE";

    /// <summary>A column is set to what it holds and one more.</summary>
    public virtual string Increased(string quotedColumn) => $"{quotedColumn} + 1";

    /// <summary>A regular expression of ECMAScript as the engine means it.</summary>
    public virtual string Pattern(string pattern) => pattern;

    /// <summary>The value that a decimal can be kept as; null when digits would be lost.</summary>
    public virtual decimal? Kept(decimal value) => value;

    /// <summary>Whether numbers of more digits than <see cref="decimal"/> has are kept with all of them.</summary>
    public virtual bool KeepsLongNumbers => true;

    /// <summary>Whether a row that refers to itself by a foreign key cannot be deleted.</summary>
    public virtual bool KeepsWhatRefersToItself => false;

    /// <summary>Whether a number can be there at all; some engines have no infinity and no NaN.</summary>
    public virtual bool Has(double value) => true;

    /// <summary>Whether numbers of so many digits can be there; where not, the engine would take another one in silence.</summary>
    public virtual bool Has(LongDecimal value) => true;

    /// <summary>Whether a cursor of the engine gives such a value for a column of the type; links can be forged.</summary>
    public virtual bool IsStored(StoredValue value, EdmType type) => true;

    /// <summary>Name of the parents' rows inside of <see cref="FirstChildren"/>.</summary>
    public virtual string InnerParents => "p";

    /// <summary>A join of <c>p</c>, the parents of a page, to the first children of each, under the name <c>c</c>.</summary>
    public abstract string FirstChildren(ChildrenSql children);
}

/// <summary>What a join to the first children of each parent is made of.</summary>
/// <param name="Table">The children's table, quoted.</param>
/// <param name="Key">Columns of the children's key, quoted.</param>
/// <param name="References">Columns of the children that refer to the parent, quoted, and the parent's columns in <c>p</c>.</param>
/// <param name="IsShared">A child may belong to several parents.</param>
/// <param name="Limit">Placeholder of the number of children for each parent.</param>
/// <param name="Page">The statement of the page of parents, whose columns are those of <paramref name="References"/> and more.</param>
public sealed record ChildrenSql(
    string Table,
    IReadOnlyList<string> Key,
    IReadOnlyList<(string Child, string Parent)> References,
    bool IsShared,
    string Limit,
    string Page
)
{
    /// <summary>The filter or the order is about each parent's row, beside what it is referred to by.</summary>
    public bool IsPerParent { get; init; }

    /// <summary>The filter must not be evaluated for children of other parents, which the caller may not see.</summary>
    public bool IsGuarded { get; init; }

    /// <summary>As in <see cref="TableSource.RowId"/>, of the children's table.</summary>
    public string? RowId { get; init; }

    /// <summary>Placeholder of the number of children to pass over; null = none.</summary>
    public string? Skip { get; init; }

    /// <summary>Joins that the order and the filter need, behind the children's table under an alias; each starts with a blank.</summary>
    public required Func<string, string> Joins { get; init; }

    /// <summary>The sort terms among the children of one parent, for the alias of their table; total by itself.</summary>
    public required Func<string, IReadOnlyList<string>> Order { get; init; }

    /// <summary>What the children must fulfil beside, for the alias of their table; null = nothing.</summary>
    public Func<string, string>? Filter { get; init; }

    /// <summary>The children's table under an alias, with what is joined to it.</summary>
    public string From(string alias) => $"{Table} AS {alias}{Joins(alias)}";

    /// <summary>The sort terms of a statement over the children under an alias.</summary>
    public string OrderOf(string alias) => string.Join(", ", Order(alias));

    /// <summary>LIMIT and, when some are passed over, OFFSET.</summary>
    public string Limits => Skip is null ? $"LIMIT {Limit}" : $"LIMIT {Limit} OFFSET {Skip}";

    /// <summary>The key's columns of one table, such as <c>x."id", x."no"</c>.</summary>
    public string KeyOf(string alias) => string.Join(", ", Key.Select(k => $"{alias}.{k}"));

    /// <summary>That the children of one table belong to the current parent.</summary>
    public string BelongTo(string alias) => string.Join(" AND ", References.Select(r => $"{alias}.{r.Child} = p.{r.Parent}"));

    /// <summary><see cref="Filter"/> behind other conditions; empty when there is none.</summary>
    public string AndFilter(string alias) =>
        Filter is not { } filter ? ""
        : IsGuarded ? $" AND (CASE WHEN {BelongTo(alias)} THEN {filter(alias)} END)"
        : $" AND {filter(alias)}";
}
