namespace RapidGable.Model;

/// <summary>Addresses that read a set as a whole; a query is called with sample values for what must be given, an action without.</summary>
public static class SampleCall
{
    /// <summary>As OData spells it (URL conventions 4.5), such as <c>Stations</c> or <c>Near(from=1,kind='flow')</c>.</summary>
    /// <returns>A path below the service, percent-encoded.</returns>
    public static string OData(EntitySet set) => Call(set, set.Parameters.Where(p => p.IsRequired).Select(p => $"{p.Name}={Literal(p)}"));

    /// <summary>The same with given values for some of its parameters.</summary>
    /// <param name="values">By the names of parameters, in the form of <see cref="OperationParameter.DefaultValue"/>.</param>
    public static string OData(EntitySet set, IReadOnlyDictionary<string, string> values) =>
        Call(set, set.Parameters.Where(p => values.ContainsKey(p.Name)).Select(p => $"{p.Name}={Literal(p, values[p.Name])}"));

    /// <summary>The same with variables in the place of values (RFC 6570): <c>Near(from={from})</c>.</summary>
    public static string Template(EntitySet set) =>
        Call(set, set.Parameters.Where(p => p.IsRequired).Select(p => $"{p.Name}={{{p.Name}}}"));

    private static string Call(EntitySet set, IEnumerable<string> arguments) =>
        set.Binding is { } binding
            ? $"{Uri.EscapeDataString(binding.Set)}({Key(set, binding)})/{binding.Name}"
                + (set.IsAction ? "" : $"({string.Join(',', Others(set, binding, arguments))})")
            : Uri.EscapeDataString(set.Name) + (set is { IsFunction: true, IsAction: false } ? $"({string.Join(',', arguments)})" : "");

    private static string Key(EntitySet set, OperationBinding binding)
    {
        var values = binding.Key.Select(k => Literal(set.Parameters.First(p => p.Placeholder == k))).ToList();
        return values.Count == 1 ? values[0] : string.Join(',', binding.KeyNames.Zip(values, (name, value) => $"{name}={value}"));
    }

    /// <summary>The arguments without those that the key of the entity stands for.</summary>
    private static IEnumerable<string> Others(EntitySet set, OperationBinding binding, IEnumerable<string> arguments)
    {
        var taken = set.Parameters.Where(p => binding.Key.Contains(p.Placeholder)).Select(p => p.Name + "=").ToList();
        return arguments.Where(a => !taken.Exists(t => a.StartsWith(t, StringComparison.Ordinal)));
    }

    private static string Literal(OperationParameter parameter) => Literal(parameter, parameter.Sample);

    private static string Literal(OperationParameter parameter, string value) =>
        Uri.EscapeDataString(
            parameter.Type.Kind switch
            {
                EdmKind.String or EdmKind.Enum => $"'{value.Replace("'", "''", StringComparison.Ordinal)}'",
                EdmKind.Duration => $"duration'{value}'",
                EdmKind.Binary => $"binary'{value}'",
                _ => value,
            }
        );
}
