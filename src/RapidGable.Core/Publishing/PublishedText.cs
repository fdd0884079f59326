using System.Collections;
using System.Collections.Immutable;
using System.Globalization;
using System.Reflection;
using System.Text;
using System.Text.RegularExpressions;
using RapidGable.Declarations;
using RapidGable.Model;

namespace RapidGable.Publishing;

/// <summary>
/// All that a published set or a section of the workspace says, as text, so that two states can be compared. It goes through the
/// properties of what it is given, so that nothing that a declaration can say is left out when it is added.
/// </summary>
public static class PublishedText
{
    private const int Deepest = 40;

    /// <summary>What is derived from the rest, leads back to where it came from, or says only where something is written.</summary>
    private static readonly ImmutableHashSet<string> Skipped =
    [
        "Leaves",
        "MemberNames",
        "Place",
        "Location",
        "Stored",
        "Restriction",
        "SearchProperties",
        "EqualityContract",
        "DeclaredType",
        "SourceChecks",
        "IsForeignKey",
    ];

    /// <summary>The words of a declaration for what a set says; anything else goes by its own name.</summary>
    private static readonly ImmutableDictionary<string, string> Words = new Dictionary<string, string>
    {
        ["Type"] = "properties and relations",
        ["Source"] = "from",
        ["PageSize"] = "page",
        ["LargestPage"] = "largest-page",
        ["LargestCost"] = "largest-cost",
        ["Operations"] = "allow",
        ["DefaultOrder"] = "order",
        ["RowRules"] = "valid",
        ["RequiresVersion"] = "require-version",
        ["IsVersionedByRow"] = "version",
        ["RequiresFilter"] = "require-filter",
        ["SearchedProperties"] = "search",
        ["SearchIndex"] = "search",
        ["ContainedIn"] = "contained",
    }.ToImmutableDictionary();

    /// <summary>Each thing that a service says, as <c>set: what</c>, with its text.</summary>
    public static ImmutableSortedDictionary<string, string> Of(EntityModel model)
    {
        var facets = new SortedDictionary<string, string>(StringComparer.Ordinal)
        {
            ["title"] = model.Title,
            ["namespace"] = model.Namespace,
            ["repeats"] = Of((object)model.Repeats),
            ["faces"] = Of((object)model.Faces),
            ["about"] = Of(model.About),
            ["deprecated"] = Of(model.Deprecation),
            ["version-of"] = Of(model.VersionOf),
            ["sql"] = Of(model.Sql),
        };
        foreach (var set in model.Sets)
        {
            foreach (var property in Properties(typeof(EntitySet)))
            {
                var facet = $"{set.Name}: {Words.GetValueOrDefault(property.Name, property.Name.ToLowerInvariant())}";
                facets[facet] = facets.GetValueOrDefault(facet) + Of(property.GetValue(set));
            }
        }
        facets["order of the sets"] = string.Join(',', model.Sets.Select(s => s.Name));
        return facets.ToImmutableSortedDictionary(StringComparer.Ordinal);
    }

    /// <summary>The parts of a workspace and its sources, each as text.</summary>
    public static ImmutableSortedDictionary<string, string> SectionsOf(WorkspaceDeclaration declared)
    {
        var sections = new SortedDictionary<string, string>(StringComparer.Ordinal)
        {
            ["title"] = declared.Title,
            ["refresh-seconds"] = Of(declared.RefreshSeconds),
            ["sign-in"] = Of(declared.SignIn),
            ["transport"] = Of(declared.Transport),
            ["limits"] = Of(declared.Traffic),
            ["audit"] = Of(declared.Audit),
            ["checks"] = Of(declared.Checks),
            ["revisions"] = Of(declared.Revisions),
            ["requests"] = declared.Texts.Identity(declared.Texts.Of("requests")),
        };
        foreach (var source in declared.Sources)
            sections["source " + source.Name] = Of(source);
        return sections.ToImmutableSortedDictionary(StringComparer.Ordinal);
    }

    /// <summary>What differs between two of these, in words; a set that came or went is told as a whole.</summary>
    public static IEnumerable<string> Differences(
        ImmutableSortedDictionary<string, string> before,
        ImmutableSortedDictionary<string, string> now
    )
    {
        static string? SetOf(string facet) => facet.Split(": ") is [var set, _] ? set : null;
        var (gone, came) = (before.Keys.Select(SetOf).ToHashSet(), now.Keys.Select(SetOf).ToHashSet());
        foreach (var set in came.Except(gone).OfType<string>())
            yield return $"{set} is new";
        foreach (var set in gone.Except(came).OfType<string>())
            yield return $"{set} is gone";
        var changed = now.Where(f => SetOf(f.Key) is not { } set || gone.Contains(set))
            .Where(f => before.GetValueOrDefault(f.Key) != f.Value)
            .Select(f => f.Key)
            .Where(f => f != "order of the sets" || came.SetEquals(gone))
            .ToList();
        foreach (var facets in changed.GroupBy(f => SetOf(f) ?? ""))
            yield return facets.Key.Length == 0
                ? string.Join(", ", facets)
                : $"{facets.Key}: {string.Join(", ", facets.Select(f => f[(facets.Key.Length + 2)..]))}";
    }

    /// <summary>The text of any value.</summary>
    public static string Of(object? value)
    {
        var text = new StringBuilder();
        Write(text, value, 0);
        return text.ToString();
    }

    private static void Write(StringBuilder text, object? value, int depth)
    {
        if (depth > Deepest)
            throw new InvalidOperationException($"What is published nests deeper than {Deepest} levels.");
        switch (value)
        {
            case null:
                text.Append('-');
                break;
            case string or Enum or bool or char or Regex or Type:
                text.Append('\'').Append(value).Append('\'');
                break;
            case byte[] bytes:
                text.Append(Convert.ToHexStringLower(bytes));
                break;
            case IFormattable plain:
                text.Append(plain.ToString(null, CultureInfo.InvariantCulture));
                break;
            case IDictionary pairs:
                Write(
                    text,
                    pairs.Keys.Cast<object>().OrderBy(k => k.ToString(), StringComparer.Ordinal).Select(k => new[] { k, pairs[k] }),
                    depth
                );
                break;
            case IEnumerable when value.GetType().GetProperty("IsDefault")?.GetValue(value) is true:
                text.Append('-');
                break;
            case IEnumerable:
                text.Append('[');
                foreach (var item in (IEnumerable)value)
                {
                    Write(text, item, depth + 1);
                    text.Append(',');
                }
                text.Append(']');
                break;
            case System.Runtime.CompilerServices.ITuple tuple:
                Write(text, Enumerable.Range(0, tuple.Length).Select(i => tuple[i]), depth);
                break;
            case var located when located.GetType() is { IsGenericType: true } type && type.GetGenericTypeDefinition() == typeof(Located<>):
                Write(text, type.GetProperty("Value")!.GetValue(located), depth + 1);
                break;
            case var foreign when foreign.GetType().Assembly != typeof(EntitySet).Assembly:
                text.Append('\'').Append(foreign).Append('\'');
                break;
            default:
                text.Append(value.GetType().Name).Append('{');
                foreach (var property in Properties(value.GetType()))
                {
                    text.Append(property.Name).Append('=');
                    Write(text, property.GetValue(value), depth + 1);
                    text.Append(';');
                }
                text.Append('}');
                break;
        }
    }

    private static IEnumerable<PropertyInfo> Properties(Type type) =>
        type.GetProperties(BindingFlags.Public | BindingFlags.Instance)
            .Where(p => p.CanRead && p.GetIndexParameters().Length == 0 && !Skipped.Contains(p.Name))
            .OrderBy(p => p.Name, StringComparer.Ordinal);
}
