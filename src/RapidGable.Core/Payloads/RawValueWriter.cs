using System.Text;
using RapidGable.Model;
using RapidGable.Queries;

namespace RapidGable.Payloads;

/// <summary>The bytes of <c>/$value</c> and <c>/$count</c> (Protocol 11.2.4.1, 11.2.10).</summary>
public static class RawValueWriter
{
    /// <summary>The media type of a property's raw value (Protocol 11.2.4.1).</summary>
    public static string MediaType(Property property) =>
        property.MediaType ?? (property.Type.Kind == EdmKind.Binary ? "application/octet-stream" : "text/plain");

    /// <summary>The media type that is kept beside the stream of the run's current row; null when there is none.</summary>
    public static string? KeptMediaType(QueryRun run) =>
        run.Query.Shape.MediaTypeColumn is { } column && !run.Rows.IsNull(column)
            ? Encoding.UTF8.GetString(run.Rows.GetUtf8(column))
            : null;

    /// <summary>The tag of the current row's entity; null = its set has none.</summary>
    public static string? ETag(QueryRun run) => CellText.ETag(run.Query.Shape.Entity, run.Rows);

    /// <summary>The value of the run's current row, which must not be null.</summary>
    public static byte[] Value(QueryRun run)
    {
        var cell = run.Query.Shape.Value!;
        if (cell.Property.Type.Kind == EdmKind.Stream && cell.Property.StoredType.Kind == EdmKind.String)
            return run.Rows.GetUtf8(cell.Column).ToArray();
        return cell.Property is { Type.Kind: EdmKind.Stream } or { Type.Kind: EdmKind.Binary, Conversion: null }
            ? run.Rows.GetBytes(cell.Column).ToArray()
            : Encoding.UTF8.GetBytes(CellText.Raw(cell, run.Rows));
    }
}
