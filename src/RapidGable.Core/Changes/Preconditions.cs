using System.Collections.Immutable;
using RapidGable.Expressions;

namespace RapidGable.Changes;

/// <summary>What a change asks of the state that it finds (RFC 9110 13.1). Tags are compared weakly (Protocol 8.2.4).</summary>
/// <param name="IfMatch">Tags of which one is that of the entity; <c>*</c> = it is there. Null = not asked.</param>
/// <param name="IfNoneMatch">Tags of which none is that of the entity; <c>*</c> = it is not there. Null = not asked.</param>
public sealed record Preconditions(ImmutableArray<string>? IfMatch, ImmutableArray<string>? IfNoneMatch)
{
    public static readonly Preconditions None = new(null, null);

    public bool IsEmpty => IfMatch is null && IfNoneMatch is null;

    /// <summary>What is wrong with an entity that is there; null = nothing.</summary>
    /// <param name="tag">Its tag; null = it has none.</param>
    /// <param name="isRequired">The change must say which state it is about.</param>
    /// <param name="path">Where the entity stands in the body; empty = the request is about it.</param>
    public RequestFault? Check(string? tag, bool isRequired, string path = "")
    {
        if (isRequired && IfMatch is null)
            return path.Length == 0
                ? new RequestFault(
                    428,
                    "precondition-required",
                    "Say with If-Match which state of the entity this is about; its tag comes with the entity.",
                    "If-Match"
                )
                : new RequestFault(
                    428,
                    "precondition-required",
                    $"'{path}' changes an entity that has a state of its own. Send its tag as @odata.etag beside its "
                        + $"@odata.id, or change that entity by a request about it, with If-Match.",
                    path
                );
        if (IfMatch is { } wanted && !wanted.Any(t => t == "*" || IsSame(t, tag)))
            return new RequestFault(412, "changed", "The entity has changed since this tag was given. Read it again.", "If-Match");
        if (IfNoneMatch is { } unwanted && unwanted.Any(t => t == "*" || IsSame(t, tag)))
            return new RequestFault(
                412,
                "changed",
                unwanted.Contains("*") ? "The entity is there already." : "The entity is still as this tag says.",
                "If-None-Match"
            );
        return null;
    }

    private static bool IsSame(string asked, string? tag) => tag is not null && Plain(asked) == Plain(tag);

    private static string Plain(string tag) => tag.StartsWith("W/", StringComparison.Ordinal) ? tag[2..] : tag;
}
