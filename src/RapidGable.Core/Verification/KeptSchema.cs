namespace RapidGable.Verification;

/// <summary>Holds an answer to the schema that the description of its service has for it.</summary>
public static class KeptSchema
{
    /// <summary>Why an answer does not fit; null = it does.</summary>
    /// <param name="target">Path and query, such as <c>/rest/rivers/Stations?limit=5</c>.</param>
    public static string? Misfit(OpenApiDescription description, string method, string target, KeptAnswer answer)
    {
        if (OperationOf(description, method, target)?.Row is not { } schema)
            return "The description has no schema for this address.";
        return answer.Json is not { } json ? "The answer is no JSON."
            : description.Misfit(json, schema) is { } misfit ? $"The answer does not fit its schema: {misfit}."
            : null;
    }

    /// <summary>The operation of an address; null = the description has none.</summary>
    /// <param name="target">As in <see cref="Misfit"/>.</param>
    public static DescribedOperation? OperationOf(OpenApiDescription description, string method, string target)
    {
        var path = "/" + string.Join('/', target.Split('?')[0].Split('/', StringSplitOptions.RemoveEmptyEntries).Skip(2));
        return description
            .Operations.Where(o => o.Method.Equals(method, StringComparison.OrdinalIgnoreCase) && Fits(o.Path, path))
            // An address that is spelled out goes before one with variables.
            .OrderBy(o => o.Path.Count(c => c == '{'))
            .FirstOrDefault();
    }

    private static bool Fits(string template, string path)
    {
        var (wanted, given) = (template.Split('/'), path.Split('/'));
        return wanted.Length == given.Length
            && wanted.Zip(given).All(p => p.First.Contains('{') || p.First == Uri.UnescapeDataString(p.Second));
    }
}
