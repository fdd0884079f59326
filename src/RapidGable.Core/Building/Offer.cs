using System.IO.Enumeration;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Building;

/// <summary>What a source file puts on offer of all that its database has.</summary>
public static class Offer
{
    internal static SourceCatalog Of(OfferDeclaration offer, SourceCatalog catalog, Diagnostics diagnostics)
    {
        if (offer == OfferDeclaration.Everything)
            return catalog;
        var schemas = catalog.Objects.Select(o => o.Schema).OfType<string>().Distinct().ToList();
        foreach (var schema in offer.Schemas.Where(s => !schemas.Contains(s.Value)))
            diagnostics.Warning(
                "offer-nothing",
                $"The database has no schema '{schema.Value}' with tables or views in it.{NearestName.Hint(schema.Value, schemas)}",
                schema.Location
            );
        foreach (var pattern in offer.Include.Concat(offer.Exclude).Where(p => !catalog.Objects.Any(o => Matches(p.Value, o))))
            diagnostics.Warning("offer-nothing", $"No table or view matches '{pattern.Value}'.", pattern.Location);
        return catalog with
        {
            Objects = [.. catalog.Objects.Where(o => IsOffered(offer, o))],
            Routines = [.. catalog.Routines.Where(r => offer.Schemas.IsEmpty || offer.Schemas.Any(s => s.Value == r.Schema))],
        };
    }

    private static bool IsOffered(OfferDeclaration offer, SourceObject item) =>
        (offer.Schemas.IsEmpty || item.Schema is null || offer.Schemas.Any(s => s.Value == item.Schema))
        && (offer.Kinds.IsEmpty || offer.Kinds.Any(k => k.Value == item.Kind.Word()))
        && (offer.Include.IsEmpty || offer.Include.Any(p => Matches(p.Value, item)))
        && !offer.Exclude.Any(p => Matches(p.Value, item));

    /// <summary>Whether a pattern with <c>*</c> and <c>?</c> means an object, by its name with or without the schema.</summary>
    public static bool Matches(string pattern, SourceObject item) =>
        FileSystemName.MatchesSimpleExpression(pattern, item.Name, ignoreCase: false)
        || FileSystemName.MatchesSimpleExpression(pattern, item.FullName, ignoreCase: false);
}
