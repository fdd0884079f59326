namespace RapidGable.Model;

/// <summary>Addresses that read a set as a whole; a query is called with sample values for what must be given.</summary>
public static class SampleCall
{
    /// <summary>As OData spells it (URL conventions 4.5), such as <c>Stations</c> or <c>Near(from=1,kind='flow')</c>.</summary>
    /// <returns>A path below the service, percent-encoded.</returns>
    public static string OData(EntitySet set) => Call(set, set.Parameters.Where(p => p.IsRequired).Select(p => $"{p.Name}={Literal(p)}"));

    /// <summary>The same with variables in the place of values (RFC 6570): <c>Near(from={from})</c>.</summary>
    public static string Template(EntitySet set) =>
        Call(set, set.Parameters.Where(p => p.IsRequired).Select(p => $"{p.Name}={{{p.Name}}}"));

    private static string Call(EntitySet set, IEnumerable<string> arguments) =>
        Uri.EscapeDataString(set.Name) + (set.IsFunction ? $"({string.Join(',', arguments)})" : "");

    private static string Literal(OperationParameter parameter) =>
        Uri.EscapeDataString(
            parameter.Type.Kind switch
            {
                EdmKind.String or EdmKind.Enum => $"'{parameter.Sample.Replace("'", "''", StringComparison.Ordinal)}'",
                EdmKind.Duration => $"duration'{parameter.Sample}'",
                EdmKind.Binary => $"binary'{parameter.Sample}'",
                _ => parameter.Sample,
            }
        );
}
