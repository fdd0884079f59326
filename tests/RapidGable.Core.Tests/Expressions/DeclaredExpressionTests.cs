using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Core.Tests;

/// <summary>Expressions of declarations are bound as what they are, and the types of attributes are inferred.</summary>
public sealed class DeclaredExpressionTests
{
    [Theory] // an attribute takes the type of what it meets, wherever it stands
    [InlineData("level ge @a", "Int32")]
    [InlineData("level add @a gt 3", "Int64")]
    [InlineData("region eq @a", "String")]
    [InlineData("region in ('north',@a)", "String")]
    [InlineData("contains(region,@a)", "String")]
    [InlineData("contains(@a,region)", "String")]
    [InlineData("year(@a) eq 2024", "Date")]
    [InlineData("day ge @a", "Date")]
    [InlineData("@a or level eq 1", "Boolean")]
    [InlineData("not @a", "Boolean")]
    [InlineData("region eq @a or level eq @a", "String Int32")]
    public void An_attribute_takes_the_type_of_what_it_meets(string condition, string types)
    {
        var bound = DeclaredExpression.BindCondition(Typed, Typed.Sets[0], condition);
        Assert.Null(bound.Fault);
        Assert.Equal(types, string.Join(' ', bound.Value!.Attributes.Select(a => a.Type.Kind)));
        Assert.All(bound.Value.Attributes, a => Assert.Equal("a", a.Name));
    }

    [Theory]
    [InlineData("region in @a", "not-implemented")]
    [InlineData("matchesPattern(region,@a)", "not-implemented")]
    [InlineData("$root/Technicians(@a)/region eq 'north'", "not-implemented")]
    [InlineData("region eq @", "syntax")]
    [InlineData("region eq @a.b", "not-implemented")]
    [InlineData("region eq @a and", "syntax")]
    [InlineData("level eq 1)", "syntax")]
    [InlineData("isof(@a,Edm.String)", "")]
    [InlineData("@a eq null and false", "")]
    [InlineData("level", "type")]
    [InlineData("", "syntax")]
    public void Expressions_that_mean_nothing_are_refused_by_their_own_text(string condition, string code)
    {
        var bound = DeclaredExpression.BindCondition(Typed, Typed.Sets[0], condition);
        Assert.Equal(code, bound.Fault?.Code ?? "");
        if (code is "syntax" or "type")
            Assert.Equal(condition, bound.Fault!.Text);
    }

    /// <summary>A set with a property of each type that the cases need.</summary>
    private static readonly EntityModel Typed = new(
        "s",
        "S",
        "S",
        [
            new EntitySet(
                "Technicians",
                new EntityType(
                    "Technician",
                    [
                        new Property("id", EdmType.Int32, false, "id"),
                        new Property("level", EdmType.Int32, true, "level"),
                        new Property("region", EdmType.String, true, "region"),
                        new Property("day", EdmType.Date, true, "day"),
                    ],
                    [],
                    [new Property("id", EdmType.Int32, false, "id")],
                    []
                ),
                new TableSource("main", null, "technician")
            ),
        ]
    );
}
