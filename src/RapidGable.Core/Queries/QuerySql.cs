using System.Text;
using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>What stands after FROM for stored rows. The parameters of a query are placeholders, never text.</summary>
internal static class QuerySql
{
    /// <param name="placeholder">Gives the placeholder of a parameter.</param>
    public static string Write(RowSource rows, SqlDialect dialect, Func<PlanParameter, string> placeholder)
    {
        if (rows is not QuerySource { Parameters: { IsEmpty: false } parameters } query)
            return dialect.From(rows);
        var sql = new StringBuilder("(\n");
        for (var i = 0; i < parameters.Length; i++)
            sql.Append(query.Pieces[i]).Append(placeholder(new ArgumentParameter(parameters[i])));
        return sql.Append(query.Pieces[^1]).Append("\n)").ToString();
    }
}
