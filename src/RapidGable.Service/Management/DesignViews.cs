using System.Text.Json.Nodes;
using RapidGable.Building;
using RapidGable.Declarations;
using RapidGable.Drafting;
using RapidGable.Model;
using RapidGable.Service.Identity;
using RapidGable.Service.Management.Contracts;
using RapidGable.Sources;

namespace RapidGable.Service.Management;

/// <summary>What the management interface says of a service's design.</summary>
internal static class DesignViews
{
    public static ServiceDesignInfo Of(ServiceDesign design, LoadedWorkspace workspace, AccountDirectory? accounts)
    {
        var ofRules = workspace.Declaration.Services.SelectMany(s => s.Sets).SelectMany(s => s.Rules).SelectMany(r => r.Who.Roles);
        var ofAccounts = accounts is null ? [] : accounts.Users.Values.SelectMany(u => u.Roles);
        return new ServiceDesignInfo(
            design.Service,
            design.Written,
            ofRules.Concat(ofAccounts).Distinct().Order(StringComparer.Ordinal),
            design.Sets.Select(Set),
            design.Queries.Select(Query)
        );
    }

    private static QueryDesignInfo Query(QueryDesign query) =>
        new(
            query.Name,
            query.Path.Select(s => s.Key is { } key ? (JsonNode)key : s.Index),
            query.Line,
            query.Source,
            query.Changes,
            query.Built is not null,
            query.Built?.Parameters.Select(p => new QueryParameterInfo(p.Name, p.Type.ToString(), p.IsRequired, p.Sample, p.TakenFrom))
                ?? [],
            query
                .Built?.Type.Properties.SelectMany(p => p.Leaves)
                .Select(p => new QueryColumnInfo(p.Name, p.Column, $"{p.Type}", p.Nullable))
                ?? [],
            query.Written
        );

    private static SetDesignInfo Set(SetDesign set) =>
        new(
            set.Index,
            set.Line,
            set.From,
            set.Source,
            set.Item?.Kind.Word(),
            set.Item?.Comment,
            set.Name,
            set.OwnName,
            set.TypeName,
            set.OwnTypeName,
            set.Built is not null,
            set.Key,
            set.Item?.NaturalKey ?? [],
            Words(set.Operations),
            Grant.Describe(set.Rules.Select(r => r.ToGrant()), SetOperations.Read),
            set.Written.ContainsKey("rules"),
            set.Rules.Select(Rule),
            set.Columns.Select(Column),
            set.Item?.Columns.Select(c => c.Name) ?? set.Columns.Select(c => c.Column),
            (set.Built?.Type.Navigations ?? []).Select(n => Relation(set, n)),
            set.Written
        );

    private static IEnumerable<string> Words(SetOperations operations) =>
        Enum.GetValues<SetOperations>()
            .Where(o => o != SetOperations.None && operations.HasFlag(o))
            .Select(o => o.ToString().ToLowerInvariant());

    private static RuleDesignInfo Rule(RuleDeclaration rule) =>
        new(
            rule.Who.Scope switch
            {
                AccessScope.Anyone => ["anyone"],
                AccessScope.SignedIn => ["signed-in"],
                AccessScope.Nobody => ["nobody"],
                _ => rule.Who.Roles,
            },
            Words(rule.May),
            rule.Denies,
            rule.Rows?.Value,
            rule.Hide.Select(h => h.Value),
            rule.Mask.Select(m => m.Value),
            rule.WithCheck?.Value,
            rule.LargestPage,
            rule.LargestCost
        );

    private static ColumnDesignInfo Column(ColumnDesign column) =>
        new(
            column.Column,
            column.DeclaredType,
            column.Name,
            column.OwnName,
            column.Type,
            column.OwnType,
            column.Reason,
            column.IsNullable,
            column.IsShown,
            column.Comment,
            column.Group
        );

    private static RelationDesignInfo Relation(SetDesign set, NavigationProperty navigation) =>
        new(
            navigation.Name,
            navigation.TargetSet,
            navigation.IsCollection,
            navigation.Partner,
            navigation.Joins.Select(j => new JoinInfo(j.Own.Column, j.Target.Column)),
            set.Written["relations"]?.AsObject().ContainsKey(navigation.Name) == true
        );
}
