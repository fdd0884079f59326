using System.Collections;
using System.Reflection;
using System.Runtime.CompilerServices;

namespace RapidGable.Core.Tests;

/// <summary>What static fields hold, with everything behind it: whether any of it could count, collect or remember.</summary>
public static class StaticState
{
    /// <summary>Types of the platform whose instances do not change, or whose change nobody can see.</summary>
    private static readonly string[] Unchanging =
    [
        "System.String",
        "System.Type",
        "System.Uri",
        "System.Version",
        "System.StringComparer",
        "System.TimeProvider",
        "System.Delegate",
        "System.Reflection.",
        "System.Text.",
        "System.Globalization.",
        "System.Buffers.SearchValues",
        "System.Net.IP",
        "System.Xml.",
        "System.Threading.Lock",
        "System.Collections.Generic.ObjectEqualityComparer",
        "Microsoft.Extensions.Logging.EventId",
        "Microsoft.Net.Http.Headers.",
        "Microsoft.Extensions.Primitives.StringValues",
    ];

    /// <summary>The static fields of an assembly that could remember something, with what of them can change.</summary>
    public static IReadOnlyList<(string Field, string What)> Of(Assembly assembly) =>
        [
            .. from type in assembly.GetTypes()
            where !type.IsDefined(typeof(CompilerGeneratedAttribute)) && type.FullName?.Contains('<') == false
            where !type.ContainsGenericParameters
            from field in type.GetFields(BindingFlags.Static | BindingFlags.Public | BindingFlags.NonPublic | BindingFlags.DeclaredOnly)
            where !field.IsLiteral && !field.Name.StartsWith("<>", StringComparison.Ordinal)
            let what = field.IsInitOnly ? Changing(field.GetValue(null), new HashSet<object>(ReferenceEqualityComparer.Instance)) : "itself"
            where what is not null
            orderby type.Name, field.Name
            select ($"{type.Name}.{field.Name}", what),
        ];

    /// <summary>A field behind a value that can change; null = there is none.</summary>
    private static string? Changing(object? value, HashSet<object> seen)
    {
        if (value is null or Delegate || value.GetType() is { IsPrimitive: true } or { IsEnum: true } || !seen.Add(value))
            return null;
        var type = value.GetType();
        if (BasesOf(type).Any(b => Array.Exists(Unchanging, u => b.StartsWith(u, StringComparison.Ordinal))))
            return null;
        var space = type.Namespace ?? "";
        if (type.IsArray || space is "System.Collections.Immutable" or "System.Collections.Frozen")
            return ((IEnumerable)value).Cast<object?>().Select(v => Changing(v, seen)).FirstOrDefault(c => c is not null);
        // Collections of the platform have no field that is set again when something is put into them.
        if (space.StartsWith("System.Collections", StringComparison.Ordinal) && !type.IsValueType)
            return type.Name;
        foreach (var field in FieldsOf(type))
        {
            // Parameters of a primary constructor that methods use; none of ours is assigned.
            var isFixed = field.IsInitOnly || type.IsValueType || field.Name.EndsWith(">P", StringComparison.Ordinal);
            if (!isFixed)
                return $"{type.Name}.{field.Name}";
            if (Changing(field.GetValue(value), seen) is { } below)
                return below;
        }
        return null;
    }

    private static IEnumerable<string> BasesOf(Type? type)
    {
        for (; type is not null; type = type.BaseType)
            yield return type.FullName ?? "";
    }

    private static IEnumerable<FieldInfo> FieldsOf(Type? type)
    {
        const BindingFlags Own = BindingFlags.Instance | BindingFlags.Public | BindingFlags.NonPublic | BindingFlags.DeclaredOnly;
        for (; type is not null; type = type.BaseType)
        {
            foreach (var field in type.GetFields(Own))
                yield return field;
        }
    }
}
