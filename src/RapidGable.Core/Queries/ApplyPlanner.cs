using System.Collections.Immutable;
using RapidGable.Model;
using RapidGable.Requests;

namespace RapidGable.Queries;

/// <summary>Rows that transformations make: the rows that the path addresses, then one statement around the other.</summary>
/// <param name="Input">Those rows, without output and order.</param>
/// <param name="Columns">Columns of them that are carried on.</param>
public sealed record ApplyPlan(SelectPlan Input, ImmutableArray<string> Columns, ImmutableArray<StagePlan> Stages);

/// <summary>One stage with what its expressions reach, under the alias <c>s</c> for the rows before it.</summary>
/// <param name="Carried">Columns of the input that are columns of the result.</param>
/// <param name="Branches">For a union: the stages of each sequence.</param>
public sealed record StagePlan(
    BoundStage Stage,
    ImmutableArray<PlanJoin> Joins,
    ImmutableDictionary<string, string> Aliases,
    ImmutableArray<string> Carried,
    ImmutableArray<ImmutableArray<StagePlan>> Branches
);

internal static class ApplyPlanner
{
    public static ApplyPlan Plan(BoundApply apply, SelectPlan input, EntityModel model) =>
        new(input, Columns(apply.Input), Stages(apply.Stages, apply.Input, model));

    private static ImmutableArray<StagePlan> Stages(ImmutableArray<BoundStage> stages, EntitySet input, EntityModel model)
    {
        var plans = ImmutableArray.CreateBuilder<StagePlan>();
        foreach (var stage in stages)
        {
            var level = new PlanLevel(model, "s", n => "s_" + n);
            if (stage is not BoundUnion)
            {
                foreach (var expression in stage.Expressions)
                    level.Reach(expression);
            }
            var branches = stage is BoundUnion union ? union.Branches.Select(b => Stages(b.Stages, input, model)).ToImmutableArray() : [];
            plans.Add(new StagePlan(stage, level.Joins, level.Aliases, Columns(input), branches));
            input = stage.Result;
        }
        return plans.ToImmutable();
    }

    /// <summary>All columns that later stages and the answer may read; the content of streams is not carried.</summary>
    public static ImmutableArray<string> Columns(EntitySet set) =>
        [
            .. set
                .Type.Properties.Concat(set.Type.Hidden)
                .Concat(set.Type.Derived.SelectMany(d => d.Properties))
                .Where(p => p.Via is null)
                .SelectMany(p => p.Leaves)
                .Where(p => p.Type.Kind != EdmKind.Stream)
                .SelectMany(p => new[] { p.Column, p.PresenceColumn })
                .Append(set.Version?.Column)
                .Concat(set.Type.Derived.Select(d => d.Discriminator?.Column))
                .OfType<string>()
                .Distinct(),
        ];
}
