using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Expressions;

/// <summary>Arguments of a call -> bound literals (URL conventions 4.5.4).</summary>
internal static class ArgumentBinder
{
    /// <summary>The arguments by the placeholders of their parameters. Values are looked at when the call runs.</summary>
    /// <exception cref="FaultException">One is missing, unknown, given twice or of another type.</exception>
    /// <param name="isPartial">Others come with the body of the request.</param>
    public static ImmutableDictionary<string, BoundLiteral> Bind(
        Operation operation,
        ImmutableArray<KeyPartSyntax> arguments,
        bool isPartial = false
    )
    {
        var bound = ImmutableDictionary.CreateBuilder<string, BoundLiteral>();
        foreach (var argument in arguments)
        {
            if (argument.Name is not { } name)
                throw Wrong(operation, $"Each argument of '{operation.Name}' needs its name.");
            var parameter = operation.Parameters.FirstOrDefault(p => p.Name == name.Text) ?? throw Unknown(operation, name.Text);
            if (!bound.TryAdd(parameter.Placeholder, Value(operation, parameter, argument.Value)))
                throw Wrong(operation, $"'{name.Text}' is given twice.");
        }
        return !isPartial && operation.Parameters.FirstOrDefault(p => p.IsRequired && !bound.ContainsKey(p.Placeholder)) is { } missing
            ? throw Wrong(operation, $"'{missing.Name}' is missing.")
            : bound.ToImmutable();
    }

    /// <summary>The fault of an argument that is not what its parameter takes.</summary>
    public static RequestFault Fault(string message) => new(400, "argument", message, "path");

    private static BoundLiteral Value(Operation operation, OperationParameter parameter, LiteralSyntax value) =>
        KeyBinder.Fits(value, parameter.Type)
            ? new BoundLiteral(value.Slot, value.Kind, parameter.Type, parameter.Conversion)
            : throw Wrong(
                operation,
                $"'{parameter.Name}' is {parameter.Type.Name}, and the value given for it is {ExpressionBinder.TypeOf(value.Kind).Name}."
            );

    private static FaultException Unknown(Operation operation, string name) =>
        operation.Parameters.IsEmpty
            ? Wrong(operation, $"There is no parameter '{name}'.")
            : new FaultException(
                Fault(
                    $"'{operation.Name}' has no parameter '{name}'.{NearestName.Hint(name, operation.Parameters.Select(p => p.Name))} "
                        + Takes(operation)
                )
            );

    private static FaultException Wrong(Operation operation, string message) => new(Fault($"{message} {Takes(operation)}"));

    private static string Takes(Operation operation)
    {
        var names = operation.Parameters.Select(p => p.IsRequired ? p.Name : p.Name + " (optional)");
        return $"'{operation.Name}' takes {(operation.Parameters.IsEmpty ? "no arguments" : string.Join(", ", names))}.";
    }
}
