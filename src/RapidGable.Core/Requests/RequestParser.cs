using System.Collections.Immutable;
using RapidGable.Model;

namespace RapidGable.Requests;

/// <summary>Tokens -> syntax tree.</summary>
public static class RequestParser
{
    public static Result<RequestSyntax> Parse(LexedRequest request)
    {
        try
        {
            return ParseOrThrow(request);
        }
        catch (FaultException exception)
        {
            return exception.Fault;
        }
    }

    private static RequestSyntax ParseOrThrow(LexedRequest request)
    {
        var path = request.Segments.Select(Segment).ToImmutableArray();
        var syntax = new RequestSyntax(path)
        {
            SkipTokenNulls = request.SkipToken is { } token ? [.. token.Values.Select(v => v.Kind == StoredValueKind.Null)] : null,
            Texts = request.Texts.ToImmutableDictionary(),
            Options = [.. request.Texts.Keys],
        };
        foreach (var (name, tokens) in request.Options)
        {
            var reader = new TokenReader(tokens, name, request.Texts[name]);
            syntax = name switch
            {
                "$filter" => syntax with { Filter = new ExpressionParser(reader).Parse() },
                "$orderby" => syntax with { OrderBy = OrderBy(reader) },
                "$select" => syntax with { Select = Select(reader) },
                "$expand" => syntax with { Expand = Expand(reader) },
                "$top" => syntax with { Top = Number(reader, name) },
                "$skip" => syntax with { Skip = Number(reader, name) },
                "$count" => syntax with { Count = Boolean(reader, request) },
                _ => throw new InvalidOperationException(name),
            };
            reader.ExpectEnd();
        }
        return syntax;
    }

    private static SegmentSyntax Segment(List<Token> tokens)
    {
        var text = string.Concat(tokens.Select(t => (t.Blank ? " " : "") + t.Text));
        var reader = new TokenReader(tokens, "path", text);
        if (reader.Current.Kind != TokenKind.Name)
            throw new FaultException(RequestFault.NotFound($"There is no resource '{text}' here. A key stands in parentheses after its set, as in Stations(1).", "path"));
        var name = reader.Take();
        if (name.Text is "$crossjoin" or "$filter" && reader.Current.Is('('))
            throw new FaultException(RequestFault.NotImplemented($"'{name.Text}(…)' in a path is not supported.", "path"));
        if (!reader.TryTake('('))
        {
            reader.ExpectEnd();
            return new SegmentSyntax(name.Text, null);
        }
        var parts = ImmutableArray.CreateBuilder<KeyPartSyntax>();
        while (!reader.TryTake(')'))
        {
            if (parts.Count > 0)
                reader.Expect(',', "or ')' in the key");
            parts.Add(KeyPart(reader));
        }
        reader.ExpectEnd();
        return new SegmentSyntax(name.Text, parts.ToImmutable());
    }

    private static KeyPartSyntax KeyPart(TokenReader reader)
    {
        NameSyntax? name = null;
        if (reader.Current.Kind == TokenKind.Name && reader.Following.Is('='))
        {
            name = reader.ExpectName("a key property");
            reader.Take();
        }
        if (reader.Current.Is('@'))
            throw reader.NotImplemented("Parameter aliases are not supported.", reader.Current.Position);
        if (reader.Current.Kind == TokenKind.Null)
            throw reader.Fault("key", "A key value is never null.", reader.Current.Position);
        if (reader.Current.Kind != TokenKind.Literal)
            throw reader.Unexpected("a key value such as 1 or 'AB-001'");
        var token = reader.Take();
        return new KeyPartSyntax(name, new LiteralSyntax(token.Slot, token.Literal, token.Position));
    }

    private static ImmutableArray<OrderTermSyntax> OrderBy(TokenReader reader)
    {
        var terms = ImmutableArray.CreateBuilder<OrderTermSyntax>();
        do
        {
            var expression = new ExpressionParser(reader).Parse();
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
        }
        while (reader.TryTake(','));
        return terms.ToImmutable();
    }

    private static SelectSyntax Select(TokenReader reader)
    {
        var names = ImmutableArray.CreateBuilder<NameSyntax>();
        var all = false;
        do
        {
            if (reader.TryTake('*'))
            {
                all = true;
                continue;
            }
            var name = reader.ExpectName("a property's name or *");
            if (name.Text.Contains('.'))
                throw reader.NotImplemented($"Selecting '{name.Text}' (a qualified name) is not supported.", name.Position);
            if (reader.Current.Is('/') || reader.Current.Is('('))
                throw reader.NotImplemented($"Paths and nested options in $select are not supported: '{name.Text}' is followed by '{reader.Current.Text}'.", reader.Current.Position);
            names.Add(name);
        }
        while (reader.TryTake(','));
        return new SelectSyntax(all, names.ToImmutable());
    }

    private static ImmutableArray<ExpandItemSyntax> Expand(TokenReader reader)
    {
        var items = ImmutableArray.CreateBuilder<ExpandItemSyntax>();
        do
        {
            if (reader.Current.Is('*'))
                throw reader.NotImplemented("$expand=* is not supported; name the navigation properties.", reader.Current.Position);
            var name = reader.ExpectName("a navigation property's name");
            if (name.Text.Contains('.') || reader.Current.Is('/'))
                throw reader.NotImplemented($"$expand takes plain navigation properties; '{name.Text}{(reader.Current.Is('/') ? "/" : "")}' is not supported.", name.Position);
            var item = new ExpandItemSyntax(name, null);
            items.Add(reader.TryTake('(') ? NestedOptions(reader, item) : item);
            if (items.Count > Limits.ExpandItems)
                throw reader.Fault("too-large", $"$expand has more than {Limits.ExpandItems} items.", name.Position);
        }
        while (reader.TryTake(','));
        return items.ToImmutable();
    }

    private static readonly string[] Nested = ["$select", "$filter", "$orderby", "$top"];

    private static ExpandItemSyntax NestedOptions(TokenReader reader, ExpandItemSyntax item)
    {
        var seen = new HashSet<string>();
        do
        {
            var name = reader.ExpectName("a nested option such as $select");
            var canonical = (name.Text.StartsWith('$') ? name.Text : "$" + name.Text).ToLowerInvariant();
            if (canonical is "$skip" or "$count" or "$search" or "$expand" or "$levels" or "$compute" or "$apply")
                throw reader.NotImplemented($"The option {canonical} inside $expand is not supported.", name.Position);
            if (!Nested.Contains(canonical))
                throw reader.Fault("unknown-option", $"'{name.Text}' is not an option of $expand.{NearestName.Hint(canonical, Nested)}", name.Position);
            if (!seen.Add(canonical))
                throw reader.Fault("option-twice", $"The nested option {canonical} is given twice.", name.Position);
            reader.Expect('=', "after the nested option's name");
            var first = reader.Index;
            item = canonical switch
            {
                "$select" => item with { Select = Select(reader) },
                "$filter" => item with { Filter = new ExpressionParser(reader).Parse() },
                "$orderby" => item with { OrderBy = OrderBy(reader) },
                _ => item with { Top = Number(reader, canonical) },
            };
            item = item with { Options = item.Options.Add(new NestedOption(canonical, first, reader.Index)) };
        }
        while (reader.TryTake(';'));
        reader.Expect(')', "to close the nested options");
        return item;
    }

    // Only the kind is looked at here; the value is checked for each request, since a plan serves many values.
    private static int Number(TokenReader reader, string option)
    {
        var token = reader.Take();
        return token is { Kind: TokenKind.Literal, Literal: LiteralKind.Integer }
            ? token.Slot
            : throw reader.Fault("number", $"{option} needs a whole number of at least 0, and '{token.Text}' is none.", token.Position);
    }

    private static bool Boolean(TokenReader reader, LexedRequest request)
    {
        var token = reader.Take();
        if (token is { Kind: TokenKind.Literal, Literal: LiteralKind.Boolean })
            return (bool)request.Literals[token.Slot].Value;
        throw reader.Fault("boolean", $"$count is true or false, not '{token.Text}'.", token.Position);
    }
}
