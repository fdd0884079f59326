using System.Text;
using RapidGable.Model;
using RapidGable.Queries;

namespace RapidGable.Payloads;

/// <summary>The bytes of <c>/$value</c> and <c>/$count</c> (Protocol 11.2.4.1, 11.2.10).</summary>
public static class RawValueWriter
{
    public static string MediaType(Property property) =>
        property.MediaType ?? (property.Type.Kind == EdmKind.Binary ? "application/octet-stream" : "text/plain");

    /// <summary>The value of the run's current row, which must not be null.</summary>
    public static byte[] Value(QueryRun run)
    {
        var cell = run.Query.Shape.Value!;
        return cell.Property.Type.Kind == EdmKind.Binary ? run.Rows.GetBytes(cell.Column).ToArray() : Encoding.UTF8.GetBytes(ValueText.Raw(cell, run.Rows));
    }
}
