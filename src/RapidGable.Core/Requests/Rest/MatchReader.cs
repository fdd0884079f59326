using System.Collections.Immutable;
using System.Globalization;
using System.Text;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Requests.Rest;

/// <summary>
/// The value of a query parameter that is named like a property -> what the property's value may be:
/// <code>
/// values = [ "!" ] term *( "," term )
/// term   = "null" / value / value ".." [ value ] / ".." value / text "*" / "*" text / "*" text "*"
/// value  = characters without comma, or any text in double quotes, in which two double quotes stand for one
/// </code>
/// </summary>
/// <param name="parameter">The parameter's name, for messages.</param>
/// <param name="literals">Receives the values.</param>
/// <param name="shape">Receives the forms of the terms, and no value.</param>
internal sealed class MatchReader(string parameter, string text, List<Literal> literals, StringBuilder shape)
{
    private int _position;

    /// <summary>The terms, and whether none of them is to hold.</summary>
    /// <exception cref="FaultException">The text is none of the grammar.</exception>
    public (ImmutableArray<MatchTermSyntax> Terms, bool IsNegated) Read()
    {
        if (text.Length == 0)
            throw Fault(
                $"'{parameter}' has no value. Write {parameter}=null for rows without one, and {parameter}=\"\" for the empty text."
            );
        var isNegated = text[0] == '!';
        if (isNegated)
        {
            shape.Append('!');
            _position++;
        }
        var terms = ImmutableArray.CreateBuilder<MatchTermSyntax>();
        do
        {
            terms.Add(Term());
            // Without it, a range and a range without an end before a value would have one shape.
            shape.Append(',');
            if (terms.Count > Limits.InMembers)
                throw new FaultException(
                    new RequestFault(400, "too-large", $"'{parameter}' has more than {Limits.InMembers} values.", parameter)
                );
        } while (TryTake(','));
        return (terms.ToImmutable(), isNegated);
    }

    private MatchTermSyntax Term()
    {
        var isAnyBefore = TryTake('*');
        if (!isAnyBefore && TryTakeRange())
        {
            shape.Append("..");
            return new MatchRangeSyntax(null, Value(Part() ?? throw Missing()));
        }
        var start = _position;
        var isQuoted = _position < text.Length && text[_position] == '"';
        var value = Part() ?? throw Missing();
        if (TryTakeRange())
        {
            if (isAnyBefore)
                throw Fault($"'*' cannot stand at an end of a range, at position {start} of '{parameter}'.");
            var from = Value(value);
            shape.Append("..");
            return new MatchRangeSyntax(from, Part() is { } to ? Value(to) : null);
        }
        var isAnyAfter = TryTake('*');
        if (_position < text.Length && text[_position] != ',')
            throw Fault(
                $"At position {_position} of '{parameter}': expected ',' or the end, but '{text[_position]}' stands there. Put texts with "
                    + "such characters in double quotes."
            );
        if (isAnyBefore || isAnyAfter)
            return Pattern(value, isAnyBefore, isAnyAfter);
        if (!isQuoted && value == "null")
        {
            shape.Append('0');
            return new MatchNullSyntax();
        }
        return new MatchEqualSyntax(Value(value));
    }

    private MatchPartSyntax Pattern(string value, bool isAnyBefore, bool isAnyAfter)
    {
        var function = (isAnyBefore, isAnyAfter) switch
        {
            (true, true) => CanonicalFunction.Contains,
            (true, false) => CanonicalFunction.EndsWith,
            _ => CanonicalFunction.StartsWith,
        };
        shape.Append(isAnyBefore ? '*' : '-').Append(isAnyAfter ? '*' : '-');
        return new MatchPartSyntax(function, Add(LiteralKind.Text, value));
    }

    /// <summary>A value up to what ends it; null = there is none.</summary>
    private string? Part()
    {
        if (TryTake('"'))
            return Quoted();
        var start = _position;
        while (_position < text.Length && text[_position] is not (',' or '*' or '"') && !IsRange(_position))
            _position++;
        return _position == start ? null : text[start.._position];
    }

    private string Quoted()
    {
        var value = new StringBuilder();
        while (_position < text.Length)
        {
            if (text[_position] != '"')
                value.Append(text[_position++]);
            else if (_position + 1 < text.Length && text[_position + 1] == '"')
            {
                value.Append('"');
                _position += 2;
            }
            else
            {
                _position++;
                return value.ToString();
            }
        }
        throw Fault($"A double quote in '{parameter}' is not closed.");
    }

    private MatchValueSyntax Value(string value)
    {
        var slot = Add(LiteralKind.Text, value);
        if (
            !DateOnly.TryParseExact(value, "yyyy-MM-dd", CultureInfo.InvariantCulture, DateTimeStyles.None, out var day)
            || day == DateOnly.MaxValue
        )
        {
            shape.Append('v');
            return new MatchValueSyntax(slot, null);
        }
        shape.Append('d');
        var first = Add(LiteralKind.Date, day);
        Add(LiteralKind.Date, day.AddDays(1));
        return new MatchValueSyntax(slot, first);
    }

    private int Add(LiteralKind kind, object value)
    {
        literals.Add(new Literal(kind, value, parameter, text, 0));
        return literals.Count - 1;
    }

    private bool IsRange(int position) => string.CompareOrdinal(text, position, "..", 0, 2) == 0;

    private bool TryTakeRange()
    {
        if (!IsRange(_position))
            return false;
        _position += 2;
        return true;
    }

    private bool TryTake(char sign)
    {
        if (_position >= text.Length || text[_position] != sign)
            return false;
        _position++;
        return true;
    }

    private FaultException Missing() =>
        Fault($"At position {_position} of '{parameter}': a value is missing. Write \"\" for the empty text.");

    private FaultException Fault(string message) => new(new RequestFault(400, "parameter", message, parameter, text, _position));
}
