using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Model;
using RapidGable.Publishing;
using RapidGable.Service.Management.Contracts;

namespace RapidGable.Service.Management;

/// <summary>What the management interface says of published services.</summary>
internal static class ServiceViews
{
    public static ServiceSummary Summary(
        PublishedService service,
        Caller caller,
        IReadOnlyDictionary<string, string> faces,
        IEnumerable<EndpointInfo> endpoints
    ) =>
        new(
            service.Model.Service,
            service.Model.Title,
            service.Revision,
            service.ModelFor(caller).Sets.Length,
            faces,
            endpoints,
            About(service.Model)
        );

    private static ServiceAboutInfo About(EntityModel model) =>
        new(
            model.About.Version,
            model.About.Description,
            model.About.Owner,
            model.About.Contact,
            model.About.Licence,
            model.About.Terms,
            model.About.Tags,
            model.Deprecation?.Sentence
        );

    public static ServiceDetails Details(
        PublishedService service,
        IEnumerable<Inference> inferences,
        IReadOnlyDictionary<string, string> faces
    ) =>
        new(
            service.Model.Service,
            service.Model.Title,
            service.Revision,
            service.Model.Namespace,
            service.Model.Sets.Select(s => s.Source.Source).Distinct(),
            faces,
            service.Model.Sets.Select(s => Set(s, service.ModelFor(Caller.Anonymous))),
            inferences.Select(i => new InferenceInfo(i.Subject, i.Value, i.Reason)),
            service.Model.Sql?.Who.ToString()
        );

    private static SetInfo Set(EntitySet set, EntityModel open) =>
        new(
            set.Name,
            set.Type.Name,
            set.Source.Source,
            set.Source.ToString(),
            set.Type.Key.Select(k => k.Name),
            set.PageSize,
            set.LargestPage,
            set.IsAction ? "action"
                : set.IsFunction ? "function"
                : set.ContainedIn is null ? "set"
                : "contained",
            set.ContainedIn,
            set.Description ?? set.Type.Description,
            set.DefaultOrder.Select(o => o.Property.Name + (o.Descending ? " desc" : "")),
            Enum.GetValues<SetOperations>()
                .Where(o => o != SetOperations.None && set.Operations.HasFlag(o))
                .Select(o => o.ToString().ToLowerInvariant()),
            new SetRules(Grant.Describe(set.Rules, set.Use), set.Rules.Select(r => r.ToString())),
            open.FindSet(set.Name) is not null,
            set.Type.Properties.Select(p => Property(set, p)),
            set.Type.Hidden.Select(p => p.Column),
            Searched(set).Select(p => p.Name),
            set.RequiresFilter,
            set.Version?.Column ?? (set.IsVersionedByRow ? "row" : null),
            set.Changes?.Stamp.Column,
            set.RowRules.Select(RowRule),
            set.Type.Derived.Select(d => new DerivedTypeInfo(
                d.Name,
                d.Rows?.Source.ToString(),
                d.Discriminator?.Column,
                d.Values,
                d.Properties.Select(p => Property(set, p))
            )),
            set.Type.Navigations.Select(Navigation),
            set is { IsQuery: true, Source: QuerySource query } ? Query(set, query) : null
        );

    private static QueryInfo Query(EntitySet set, QuerySource query) =>
        new(
            set.Gives.ToString().ToLowerInvariant(),
            set.Parameters.Select(p => Property(set, p.AsProperty()) with { IsRequired = p.IsRequired }),
            set.Parameters.ToDictionary(p => p.Name, p => p.Sample),
            set.TakesFromCaller,
            query.Select,
            set.Group?.Title
        );

    private static IEnumerable<Property> Searched(EntitySet set) =>
        set.SearchIndex is { } index
            ? set.Type.Properties.SelectMany(p => p.Leaves).Where(p => index.Columns.Contains(p.Column))
            : set.SearchProperties;

    private static RowRuleInfo RowRule(RowRule rule) =>
        new(
            rule.Condition,
            rule.Unique,
            rule.On switch
            {
                SetOperations.Create => "create",
                SetOperations.Update => "update",
                _ => null,
            },
            rule.Who?.ToString(),
            rule.Message
        );

    private static NavigationInfo Navigation(NavigationProperty navigation) =>
        new(
            navigation.Name,
            navigation.TargetSet,
            navigation.IsCollection,
            navigation.Nullable,
            navigation.Partner,
            navigation.IsContained,
            navigation.IsRemote,
            navigation.Link?.Source.ToString(),
            navigation.Joins.Select(j => new JoinInfo(j.Own.Name, j.Target.Name))
        );

    private static PropertyInfo Property(EntitySet set, Property property) =>
        new(
            property.Name,
            property.Type.Name,
            property.Type.ToString(),
            property.Nullable,
            property.Column,
            set.Type.Key.Contains(property),
            IsSingleValue(property) && property.IsFilterable && property.Conversion is not { Use: ConvertedUse.Read },
            IsSingleValue(property)
                && property.IsSortable
                && property.Conversion is not { Use: ConvertedUse.Read or ConvertedUse.Equality },
            property.Conversion?.Description,
            property.Type.Enum?.Members.Select(m => m.Name),
            Write(set, property),
            IsRequired(property),
            property.DefaultValue,
            property.Maker?.ToString() ?? (property.HasComputedDefault ? "a value of the database" : null),
            property.Expression,
            property.Measure is { } measure
                ? new MeasureInfo(measure.IsPath ? null : measure.Text, measure.IsPath ? measure.Text : null)
                : null,
            property.Type.Kind == EdmKind.String ? property.Type.MaxLength : null,
            property.Type.Kind == EdmKind.Decimal ? property.Type.Scale : null,
            Values(property),
            property.Rules.IsEmpty ? null : Rules(property.Rules),
            property.IsGroup ? property.Members.Select(m => Property(set, m)) : null,
            property.Description
        );

    private static bool IsSingleValue(Property property) =>
        property is { IsGroup: false, Type: { IsCollection: false, Kind: not (EdmKind.Complex or EdmKind.Stream or EdmKind.Binary) } };

    private static string Write(EntitySet set, Property property)
    {
        var isMade =
            property
            is { IsComputed: true }
                or { Expression: not null }
                or { Access: PropertyAccess.ReadOnly }
                or { Maker.IsDefault: false };
        return isMade || property.Column == set.Version?.Column ? "never"
            : property.Access == PropertyAccess.CreateOnly || set.Type.Key.Contains(property) ? "create"
            : "always";
    }

    private static bool IsRequired(Property property) =>
        !property.Nullable
        && property
            is {
                HasComputedDefault: false,
                DefaultValue: null,
                Maker: null,
                Expression: null,
                IsComputed: false,
                Type.IsCollection: false,
                IsGroup: false
            };

    private static IEnumerable<string>? Values(Property property) =>
        !property.Rules.Values.IsEmpty ? property.Rules.Values.Select(ValueConversion.Text)
        : property.AllowedValues.IsEmpty ? null
        : property.AllowedValues;

    private static ValueRuleInfo Rules(ValueRules rules) =>
        new(
            rules.Minimum is { } minimum ? ValueConversion.Text(minimum) : null,
            rules.Maximum is { } maximum ? ValueConversion.Text(maximum) : null,
            rules.MinLength,
            rules.MaxLength,
            rules.Pattern?.ToString(),
            rules.Message
        );
}
