using System.Collections.Immutable;
using RapidGable.Expressions;
using RapidGable.Model;

namespace RapidGable.Requests.OData;

/// <summary>The grammar of <c>$apply</c> (Data Aggregation 3).</summary>
internal sealed class ApplyParser(TokenReader reader, ParameterAliases aliases)
{
    private static readonly string[] Later = ["expand", "nest", "addnested", "join", "outerjoin", "ancestors", "descendants", "traverse"];

    private int _count;
    private int _depth;

    public ImmutableArray<TransformationSyntax> Parse()
    {
        if (++_depth > 8)
            throw reader.Fault("too-deep", "$apply nests more than 8 levels deep.", reader.Current.Position);
        var steps = ImmutableArray.CreateBuilder<TransformationSyntax>();
        do
        {
            steps.Add(Step());
            if (++_count > Limits.Transformations)
                throw reader.Fault("too-large", $"$apply has more than {Limits.Transformations} transformations.", reader.Current.Position);
        } while (reader.TryTake('/'));
        _depth--;
        return steps.ToImmutable();
    }

    private TransformationSyntax Step()
    {
        var name = reader.ExpectName("a transformation such as groupby or aggregate");
        var word = name.Text.ToLowerInvariant();
        if (word == "identity")
            return new IdentitySyntax(name.Position);
        if (Later.Contains(word) || word.Contains('.'))
            throw reader.NotImplemented($"The transformation {name.Text} is not supported.", name.Position);
        if (!Transformations.Known.Contains(word))
            throw reader.Fault(
                "unknown-function",
                $"There is no transformation '{name.Text}'.{NearestName.Hint(word, Transformations.Known)}",
                name.Position
            );
        reader.Expect('(', $"after {word}");
        TransformationSyntax step = word switch
        {
            "filter" => new RestrictSyntax(Expression(), name.Position),
            "search" => new FindSyntax(new SearchParser(reader.Take().Text, "$apply", null, null).Read(), name.Position),
            "compute" => new ExtendSyntax(Computed(), name.Position),
            "groupby" => Group(name.Position),
            "aggregate" => new AggregateSyntax(Aggregates(), name.Position),
            "concat" => Concat(name.Position),
            "orderby" => new SliceSyntax(Order(), null, null, name.Position),
            "skip" => new SliceSyntax([], Number(word), null, name.Position),
            "top" => new SliceSyntax([], null, Number(word), name.Position),
            _ => Rank(word, name.Position),
        };
        reader.Expect(')', $"to close {word}");
        return step;
    }

    private ExpressionSyntax Expression() => new ExpressionParser(reader, aliases, aliases.Steps).Parse();

    private NameSyntax Alias()
    {
        if (!IsWord("as"))
            throw reader.Unexpected("'as' and a name for the value");
        reader.Take();
        var name = reader.ExpectName("a name for the value");
        return SimpleIdentifier.IsValid(name.Text)
            ? name
            : throw reader.Fault("syntax", $"'{name.Text}' cannot be the name of a property.", name.Position);
    }

    private bool IsWord(string word) =>
        reader.Current.Kind == TokenKind.Name && reader.Current.Text.Equals(word, StringComparison.OrdinalIgnoreCase);

    private ImmutableArray<ComputeItemSyntax> Computed()
    {
        var items = ImmutableArray.CreateBuilder<ComputeItemSyntax>();
        do items.Add(new ComputeItemSyntax(Expression(), Alias()));
        while (reader.TryTake(','));
        return items.ToImmutable();
    }

    private GroupSyntax Group(int position)
    {
        reader.Expect('(', "to start the properties to group by");
        var keys = ImmutableArray.CreateBuilder<ImmutableArray<NameSyntax>>();
        var rollups = ImmutableArray.CreateBuilder<RollupSyntax>();
        do
        {
            if (IsWord("rollup") && reader.Following.Is('('))
                rollups.Add(Rollup());
            else
                keys.Add(Path());
        } while (reader.TryTake(','));
        reader.Expect(')', "after the properties to group by");
        var then = reader.TryTake(',') ? Parse() : [];
        return new GroupSyntax(keys.ToImmutable(), rollups.ToImmutable(), then, position);
    }

    private RollupSyntax Rollup()
    {
        var word = reader.Take();
        reader.Take();
        var all = false;
        var levels = ImmutableArray.CreateBuilder<ImmutableArray<NameSyntax>>();
        do
        {
            if (levels.Count == 0 && !all && reader.Current is { Kind: TokenKind.Name, Text: "$all" })
            {
                reader.Take();
                all = true;
            }
            else
                levels.Add(Path());
        } while (reader.TryTake(','));
        reader.Expect(')', "to close rollup");
        return levels.Count > (all ? 0 : 1)
            ? new RollupSyntax(all, levels.ToImmutable())
            : throw reader.Fault("arguments", "rollup takes at least two levels, or $all and one.", word.Position);
    }

    private ImmutableArray<NameSyntax> Path()
    {
        var names = ImmutableArray.CreateBuilder<NameSyntax>();
        do names.Add(reader.ExpectName("a property"));
        while (reader.TryTake('/'));
        return names.ToImmutable();
    }

    private ImmutableArray<AggregateItemSyntax> Aggregates()
    {
        var items = ImmutableArray.CreateBuilder<AggregateItemSyntax>();
        do
        {
            var start = reader.Current;
            if (start is { Kind: TokenKind.Name, Text: "$count" })
            {
                reader.Take();
                items.Add(new AggregateItemSyntax(null, null, Alias()));
                continue;
            }
            var value = Expression();
            NameSyntax? method = null;
            if (IsWord("with"))
            {
                reader.Take();
                method = reader.ExpectName("a method such as sum");
            }
            else if (value is not CountSyntax)
                throw reader.Fault(
                    "syntax",
                    $"A method is needed after '{start.Text}': with sum, min, max, average or countdistinct. This service has "
                        + $"no aggregates of its own.",
                    start.Position
                );
            if (IsWord("from"))
                throw reader.NotImplemented("'from' in aggregate is not supported; group twice instead.", reader.Current.Position);
            items.Add(new AggregateItemSyntax(value, method, Alias()));
        } while (reader.TryTake(','));
        return items.ToImmutable();
    }

    private ConcatSyntax Concat(int position)
    {
        var sequences = ImmutableArray.CreateBuilder<ImmutableArray<TransformationSyntax>>();
        do sequences.Add(Parse());
        while (reader.TryTake(','));
        return sequences.Count > 1
            ? new ConcatSyntax(sequences.ToImmutable(), position)
            : throw reader.Fault("arguments", "concat takes at least two sequences.", position);
    }

    private RankSyntax Rank(string word, int position)
    {
        var token = reader.Take();
        if (token is not { Kind: TokenKind.Literal, Literal: LiteralKind.Integer or LiteralKind.Decimal })
            throw reader.Fault("number", $"{word} starts with a number, not '{token.Text}'.", token.Position);
        if (word.EndsWith("count", StringComparison.Ordinal) && token.Literal != LiteralKind.Integer)
            throw reader.Fault("number", $"{word} starts with a whole number, not '{token.Text}'.", token.Position);
        reader.Expect(',', $"and an expression in {word}");
        var isTop = word.StartsWith("top", StringComparison.Ordinal);
        var kind =
            word.EndsWith("count", StringComparison.Ordinal) ? RankKind.Count
            : word.EndsWith("sum", StringComparison.Ordinal) ? RankKind.Sum
            : RankKind.Percent;
        return new RankSyntax(kind, isTop, new LiteralSyntax(token.Slot, token.Literal, token.Position), Expression(), position);
    }

    private ImmutableArray<OrderTermSyntax> Order()
    {
        var terms = ImmutableArray.CreateBuilder<OrderTermSyntax>();
        do
        {
            var expression = Expression();
            var descending = IsWord("desc");
            if (descending || IsWord("asc"))
                reader.Take();
            terms.Add(new OrderTermSyntax(expression, descending));
        } while (reader.TryTake(','));
        return terms.ToImmutable();
    }

    private int Number(string word)
    {
        var token = reader.Take();
        return token is { Kind: TokenKind.Literal, Literal: LiteralKind.Integer }
            ? token.Slot
            : throw reader.Fault("number", $"{word} needs a whole number of at least 0, and '{token.Text}' is none.", token.Position);
    }
}
