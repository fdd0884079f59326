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

    public string Table(string? schema, string name) => schema is null ? Quote(name) : $"{Quote(schema)}.{Quote(name)}";

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

    /// <summary>
    /// The condition that keeps, for each parent, only its first children:
    /// <paramref name="childKey"/> is among the first <paramref name="limit"/> of the correlated <paramref name="innerSelect"/>.
    /// </summary>
    public virtual string FirstOfEach(IReadOnlyList<string> childKey, string innerSelect, string limit) =>
        childKey.Count == 1
            ? $"{childKey[0]} IN ({innerSelect} LIMIT {limit})"
            : $"({string.Join(", ", childKey)}) IN ({innerSelect} LIMIT {limit})";
}
