namespace RapidGable.Service.Management.Contracts;

/// <summary>The only words that a text member of a message can be.</summary>
[AttributeUsage(AttributeTargets.Property)]
public sealed class OneOfAttribute(params string[] words) : Attribute
{
    public IReadOnlyList<string> Words => words;
}
