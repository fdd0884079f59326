using RapidGable.Queries;

namespace RapidGable.Core.Tests;

/// <summary>Plans without the values that engines write into them.</summary>
public class PlanTextTests
{
    [Theory]
    [InlineData("  Filter: (name = 'it''s secret'::text)", "  Filter: (name = '?'::text)")]
    [InlineData("  Index Cond: ((id > 5) AND (id < -7.5))", "  Index Cond: ((id > ?) AND (id < ?))")]
    [InlineData("  Filter: (id = ANY ('{1,2}'::bigint[]))", "  Filter: (id = ANY ('?'::bigint[]))")]
    [InlineData("  Filter: (t0.c7 = $1)", "  Filter: (t0.c7 = $1)")]
    [InlineData("Seq Scan on t t0  (cost=0.00..1.05 rows=5 width=12)", "Seq Scan on t t0  (cost=0.00..1.05 rows=5 width=12)")]
    [InlineData("1  SIMPLE  t0  range  PRIMARY  8  12  Using where", "1  SIMPLE  t0  range  PRIMARY  8  12  Using where")]
    [InlineData("SEARCH t0 USING INTEGER PRIMARY KEY (rowid=?)", "SEARCH t0 USING INTEGER PRIMARY KEY (rowid=?)")]
    public void Values_are_question_marks(string line, string shown) => Assert.Equal(shown, PlanText.WithoutValues(line));
}
