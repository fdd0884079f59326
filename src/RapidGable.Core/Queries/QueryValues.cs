using System.Security.Cryptography;
using System.Text;
using RapidGable.Model;
using RapidGable.Requests;
using RapidGable.Sources;

namespace RapidGable.Queries;

/// <summary>What one request brings to the statements of its shape: literals, position, page and time.</summary>
public sealed class QueryValues
{
    private readonly IReadOnlyList<Literal> _literals;
    private readonly SkipToken? _skipToken;
    private readonly DateTime _now;
    private readonly Lazy<string> _order;

    private QueryValues(LexedRequest lexed, BoundRequest request, DateTime now)
    {
        _literals = lexed.Literals;
        _skipToken = lexed.SkipToken;
        _now = now;
        _order = new Lazy<string>(() => Fingerprint(request.Path.Target, lexed.Texts.GetValueOrDefault("$orderby", "")), isThreadSafe: false);
    }

    /// <summary>Rows that this answer holds at most.</summary>
    public int PageRows { get; private init; }

    /// <summary>Rows to fetch: one more than <see cref="PageRows"/> when a next page is possible.</summary>
    public int FetchRows { get; private init; }

    /// <summary>The asked <c>$top</c>; null = none.</summary>
    public long? Top { get; private init; }

    public long Skip { get; private init; }

    /// <summary>Children that this answer holds for each parent at most.</summary>
    public int ChildRows { get; private init; }

    /// <summary>Fingerprint of the order of this request, which its next link carries.</summary>
    public string Order => _order.Value;

    /// <param name="maxPageSize">From the preference; null = not asked.</param>
    public static Result<QueryValues> Make(BoundRequest request, LexedRequest lexed, int? maxPageSize, DateTime now)
    {
        foreach (var slot in new[] { request.Top, request.Skip })
        {
            if (slot is { } number && lexed.Literals[number] is { Value: long and < 0 } literal)
                return new RequestFault(400, "number", $"{literal.Target} needs a whole number of at least 0, not {literal.Value}.", literal.Target, literal.Text, literal.Position);
        }
        var top = request.Top is { } topSlot ? (long?)lexed.Literals[topSlot].Value : null;
        var skip = request.Skip is { } skipSlot ? (long)lexed.Literals[skipSlot].Value : 0;
        if (request.Path.Root is null)
            return new QueryValues(lexed, request, now);
        var set = request.Path.Target;
        var page = Page(set, maxPageSize);
        var rows = (int)Math.Min(page, top ?? page);
        var values = new QueryValues(lexed, request, now)
        {
            Top = top,
            Skip = skip,
            PageRows = rows,
            FetchRows = top is { } asked && asked <= page ? rows : rows + 1,
            ChildRows = request.Expand.Where(e => e.Navigation.IsCollection).Select(e => Page(e.Target, maxPageSize)).DefaultIfEmpty(0).Min(),
        };
        return lexed.SkipToken is { } token && token.Order != values.Order ? RequestFault.ForeignSkipToken : values;
    }

    private static int Page(EntitySet set, int? maxPageSize) => Math.Min(maxPageSize ?? set.PageSize, set.LargestPage);

    /// <summary>A short text that is the same for the same set and order, and different for another.</summary>
    public static string Fingerprint(EntitySet set, string orderBy) =>
        Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes($"{set.Name}\n{orderBy}")).AsSpan(0, 4));

    /// <summary>The values of a statement's parameters, in their order.</summary>
    public Result<StoredValue[]> Bind(SqlStatement statement, SqlDialect dialect)
    {
        var values = new StoredValue[statement.Parameters.Length];
        for (var i = 0; i < values.Length; i++)
        {
            switch (statement.Parameters[i])
            {
                case LiteralParameter parameter:
                    var literal = _literals[parameter.Slot];
                    if (Converted(literal, parameter.Type) is not { } value)
                        return new RequestFault(400, "type", $"'{literal.Value}' is not a value of {parameter.Type.Name}.", literal.Target, literal.Text, literal.Position);
                    values[i] = dialect.Encode(value, parameter.Type, parameter.StorageForm);
                    break;
                case SeekParameter seek:
                    values[i] = _skipToken!.Values[seek.Index];
                    break;
                case LimitParameter:
                    values[i] = StoredValue.From((long)FetchRows);
                    break;
                case SkipParameter:
                    values[i] = StoredValue.From(Skip);
                    break;
                case ChildLimitParameter:
                    values[i] = StoredValue.From(ChildRows + 1L);
                    break;
                case NowParameter now:
                    values[i] = dialect.Encode(_now, EdmType.DateTimeOffset, now.StorageForm);
                    break;
            }
        }
        return values;
    }

    private static object? Converted(Literal literal, EdmType type) => type.Kind switch
    {
        EdmKind.Duration when literal.Value is string text => Lexer.TryDuration(text, out var duration) ? duration : null,
        EdmKind.Decimal when literal.Value is long number => (decimal)number,
        _ => literal.Value,
    };
}
