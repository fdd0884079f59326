using System.Collections.Immutable;
using Microsoft.AspNetCore.Http;
using RapidGable.Expressions;
using RapidGable.Requests;
using RapidGable.Requests.OData;

namespace RapidGable.Service.Faces.OData;

/// <summary>The options in the address of a request that changes something.</summary>
/// <param name="Path">Those that are part of the path.</param>
/// <param name="Answer">Those about the answer.</param>
/// <param name="Id">The reference that a DELETE is about (<c>$id</c>), as a path below the service root; null = not said.</param>
/// <param name="Format">Value of <c>$format</c>; null = not given.</param>
internal sealed record ChangeOptions(ImmutableArray<AddressOption> Path, IReadOnlyList<AddressOption> Answer, string? Id, string? Format)
{
    private static readonly string[] AnswerOptions = ["$select", "$expand", "$compute", "$format", "$schemaversion"];

    public bool AsksForAnswer => Answer.Any(o => o.Name.TrimStart('$').ToLowerInvariant() is "select" or "expand" or "compute");

    /// <summary>Sorts the options of an address; the fault is about one that has no place here.</summary>
    public static Result<ChangeOptions> Of(RequestAddress address, ODataExchange exchange)
    {
        var (path, answer) = (new List<AddressOption>(), new List<AddressOption>());
        string? id = null,
            format = null;
        var isEntityId = address.Segments is [{ Text: "$entity" }, ..];
        foreach (var option in address.Options)
        {
            if (!LexedRequest.CanonicalOption(option.Name).Is(out var name, out var fault))
                return fault;
            if (name == "$id" && !isEntityId && HttpMethods.IsDelete(exchange.Request.Method))
                id = EntityIdAddress.PathOf(option, exchange.Root);
            else if (name.StartsWith('@'))
            {
                path.Add(option);
                answer.Add(option);
            }
            else if (name == "$id")
                path.Add(option);
            else if (AnswerOptions.Contains(name))
            {
                answer.Add(option);
                format = name == "$format" ? option.Value : format;
            }
            else
                return new RequestFault(
                    400,
                    "option-not-here",
                    $"{name} cannot be used with {exchange.Request.Method}; only {string.Join(", ", AnswerOptions)} can, about the answer.",
                    name
                );
        }
        return new ChangeOptions([.. path], answer, id, format);
    }
}
