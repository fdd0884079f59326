using RapidGable.Model;

namespace RapidGable.Changes;

/// <summary>The values of version columns, which the tags of entities are made of.</summary>
/// <param name="unit">The change that makes them.</param>
internal sealed class RowVersions(ChangeUnit unit)
{
    /// <summary>That of a new row; nothing when the source gives it.</summary>
    public IEnumerable<ColumnValue> First(EntitySet set) =>
        set.Version is { IsComputed: false, HasComputedDefault: false, DefaultValue: null } version ? [VersionOf(version, null)] : [];

    /// <summary>That of a changed row: whatever the source does by itself, the version after a change is another one.</summary>
    public IEnumerable<ColumnValue> Next(EntitySet set, object? current) =>
        set.Version is not { IsComputed: false } version ? [] : [VersionOf(version, current)];

    private ColumnValue VersionOfNow(Property version, object? current)
    {
        var digits = version.Type.Precision ?? 7;
        var step = (long)Math.Pow(10, 7 - Math.Min(7, digits));
        var now = new DateTime(unit.Now.Ticks / step * step, DateTimeKind.Utc);
        return new ColumnValue(version, current is DateTime before && before >= now ? before.AddTicks(step) : now);
    }

    private ColumnValue VersionOf(Property version, object? current) =>
        version.Type.Kind switch
        {
            EdmKind.DateTimeOffset => VersionOfNow(version, current),
            EdmKind.Guid => new ColumnValue(version, unit.NewId()),
            EdmKind.String => new ColumnValue(version, unit.NewId().ToString("N")[..Math.Min(32, version.Type.MaxLength ?? 32)]),
            EdmKind.Decimal => new ColumnValue(version, current is decimal number ? number + 1 : 1m),
            _ => current is null ? new ColumnValue(version, 1L) : new ColumnValue(version, null) { IsIncrement = true },
        };
}
