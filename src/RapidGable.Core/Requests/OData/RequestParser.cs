using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Requests.OData;

/// <summary>Tokens -> syntax tree.</summary>
public sealed class RequestParser
{
    private static readonly string[] Nested =
    [
        "$select",
        "$filter",
        "$orderby",
        "$top",
        "$skip",
        "$count",
        "$search",
        "$expand",
        "$levels",
        "$compute",
    ];

    private readonly LexedRequest _request;
    private readonly ParameterAliases _aliases;
    private int _expands;

    private RequestParser(LexedRequest request)
    {
        _request = request;
        _aliases = new ParameterAliases(request);
    }

    /// <summary>The syntax tree of a request; the fault says what was expected where.</summary>
    public static Result<RequestSyntax> Parse(LexedRequest request)
    {
        try
        {
            return new RequestParser(request).Parse();
        }
        catch (FaultException exception)
        {
            return exception.Fault;
        }
    }

    private RequestSyntax Parse()
    {
        var path = _request.Segments.Select(Segment).ToImmutableArray();
        var syntax = new RequestSyntax(path)
        {
            PositionNulls = _request.Position is { } token ? [.. token.Values.Select(v => v.Kind == StoredValueKind.Null)] : null,
            PositionOrder = _request.Position is { } made ? (made.Order, _request.OrderText) : null,
            Texts = _request.Texts.ToImmutableDictionary(),
            Options = [.. _request.Texts.Keys.Where(k => k[0] == '$')],
            Search = _request.Search,
            IsDelta = _request.Since?.IsDelta == true,
            Steps = _request.Steps,
        };
        foreach (var (name, tokens) in _request.Options.Where(o => o.Name[0] == '$'))
        {
            var reader = new TokenReader(tokens, name, _request.Texts[name]);
            syntax = name switch
            {
                "$filter" => syntax with { Filter = Expression(reader) },
                "$apply" => syntax with { Apply = new ApplyParser(reader, _aliases).Parse() },
                "$compute" => syntax with { Compute = Compute(reader) },
                "$orderby" => syntax with { OrderBy = OrderBy(reader) },
                "$select" => syntax with { Select = Select(reader) },
                "$expand" => syntax with { Expand = Expand(reader, 1) },
                "$top" => syntax with { Top = Number(reader, name) },
                "$skip" => syntax with { Skip = Number(reader, name) },
                "$count" => syntax with { Count = Boolean(reader) },
                _ => throw new InvalidOperationException(name),
            };
            reader.ExpectEnd();
        }
        return syntax;
    }

    private ExpressionSyntax Expression(TokenReader reader) => new ExpressionParser(reader, _aliases, _aliases.Steps).Parse();

    private SegmentSyntax Segment(LexedSegment lexed)
    {
        if (lexed.IsText)
            return new SegmentSyntax(lexed.Text, null, lexed.Slot) { IsText = true };
        var reader = new TokenReader(lexed.Tokens, "path", lexed.Text);
        if (reader.Current.Kind != TokenKind.Name)
            throw new FaultException(
                RequestFault.NotFound(
                    $"There is no resource '{lexed.Text}' here. Write a key in parentheses after its set, as in Stations(1).",
                    "path"
                )
            );
        var name = reader.Take();
        if (!reader.TryTake('('))
        {
            reader.ExpectEnd();
            return new SegmentSyntax(name.Text, null, lexed.Slot);
        }
        if (name.Text == "$crossjoin")
        {
            var sets = ImmutableArray.CreateBuilder<NameSyntax>();
            do sets.Add(reader.ExpectName("an entity set"));
            while (reader.TryTake(','));
            reader.Expect(')', "to close $crossjoin");
            reader.ExpectEnd();
            return new SegmentSyntax(name.Text, null) { Sets = sets.ToImmutable() };
        }
        if (name.Text == "$filter")
        {
            var condition = Expression(reader);
            reader.Expect(')', "to close $filter");
            reader.ExpectEnd();
            return new SegmentSyntax(name.Text, null) { Filter = condition };
        }
        var key = ExpressionParser.Key(reader, _aliases);
        reader.ExpectEnd();
        return new SegmentSyntax(name.Text, key);
    }

    private ImmutableArray<OrderTermSyntax> OrderBy(TokenReader reader)
    {
        var terms = ImmutableArray.CreateBuilder<OrderTermSyntax>();
        do
        {
            var expression = new ExpressionParser(reader, _aliases, _aliases.Steps).Parse();
            var descending = false;
            if (reader.Current is { Kind: TokenKind.Name } word)
            {
                descending = word.Text.Equals("desc", StringComparison.OrdinalIgnoreCase);
                if (!descending && !word.Text.Equals("asc", StringComparison.OrdinalIgnoreCase))
                    throw reader.Unexpected("'asc', 'desc', ',' or the end");
                reader.Take();
            }
            terms.Add(new OrderTermSyntax(expression, descending));
            if (terms.Count > Limits.OrderTerms)
                throw reader.Fault("too-large", $"$orderby has more than {Limits.OrderTerms} terms.", expression.Position);
        } while (reader.TryTake(','));
        return terms.ToImmutable();
    }

    private ImmutableArray<ComputeItemSyntax> Compute(TokenReader reader)
    {
        var items = ImmutableArray.CreateBuilder<ComputeItemSyntax>();
        do
        {
            var expression = Expression(reader);
            if (reader.Current.Kind != TokenKind.Name || !reader.Current.Text.Equals("as", StringComparison.OrdinalIgnoreCase))
                throw reader.Unexpected("'as' and a name for the computed value");
            reader.Take();
            var name = reader.ExpectName("a name for the computed value");
            if (!SimpleIdentifier.IsValid(name.Text))
                throw reader.Fault("syntax", $"'{name.Text}' cannot be the name of a property.", name.Position);
            items.Add(new ComputeItemSyntax(expression, name));
            if (items.Count > Limits.ExpandItems)
                throw reader.Fault("too-large", $"$compute has more than {Limits.ExpandItems} items.", name.Position);
        } while (reader.TryTake(','));
        return items.ToImmutable();
    }

    private static SelectSyntax Select(TokenReader reader)
    {
        var items = ImmutableArray.CreateBuilder<SelectItemSyntax>();
        var all = false;
        do
        {
            if (reader.TryTake('*'))
            {
                all = true;
                continue;
            }
            var path = ImmutableArray.CreateBuilder<NameSyntax>();
            do
            {
                var name = reader.ExpectName("a property's name or *");
                path.Add(name);
            } while (reader.TryTake('/'));
            items.Add(new SelectItemSyntax(path.ToImmutable(), reader.TryTake('(') ? NestedSelect(reader) : null));
        } while (reader.TryTake(','));
        return new SelectSyntax(all, items.ToImmutable());
    }

    private static SelectSyntax NestedSelect(TokenReader reader)
    {
        var option = reader.ExpectName("a nested option such as $select");
        var canonical = Canonical(option.Text);
        if (canonical != "$select")
            throw Nested.Contains(canonical)
                ? reader.NotImplemented($"The option {canonical} inside $select is not supported.", option.Position)
                : reader.Fault("unknown-option", $"'{option.Text}' is not an option of $select.", option.Position);
        reader.Expect('=', "after the nested option's name");
        var select = Select(reader);
        reader.Expect(')', "to close the nested options");
        return select;
    }

    private static string Canonical(string name) => (name.StartsWith('$') ? name : "$" + name).ToLowerInvariant();

    private ImmutableArray<ExpandItemSyntax> Expand(TokenReader reader, int depth)
    {
        if (depth > Limits.ExpandDepth)
            throw reader.Fault("too-deep", $"$expand nests more than {Limits.ExpandDepth} levels deep.", reader.Current.Position);
        var items = ImmutableArray.CreateBuilder<ExpandItemSyntax>();
        do
        {
            var position = reader.Current.Position;
            NameSyntax? name = null,
                cast = null;
            if (!reader.TryTake('*'))
            {
                name = reader.ExpectName("a navigation property's name");
                if (name.Text.Contains('.'))
                {
                    reader.Expect('/', $"and a navigation property after the type '{name.Text}'");
                    (cast, name) = (name, reader.ExpectName("a navigation property's name"));
                }
            }
            var item = new ExpandItemSyntax(name, null) { Position = position, Cast = cast };
            if (reader.TryTake('/'))
                item = item with { Kind = EndOf(reader, name) };
            items.Add(reader.TryTake('(') ? NestedOptions(reader, item, depth) : item);
            if (++_expands > Limits.ExpandItems)
                throw reader.Fault("too-large", $"$expand has more than {Limits.ExpandItems} items.", position);
        } while (reader.TryTake(','));
        return items.ToImmutable();
    }

    private static ExpandKind EndOf(TokenReader reader, NameSyntax? name)
    {
        var end = reader.ExpectName("$ref or $count");
        if (end.Text == "$ref")
            return ExpandKind.References;
        if (end.Text == "$count" && name is not null)
            return ExpandKind.Count;
        throw end.Text == "$value" ? reader.NotImplemented("Expanding the content of streams is not supported.", end.Position)
        : end.Text.Contains('.')
            ? reader.NotImplemented($"Casting related entities to '{end.Text}' is not supported; filter them with isof.", end.Position)
        : reader.Fault(
            "not-a-path",
            $"'/{end.Text}' cannot follow a navigation property; what is wanted of the related entities stands in parentheses.",
            end.Position
        );
    }

    private ExpandItemSyntax NestedOptions(TokenReader reader, ExpandItemSyntax item, int depth)
    {
        var seen = new HashSet<string>();
        do
        {
            var name = reader.ExpectName("a nested option such as $select");
            var canonical = Canonical(name.Text);
            if (canonical == "$apply")
                throw reader.NotImplemented("The option $apply inside $expand is not supported.", name.Position);
            if (!Nested.Contains(canonical))
                throw reader.Fault(
                    "unknown-option",
                    $"'{name.Text}' is not an option of $expand.{NearestName.Hint(canonical, Nested)}",
                    name.Position
                );
            if (!seen.Add(canonical))
                throw reader.Fault("option-twice", $"The nested option {canonical} is given twice.", name.Position);
            if (
                item.Kind == ExpandKind.References && canonical is "$select" or "$expand" or "$compute" or "$levels"
                || item.Kind == ExpandKind.Count && canonical is not ("$filter" or "$search")
            )
                throw reader.Fault(
                    "option-not-here",
                    $"{canonical} cannot be used after /{(item.Kind == ExpandKind.Count ? "$count" : "$ref")}.",
                    name.Position
                );
            if (item.Name is null && canonical is not "$levels" && item.Kind == ExpandKind.Entities)
                throw reader.Fault("option-not-here", $"{canonical} cannot be used on *; only $levels can.", name.Position);
            reader.Expect('=', "after the nested option's name");
            var first = reader.Index;
            item = canonical switch
            {
                "$select" => item with { Select = Select(reader) },
                "$filter" => item with { Filter = Expression(reader) },
                "$compute" => item with { Compute = Compute(reader) },
                "$orderby" => item with { OrderBy = OrderBy(reader) },
                "$expand" => item with { Expand = Expand(reader, depth + 1) },
                "$skip" => item with { Skip = Number(reader, canonical) },
                "$count" => item with { Count = Boolean(reader) },
                "$levels" => item with { Levels = Levels(reader) },
                "$search" => item with { Search = NestedSearch(reader) },
                _ => item with { Top = Number(reader, canonical) },
            };
            item = item with { Options = item.Options.Add(new NestedOption(canonical, first, reader.Index)) };
        } while (reader.TryTake(';'));
        reader.Expect(')', "to close the nested options");
        return item;
    }

    private static SearchSyntax NestedSearch(TokenReader reader)
    {
        var token = reader.Take();
        return new SearchParser(token.Text, "$search", null, null).Read();
    }

    private int Levels(TokenReader reader)
    {
        var token = reader.Take();
        if (token.Kind == TokenKind.Name && token.Text == "max")
            return int.MaxValue;
        if (
            token is { Kind: TokenKind.Literal, Literal: LiteralKind.Integer }
            && (long)_request.Literals[token.Slot].Value is > 0 and var levels
        )
        {
            return levels <= Limits.ExpandDepth
                ? (int)levels
                : throw reader.Fault(
                    "too-deep",
                    $"$levels is at most {Limits.ExpandDepth}; max asks for as many as there may be.",
                    token.Position
                );
        }
        throw reader.Fault("number", $"$levels needs a whole number of at least 1, or max, and '{token.Text}' is none.", token.Position);
    }

    // Only the kind is looked at here; the value is checked for each request, since a plan serves many values.
    private static int Number(TokenReader reader, string option)
    {
        var token = reader.Take();
        return token is { Kind: TokenKind.Literal, Literal: LiteralKind.Integer }
            ? token.Slot
            : throw reader.Fault("number", $"{option} needs a whole number of at least 0, and '{token.Text}' is none.", token.Position);
    }

    private bool Boolean(TokenReader reader)
    {
        var token = reader.Take();
        if (token is { Kind: TokenKind.Literal, Literal: LiteralKind.Boolean })
            return (bool)_request.Literals[token.Slot].Value;
        throw reader.Fault("boolean", $"$count is true or false, not '{token.Text}'.", token.Position);
    }
}
