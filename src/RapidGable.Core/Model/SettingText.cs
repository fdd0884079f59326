using System.Collections.Immutable;

namespace RapidGable.Model;

/// <summary>
/// The value of a setting. One that came from a variable or a kept secret shows the variable's name wherever it is printed: messages,
/// answers, logs and the audit log cannot say what it is. Only <see cref="Reveal"/> gives it, to whatever opens the connection.
/// </summary>
public sealed class SettingText
{
    private readonly string _value;
    private readonly string _shown;

    private SettingText(string value, string shown, ImmutableArray<string> variables) =>
        (_value, _shown, Variables) = (value, shown, variables);

    /// <summary>The names of the variables that it was made of; empty = it is as it was written.</summary>
    public ImmutableArray<string> Variables { get; }

    public bool IsSecret => !Variables.IsEmpty;

    /// <summary>A value that stands in a file as it is.</summary>
    public static SettingText Plain(string value) => new(value, value, []);

    /// <param name="written">As it stands in the file, with the names of the variables.</param>
    public static SettingText Of(string value, string written, ImmutableArray<string> variables) => new(value, written, variables);

    /// <summary>The value itself, for nothing that people read.</summary>
    public string Reveal() => _value;

    public override string ToString() => _shown;
}
