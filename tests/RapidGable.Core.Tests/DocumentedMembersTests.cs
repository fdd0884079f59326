using System.Reflection;
using System.Runtime.CompilerServices;
using System.Xml.Linq;

namespace RapidGable.Core.Tests;

/// <summary>
/// Every public type and every public method of the core says what goes in and what comes out. Properties and members of enumerations
/// may go without where their type's comment and their own name say all.
/// </summary>
public sealed class DocumentedMembersTests
{
    private static readonly Assembly Core = typeof(Model.EntityModel).Assembly;

    private static HashSet<string> Documented() =>
        XDocument
            .Load(Path.ChangeExtension(Core.Location, ".xml"))
            .Descendants("member")
            .Where(m => m.Elements().Any(e => e.Name == "inheritdoc" || e.Value.Trim().Length > 0 || e.HasElements))
            .Select(m => m.Attribute("name")!.Value.Split('(')[0].Split('~')[0])
            .Select(n => System.Text.RegularExpressions.Regex.Replace(n, "`+[0-9]+", ""))
            .ToHashSet();

    private static string NameOf(Type type) =>
        System.Text.RegularExpressions.Regex.Replace(type.FullName!.Replace('+', '.'), "`[0-9]+", "");

    private static bool IsGenerated(MemberInfo member) => member.IsDefined(typeof(CompilerGeneratedAttribute), inherit: false);

    [Fact]
    public void Public_types_are_documented()
    {
        var documented = Documented();
        var missing = Core.GetExportedTypes().Where(t => !documented.Contains("T:" + NameOf(t))).Select(NameOf);
        AssertNone(missing);
    }

    [Fact]
    public void Public_methods_are_documented()
    {
        var documented = Documented();
        var missing =
            from type in Core.GetExportedTypes()
            where !typeof(Delegate).IsAssignableFrom(type)
            from method in type.GetMethods(BindingFlags.Public | BindingFlags.Instance | BindingFlags.Static | BindingFlags.DeclaredOnly)
            where !method.IsSpecialName && !IsGenerated(method) && method.GetBaseDefinition() == method && !Implements(type, method)
            let name = $"{NameOf(type)}.{method.Name}"
            where !documented.Contains("M:" + name)
            select name;
        AssertNone(missing);
    }

    private static void AssertNone(IEnumerable<string> missing)
    {
        var names = missing.Distinct().Order(StringComparer.Ordinal).ToList();
        Assert.True(names.Count == 0, $"{names.Count} without a comment:\n{string.Join('\n', names)}");
    }

    /// <summary>The comment of an interface's method is that of those who implement it.</summary>
    private static bool Implements(Type type, MethodInfo method) =>
        !type.IsInterface && type.GetInterfaces().Any(i => type.GetInterfaceMap(i).TargetMethods.Contains(method));
}
