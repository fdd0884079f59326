using System.Collections.Immutable;

namespace RapidGable.Model;

/// <summary>A model as one face shows it: the sets that stand on the face, with the face's names. Columns and rules stay as they
/// are.</summary>
public static class FaceModel
{
    /// <summary>The part of a model that stands on a face, in its names.</summary>
    public static EntityModel Shown(EntityModel model, FaceShape shape) => shape.IsWhole ? model : Named(Standing(model, shape), shape);

    /// <summary>The whole model in the names of a face.</summary>
    public static EntityModel Named(EntityModel model, FaceShape shape) =>
        shape.Names == Casing.AsIs ? model : model.With([.. model.Sets.Select(s => Named(s, shape))]);

    /// <summary>A set in the names of a face.</summary>
    public static EntitySet Named(EntitySet set, FaceShape shape)
    {
        var casing = shape.Names;
        if (casing == Casing.AsIs)
            return set;
        ImmutableArray<Property> All(ImmutableArray<Property> properties) => [.. properties.Select(p => Named(p, casing))];
        var type = set.Type;
        return set with
        {
            Type = new EntityType(
                type.Name,
                All(type.Properties),
                type.Hidden,
                All(type.Key),
                [
                    .. type.Navigations.Select(n =>
                        n with
                        {
                            Name = casing.Apply(n.Name),
                            Partner = n.Partner is { } partner ? casing.Apply(partner) : null,
                        }
                    ),
                ],
                type.Description
            )
            {
                AlternateKeys = [.. type.AlternateKeys.Select(All)],
                Derived = [.. type.Derived.Select(d => d with { Properties = All(d.Properties) })],
            },
            Parameters = [.. set.Parameters.Select(p => p with { Name = casing.Apply(p.Name) })],
            DefaultOrder = [.. set.DefaultOrder.Select(o => o with { Property = Named(o.Property, casing) })],
            Version = set.Version is { } version ? Named(version, casing) : null,
            RowRules = [.. set.RowRules.Select(r => r.Property is { } told ? r with { Property = casing.Apply(told) } : r)],
            SearchedProperties = set.SearchedProperties is { } searched ? All(searched) : null,
        };
    }

    private static EntityModel Standing(EntityModel model, FaceShape shape)
    {
        bool Stands(EntitySet set) =>
            shape.IsOffered
            && !shape.Without.Contains(set.Name)
            && (set.EntitiesOf is not { } of || !shape.Without.Contains(of))
            && (set.Binding is not { } binding || !shape.Without.Contains(binding.Set))
            // What is contained is reached over its container only.
            && (set.ContainedIn is not { } container || !shape.Without.Contains(container));
        var standing = model.Sets.Where(Stands).ToList();
        var names = standing.Select(s => s.Name).ToHashSet();
        var operations = shape.IsOffered ? model.DeclaredOperations : [];
        return model
            .With(operations)
            .With([
                .. standing.Select(s =>
                    s.Type.Navigations.All(n => names.Contains(n.TargetSet))
                        ? s
                        : s with
                        {
                            Type = s.Type.With([.. s.Type.Navigations.Where(n => names.Contains(n.TargetSet))]),
                        }
                ),
            ]);
    }

    private static Property Named(Property property, Casing casing) =>
        property with
        {
            Name = casing.Apply(property.Name),
            Members = [.. property.Members.Select(m => Named(m, casing))],
            Type = property is { IsGroup: true, Type.Complex: { } complex }
                ? property.Type with
                {
                    Complex = complex with { Properties = [.. complex.Properties.Select(p => Named(p, casing))] },
                }
                : property.Type,
            Measure = property.Measure is { IsPath: true } measure
                ? measure with
                {
                    Text = string.Join('/', measure.Text.Split('/').Select(n => casing.Apply(n))),
                }
                : property.Measure,
        };
}
