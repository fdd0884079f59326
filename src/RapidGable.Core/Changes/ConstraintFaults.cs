using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Queries;
using RapidGable.Sources;

namespace RapidGable.Changes;

/// <summary>A broken rule of the database in outside terms: never its own words, and only names that the caller may know.</summary>
internal static class ConstraintFaults
{
    /// <param name="seen">The set as the caller may address it.</param>
    /// <param name="path">Where the entity stands in the body, with a slash at its end.</param>
    public static RequestFault Of(BrokenConstraint broken, EntitySet seen, string path)
    {
        var names = broken.Columns.Select(c => Name(seen, c)).OfType<string>().ToList();
        var target = names.Count > 0 ? path + names[0] : null;
        var listed = names.Count == 0 || names.Count < broken.Columns.Length ? null : string.Join("', '", names);
        return broken.Kind switch
        {
            ConstraintKind.Unique => new RequestFault(
                409,
                "exists",
                listed is null ? $"There is an entity in {seen.Name} already that this one may not be alike."
                    : names.Count == 1 ? $"There is an entity with this '{listed}' already."
                    : $"There is an entity with these '{listed}' already.",
                target
            ),
            ConstraintKind.Required => new RequestFault(
                400,
                "required",
                listed is null ? "A value that the database needs is missing." : $"'{path}{listed}' is missing, and cannot be null.",
                target
            ),
            ConstraintKind.NoParent => new RequestFault(
                422,
                "reference",
                listed is null
                    ? "Something that the entity refers to is not there, or something else refers to it."
                    : $"What '{listed}' refers to is not there.",
                target
            ),
            ConstraintKind.HasChildren => new RequestFault(
                409,
                "referred-to",
                $"Other entities refer to this one of {seen.Name}, so it stays as it is."
            ),
            ConstraintKind.TooLong => new RequestFault(
                400,
                "value",
                listed is null
                    ? "A text or binary value is longer than the database keeps."
                    : $"'{path}{listed}' is longer than the database keeps.",
                target
            ),
            ConstraintKind.Range => new RequestFault(
                400,
                "value",
                listed is null
                    ? "A value is outside of what the database keeps."
                    : $"'{path}{listed}' is outside of what the database keeps.",
                target
            ),
            ConstraintKind.Value => new RequestFault(
                400,
                "value",
                listed is null ? "A value is not one that the database keeps." : $"'{path}{listed}' is not one that the database keeps.",
                target
            ),
            ConstraintKind.Raised when CallFaults.Told(broken.Message) is { } message => new RequestFault(
                422,
                "database-rule",
                message,
                target
            ),
            _ => new RequestFault(422, "database-rule", $"This change violates a constraint of the database on {seen.Name}.", target),
        };
    }

    private static string? Name(EntitySet set, string column) =>
        set
            .Type.Properties.Concat(set.Type.Derived.SelectMany(d => d.Properties))
            .Select(p =>
                p.IsGroup ? p.Members.Where(m => Same(m, column)).Select(m => $"{p.Name}/{m.Name}").FirstOrDefault()
                : Same(p, column) ? p.Name
                : null
            )
            .OfType<string>()
            .FirstOrDefault();

    private static bool Same(Property property, string column) => property.Column.Equals(column, StringComparison.OrdinalIgnoreCase);
}
