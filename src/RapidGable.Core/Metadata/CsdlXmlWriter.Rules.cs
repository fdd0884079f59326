using System.Collections.Immutable;
using RapidGable.Model;
using RapidGable.Payloads;

namespace RapidGable.Metadata;

/// <summary>What the document says of written values and rows (Validation vocabulary).</summary>
public sealed partial class CsdlXmlWriter
{
    /// <summary>What written values must be (Validation vocabulary).</summary>
    private void WriteRules(Property property)
    {
        var rules = property.Rules;
        var kind = property.Type.Kind switch
        {
            EdmKind.Decimal => "Decimal",
            EdmKind.Single or EdmKind.Double => "Float",
            EdmKind.Date => "Date",
            EdmKind.TimeOfDay => "TimeOfDay",
            EdmKind.DateTimeOffset => "DateTimeOffset",
            EdmKind.Duration => "Duration",
            _ => "Int",
        };
        if (rules.Minimum is { } least)
            Annotation("Validation.Minimum", kind, ValueConversion.Text(least));
        if (rules.Maximum is { } most)
            Annotation("Validation.Maximum", kind, ValueConversion.Text(most));
        if (rules.Pattern is { } pattern)
            Annotation("Validation.Pattern", "String", pattern.ToString());
        if (
            rules.MinLength is not null
            || (rules.MaxLength is not null && property.Type.MaxLength is null)
            || rules.Exists is not null
            || rules.Message is not null
        )
            Annotation(
                "Core.LongDescription",
                "String",
                string.Join(
                    ' ',
                    new[]
                    {
                        rules.MinLength is { } shortest ? $"At least {Text(shortest)} characters." : null,
                        rules.MaxLength is { } longest ? $"At most {Text(longest)} characters." : null,
                        rules.Exists is { } exists ? $"Must be the {exists.Property} of one of {exists.Set}." : null,
                        rules.Message,
                    }.OfType<string>()
                )
            );
    }

    private void WriteAllowedValues(ImmutableArray<string> values) => Annotated("Validation.AllowedValues", () =>
        {
            _xml.WriteStartElement("Collection", Edm);
            foreach (var value in values)
            {
                _xml.WriteStartElement("Record", Edm);
                Element("PropertyValue", Edm, ("Property", "Value"), ("String", value));
                _xml.WriteEndElement();
            }
            _xml.WriteEndElement();
        });

    /// <summary>
    /// What written rows must be: as constraints in 4.01, else in words. Readers of 4.0 that are in use refuse conditions, though
    /// CSDL 4.0 has them.
    /// </summary>
    private void WriteRowRules(EntitySet set)
    {
        const SetOperations always = SetOperations.Create | SetOperations.Update;
        var rules =
            set.Operations.HasFlag(SetOperations.Create) || set.Operations.HasFlag(SetOperations.Update)
                ? set.RowRules.Where(r => r.Who is null).ToList()
                : [];
        var told = rules
            .Where(r => r is { On: always, Form: { } form } && _version != ODataVersion.V40 && form.Paths.All(p => IsSeen(set.Type, p)))
            .ToList();
        foreach (var rule in told)
        {
            _xml.WriteStartElement("Annotation", Edm);
            _xml.WriteAttributeString("Term", "Validation.Constraint");
            // A term stands once on its target, and further times with qualifiers.
            if (told.Count > 1)
                _xml.WriteAttributeString("Qualifier", "Rule" + Text(told.IndexOf(rule) + 1));
            _xml.WriteStartElement("Record", Edm);
            Element(
                "PropertyValue",
                Edm,
                ("Property", "FailureMessage"),
                ("String", rule.Message ?? $"The entity does not fulfil a rule: {rule.Condition}.")
            );
            _xml.WriteStartElement("PropertyValue", Edm);
            _xml.WriteAttributeString("Property", "Condition");
            WriteConstraint(rule.Form!);
            _xml.WriteEndElement();
            _xml.WriteEndElement();
            _xml.WriteEndElement();
        }
        var words = rules.Except(told).Select(r => Words(set, r)).OfType<string>().ToList();
        if (words.Count > 0)
            Annotation("Core.LongDescription", "String", string.Join(' ', words));
    }

    /// <summary>A rule in words; null when there are none, or it is about what is not seen.</summary>
    private string? Words(EntitySet set, RowRule rule)
    {
        var seen = set
            .Type.Properties.SelectMany(p =>
                p.IsGroup ? p.Members.Select(m => (m.Column, Name: $"{p.Name}/{m.Name}")) : [(p.Column, p.Name)]
            )
            .ToList();
        var names = rule.Unique.SelectMany(c => seen.Where(p => p.Column == c).Take(1)).Select(p => p.Name).ToList();
        if (
            names.Count < rule.Unique.Length
            || (rule.Condition is not null && (rule.About is not { } about || !about.All(p => IsSeen(set.Type, p))))
        )
            return null;
        var said = rule.Message ?? (names.Count > 0 ? $"No two entities have the same {string.Join(", ", names)}." : null);
        return said is null
            ? null
            : rule.On switch
            {
                SetOperations.Create => "When created: ",
                SetOperations.Update => "When changed: ",
                _ => "",
            } + said;
    }

    private void WriteConstraint(ConstraintExpression expression)
    {
        _xml.WriteStartElement(expression.Element, Edm);
        if (expression.Element == "Apply")
            _xml.WriteAttributeString("Function", expression.Text);
        else if (expression.Operands.IsEmpty && expression.Element != "Null")
            _xml.WriteString(expression.Text);
        foreach (var operand in expression.Operands)
            WriteConstraint(operand);
        _xml.WriteEndElement();
    }

    /// <summary>Whether a path leads over what this model shows.</summary>
    private bool IsSeen(EntityType type, string path)
    {
        var names = path.Split('/');
        for (var i = 0; i < names.Length; i++)
        {
            if (type.FindNavigation(names[i]) is { } navigation)
                type = _model.Target(navigation).Type;
            else
                return type.FindProperty(names[i]) is { } property
                    && (
                        i == names.Length - 1
                            ? !property.IsGroup
                            : i == names.Length - 2 && property.Members.Any(m => m.Name == names[i + 1])
                    );
        }
        return true;
    }
}
