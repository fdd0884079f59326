using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Requests.Rest;

/// <summary>The query parameters of the plain REST face that are no properties.</summary>
public static class RestParameters
{
    /// <summary>A condition in the expression language.</summary>
    public const string Filter = "filter";

    /// <summary>Properties to sort by, each with a minus sign before it for descending order.</summary>
    public const string Sort = "sort";

    /// <summary>The properties that are wanted.</summary>
    public const string Fields = "fields";

    /// <summary>The relations whose rows stand inside of each row.</summary>
    public const string Include = "include";

    /// <summary>Words to look for.</summary>
    public const string Search = "search";

    /// <summary>Rows of a page.</summary>
    public const string Limit = "limit";

    /// <summary>The position after which the page starts, as a link gives it.</summary>
    public const string After = "after";

    /// <summary>A window of rows, by number from 1: <c>41..60</c>.</summary>
    public const string Rows = "rows";

    /// <summary>Whether the number of all rows is wanted.</summary>
    public const string Total = "total";

    /// <summary>The format of the answer.</summary>
    public const string Format = "format";

    /// <summary>What a property's name starts with where a parameter has the same name.</summary>
    public const string PropertyPrefix = "./";

    /// <summary>All of them.</summary>
    public static ImmutableArray<string> All { get; } = RestShape.ListParameters;

    /// <summary>Those about what is told of each entity; any request may have them.</summary>
    public static ImmutableArray<string> OfAnswers { get; } = [Fields, Include, Format];

    /// <summary>The words of the bound request for a parameter, by which the binder knows where it may stand.</summary>
    internal static string OptionOf(string parameter) =>
        parameter switch
        {
            Filter => "$filter",
            Sort => "$orderby",
            Fields => "$select",
            Include => "$expand",
            Search => "$search",
            After => "$skiptoken",
            Total => "$count",
            Format => "$format",
            _ => "$top",
        };
}
