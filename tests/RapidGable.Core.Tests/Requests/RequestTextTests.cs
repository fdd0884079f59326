using CsCheck;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Requests;
using RapidGable.Requests.OData;

namespace RapidGable.Core.Tests;

/// <summary>Address, tokens and syntax: what a URL's text says, and where it goes wrong.</summary>
public class RequestTextTests
{
    private static string OptionValue(string raw) => RequestAddress.Read("S", "$filter=" + raw).Value!.Options[0].Value;

    [Theory] // form encoders write a blank as plus; an offset's plus stays
    [InlineData("a+eq+1", "a eq 1")]
    [InlineData("t+gt+2024-05-01T10:00:00+02:00", "t gt 2024-05-01T10:00:00+02:00")]
    [InlineData("t+gt+2024-05-01T10%3A00%3A00.125+02%3A00", "t gt 2024-05-01T10:00:00.125+02:00")]
    [InlineData("t+gt+2024-05-01T10:00%2B02:00", "t gt 2024-05-01T10:00+02:00")]
    [InlineData("n+eq+'a%2Bb+c'", "n eq 'a+b c'")]
    [InlineData("n%20eq%20'x'", "n eq 'x'")]
    [InlineData("n+eq+'%C3%A9'", "n eq 'é'")]
    [Proves("Q-04, X-12")]
    public void A_plus_is_a_blank_unless_it_is_an_offsets(string raw, string expected) => Assert.Equal(expected, OptionValue(raw));

    [Theory]
    [InlineData("$filter=%", "encoding")]
    [InlineData("$filter=%4", "encoding")]
    [InlineData("$filter=%zz", "encoding")]
    [InlineData("$filter=%FF", "encoding")]
    [InlineData("$filter=%C3%28", "encoding")]
    [InlineData("$filter=a%00b", "encoding")]
    [Proves("Q-03, X-25")]
    public void Bytes_that_are_no_text_are_refused(string query, string code) =>
        Assert.Equal((400, code), (RequestAddress.Read("S", query).Fault!.Status, RequestAddress.Read("S", query).Fault!.Code));

    [Fact]
    [Proves("U-11")]
    public void An_encoded_slash_belongs_to_its_segment() =>
        Assert.Equal(
            ["Certificates('CAL/2')", "name"],
            RequestAddress.Read("Certificates('CAL%2F2')/name", "").Value!.Segments.Select(s => s.Text)
        );

    [Fact]
    [Proves("U-49, Q-12")]
    public void A_url_is_limited()
    {
        Assert.Equal(414, RequestAddress.Read("S", new string('x', Limits.UrlLength)).Fault!.Status);
        Assert.Null(RequestAddress.Read("S", new string('x', Limits.UrlLength - 1)).Fault);
        Assert.Equal(
            "path-too-long",
            RequestAddress.Read(string.Join('/', Enumerable.Repeat("a", Limits.PathSegments + 1)), "").Fault!.Code
        );
    }

    private static Result<RequestSyntax> Parse(string filter) =>
        NetworkFixture.Lex("S?$filter=" + Uri.EscapeDataString(filter)).Is(out var lexed, out var fault)
            ? RequestParser.Parse(lexed)
            : fault;

    private static string Tree(string filter)
    {
        var lexed = NetworkFixture.Lex("S?$filter=" + Uri.EscapeDataString(filter));
        Assert.True(lexed.Fault is null, lexed.Fault?.Message);
        var parsed = RequestParser.Parse(lexed.Value!);
        Assert.True(parsed.Fault is null, parsed.Fault?.Message);
        return SyntaxText.Print(parsed.Value!.Filter!, lexed.Value!.Literals);
    }

    [Theory]
    [InlineData("a or b and c", "(or a (and b c))")]
    [InlineData("a and b or c", "(or (and a b) c)")]
    [InlineData("(a or b) and c", "(and (or a b) c)")]
    [InlineData("a eq 1 and b ne 2", "(and (eq a 1) (ne b 2))")]
    [InlineData("a add b mul c", "(add a (mul b c))")]
    [InlineData("a sub b sub c", "(sub (sub a b) c)")]
    [InlineData("a gt 1 eq true", "(eq (gt a 1) True)")]
    [InlineData("not a eq b", "(eq (not a) b)")]
    [InlineData("not (a eq b)", "(not (eq a b))")]
    [InlineData("not x in (1,2)", "(not (in x 1 2))")]
    [InlineData("x in (1,null,'a')", "(in x 1 null 'a')")]
    [InlineData("x in ()", "(in x)")]
    [InlineData("-5 lt a", "(lt -5 a)")]
    [InlineData("-(a) lt 5", "(lt (neg a) 5)")]
    [InlineData("- a lt 5", "(lt (neg a) 5)")]
    [InlineData("a/b/c eq 1", "(eq a/b/c 1)")]
    [InlineData("contains(tolower(a),'x') and startswith( b , 'y' )", "(and (contains (tolower a) 'x') (startswith b 'y'))")]
    [InlineData("a EQ 1 AND Contains(b,'x')", "(and (eq a 1) (contains b 'x'))")]
    [InlineData("a divby 2 mod 3 eq 1", "(eq (mod (divby a 2) 3) 1)")]
    [Proves("Q-02, Q-15 to Q-24")]
    public void Operators_bind_by_the_standard(string filter, string expected) => Assert.Equal(expected, Tree(filter));

    [Theory]
    [InlineData("42", LiteralKind.Integer)]
    [InlineData("-9223372036854775808", LiteralKind.Integer)]
    [InlineData("9223372036854775808", LiteralKind.Decimal)]
    [InlineData("3.14", LiteralKind.Decimal)]
    [InlineData("2.5e-3", LiteralKind.Double)]
    [InlineData("1E+2", LiteralKind.Double)]
    [InlineData("INF", LiteralKind.Double)]
    [InlineData("-INF", LiteralKind.Double)]
    [InlineData("NaN", LiteralKind.Double)]
    [InlineData("true", LiteralKind.Boolean)]
    [InlineData("'It''s'", LiteralKind.String)]
    [InlineData("21EC2020-3AEA-1069-A2DD-08002B30309D", LiteralKind.Guid)]
    [InlineData("aaaaaaaa-3aea-1069-a2dd-08002b30309d", LiteralKind.Guid)]
    [InlineData("2024-02-29", LiteralKind.Date)]
    [InlineData("07:59", LiteralKind.TimeOfDay)]
    [InlineData("07:59:59.999", LiteralKind.TimeOfDay)]
    [InlineData("2024-02-29T23:59Z", LiteralKind.DateTimeOffset)]
    [InlineData("2024-02-29T23:59:59.123456789012Z", LiteralKind.DateTimeOffset)]
    [InlineData("2024-02-29T23:59:59-05:30", LiteralKind.DateTimeOffset)]
    [InlineData("2024-02-29T23:59:59 05:30", LiteralKind.DateTimeOffset)]
    [InlineData("duration'P1DT2H3M4.5S'", LiteralKind.Duration)]
    [InlineData("binary'T0RhdGE'", LiteralKind.Binary)]
    [Proves("Q-55 to Q-62, X-12")]
    public void A_literal_has_its_kind(string text, LiteralKind kind)
    {
        var lexed = NetworkFixture.Lex("S?$filter=" + Uri.EscapeDataString("a eq " + text));
        Assert.True(lexed.Fault is null, lexed.Fault?.Message);
        Assert.Equal(kind, Assert.Single(lexed.Value!.Literals).Kind);
    }

    [Fact] // the instant counts, whatever the offset
    [Proves("Q-59")]
    public void An_offset_is_taken_off() =>
        Assert.Equal(
            new DateTime(2024, 2, 29, 21, 30, 0, DateTimeKind.Utc),
            NetworkFixture.Lex("S?$filter=" + Uri.EscapeDataString("a eq 2024-02-29T23:30:00+02:00")).Value!.Literals[0].Value
        );

    [Theory] // wrong text, and where
    [InlineData("a eq", "syntax", 4)]
    [InlineData("a eq 'x", "syntax", 5)]
    [InlineData("(a eq 1", "syntax", 7)]
    [InlineData("a eq 1)", "syntax", 6)]
    [InlineData("a eqq 1", "syntax", 2)]
    [InlineData("a eq 1 b", "syntax", 7)]
    [InlineData("a # b", "syntax", 2)]
    [InlineData("a eq 5.5L", "literal", 5)]
    [InlineData("a eq 2e5M", "literal", 5)]
    [InlineData("a eq datetime'2024-01-01'", "literal", 5)]
    [InlineData("a eq guid'21ec2020-3aea-1069'", "literal", 5)]
    [InlineData("a eq 2023-02-29", "literal", 5)]
    [InlineData("a eq 24:00:00", "literal", 5)]
    [InlineData("a eq 2024-02-29T23:59:59", "literal", 5)]
    [InlineData("a eq duration'P1M'", "literal", 5)]
    [InlineData("a eq Color'Red'", "literal", 5)]
    [InlineData("nosuch(a) eq 1", "unknown-function", 0)]
    [InlineData("a eq contians(b,'x')", "unknown-function", 5)]
    [InlineData("a in (b)", "syntax", 6)]
    [InlineData("a eq(1)", "syntax", 2)]
    [InlineData("a eq \u0001", "syntax", 5)]
    [Proves("U-49, Q-05, Q-46, Q-65")]
    public void A_wrong_filter_is_refused_with_its_place(string filter, string code, int position)
    {
        var fault = Parse(filter).Fault;
        Assert.NotNull(fault);
        Assert.Equal((400, code, position), (fault.Status, fault.Code, fault.Position));
        Assert.Equal("$filter", fault.Target);
    }

    [Theory] // valid, and not offered
    [InlineData("hassubset(a,b)")]
    [InlineData("cast(a,Collection(Edm.String)) eq b")]
    [InlineData("@Core.Description eq 'x'")]
    [InlineData("a eq $root/Sets eq 1")]
    [InlineData("geo.distance(a,b) lt 5")]
    [InlineData("a eq geography'SRID=0;Point(1 1)'")]
    [Proves("U-53, Q-07, Q-71")]
    public void What_is_valid_but_not_offered_is_501(string filter) => Assert.Equal(501, Parse(filter).Fault?.Status);

    [Theory]
    [InlineData("top=1", null)]
    [InlineData("$TOP=1", null)]
    [InlineData("TOP=1&$skip=1", null)]
    [InlineData("$top=1&top=2", "option-twice")]
    [InlineData("$filter=a eq 1&$filter=b eq 1", "option-twice")]
    [InlineData("$serach=x", "unknown-option")]
    [InlineData("page=2", "unknown-option")]
    [InlineData("$apply=aggregate($count as n)", null)]
    [InlineData("$apply=aggregate(a with sum)", "syntax")]
    [InlineData("$apply=aggregate(a)", "syntax")]
    [InlineData("$apply=aggregate(a with sum from b with average as x)", "not-implemented")]
    [InlineData("$apply=groupby(a)", "syntax")]
    [InlineData("$apply=groupby((rollup(a)))", "arguments")]
    [InlineData("$apply=concat(identity)", "arguments")]
    [InlineData("$apply=filter(a eq 1)/", "syntax")]
    [InlineData("$apply=search(\"x\" OR y)/identity", null)]
    [InlineData("$top=1.5", "number")]
    [InlineData("$top=x", "number")]
    [InlineData("$top=", "number")]
    [InlineData("$count=yes", "boolean")]
    [InlineData("$skiptoken=abc", "skiptoken")]
    [InlineData("$orderby=a sideways", "syntax")]
    [InlineData("$orderby=a,", "syntax")]
    [InlineData("$select=a,,b", "syntax")]
    [InlineData("$expand=a($selct=b)", "unknown-option")]
    [InlineData("$expand=a($select=b", "syntax")]
    [InlineData("$expand=a/b", "not-a-path")]
    [InlineData("$expand=a($levels=0)", "number")]
    [InlineData("$expand=a($levels=9999)", "too-deep")]
    [InlineData("$expand=a($levels=max)", null)]
    [InlineData("$expand=*($filter=b eq 1)", "option-not-here")]
    [InlineData("$expand=a/$ref($select=b)", "option-not-here")]
    [InlineData("$expand=a/$count($top=1)", "option-not-here")]
    [InlineData("$expand=a($expand=a($expand=a($expand=a($expand=a($expand=a($expand=a($expand=a)))))))", null)]
    [InlineData("$expand=a($search=\"x)y\";$top=1)", null)]
    [InlineData("$expand=a($search=)", "syntax")]
    [InlineData("$search=x", null)]
    [InlineData("$search=", "syntax")]
    [InlineData("$search=\"x", "syntax")]
    [InlineData("$search=(x", "syntax")]
    [InlineData("$search=x)", "syntax")]
    [InlineData("$search=AND", "syntax")]
    [InlineData("$search=x OR", "syntax")]
    [InlineData("$search=NOT NOT x", "syntax")]
    [InlineData("$search=\"\"", "syntax")]
    [InlineData("$compute=a add 1", "syntax")]
    [InlineData("$compute=a add 1 as", "syntax")]
    [InlineData("$compute=a add 1 as b.c", "syntax")]
    [InlineData("$compute=a add 1 as b,b add 1 as c", null)]
    [InlineData("$select=a/b", null)]
    [InlineData("$select=a($select=b)", null)]
    [InlineData("$select=a($top=1)", "not-implemented")]
    [InlineData("$select=a($x=1)", "unknown-option")]
    [InlineData("@p=1", null)]
    [InlineData("@p=1&@p=2", "option-twice")]
    [InlineData("@1=1", "alias")]
    [InlineData("$filter=a eq @p&@p=", "alias")]
    [InlineData("$filter=a eq @p&@p=@p", "alias")]
    [InlineData("$filter=a eq @p&@p=@q&@q=@p", "alias")]
    [InlineData("$filter=a in @p&@p=[1,2]", null)]
    [InlineData("$filter=a eq @p&@p=[1,2]", "type")]
    [InlineData("$filter=a in @p&@p=[1,", "literal")]
    [InlineData("$filter=a in @p&@p=[[1]]", "not-implemented")]
    [InlineData("$filter=a in @p&@p=1", "syntax")]
    [InlineData("$filter=case(a:1", "syntax")]
    [InlineData("$filter=case()", "syntax")]
    [InlineData("$filter=cast(a) eq 1", "syntax")]
    [InlineData("$filter=b/$count($top=1) eq 1", "option-not-here")]
    [Proves("Q-01, Q-06 to Q-08, Q-64, Q-69, Q-78, Q-79, Q-81, Q-84, Q-85, Q-88, Q-94, Q-95")]
    public void Options_are_read_or_refused(string query, string? code)
    {
        var result = NetworkFixture.Lex("S?" + query).Is(out var lexed, out var fault)
            ? RequestParser.Parse(lexed)
            : (Result<RequestSyntax>)fault;
        Assert.Equal(code, result.Fault?.Code);
    }

    [Fact]
    [Proves("Q-12")]
    public void Aliases_do_not_multiply_beyond_the_limit()
    {
        var aliases = string.Concat(Enumerable.Range(0, 30).Select(i => $"&@a{i}=@a{i + 1} add @a{i + 1}"));
        var lexed = NetworkFixture.Lex("S?$filter=a eq @a0" + aliases + "&@a30=1").Value!;
        Assert.Equal("too-large", RequestParser.Parse(lexed).Fault!.Code);
    }

    [Fact]
    [Proves("Q-12")]
    public void Depth_and_size_are_limited()
    {
        string Nested(int depth) => new string('(', depth) + "a eq 1" + new string(')', depth);
        // The comparison inside and the whole are levels too.
        Assert.Null(Parse(Nested(Limits.ExpressionDepth - 2)).Fault);
        Assert.Equal("too-deep", Parse(Nested(Limits.ExpressionDepth - 1)).Fault!.Code);
        Assert.Equal("too-large", Parse(Nested(2_000)).Fault!.Code);
        Assert.Equal("too-deep", Parse(string.Concat(Enumerable.Repeat("not ", 500)) + "a").Fault!.Code);
        Assert.Equal("too-large", Parse(string.Join(" or ", Enumerable.Repeat("a", 600))).Fault!.Code);
        Assert.Null(Parse($"a in ({string.Join(',', Enumerable.Repeat(1, Limits.InMembers))})").Fault);
        Assert.Equal("too-large", Parse($"a in ({string.Join(',', Enumerable.Repeat(1, Limits.InMembers + 1))})").Fault!.Code);
    }

    [Fact]
    public void Expansions_nest_as_deep_as_a_workspace_may_allow_at_most()
    {
        string Nested(int depth) => depth == 1 ? "a" : $"a($expand={Nested(depth - 1)})";
        RequestFault? Fault(int depth) => RequestParser.Parse(NetworkFixture.Lex("S?$expand=" + Nested(depth)).Value!).Fault;
        Assert.Null(Fault(Limits.ExpandDepth));
        Assert.Equal("too-deep", Fault(Limits.ExpandDepth + 1)!.Code);
    }

    [Theory] // one plan for a shape, whatever the values
    [InlineData("a eq 1", "a eq 2", true)]
    [InlineData("a eq 'x'", "a eq 'y y'", true)]
    [InlineData("a eq 1", "a eq 'x'", false)]
    [InlineData("a eq 1", "a eq null", false)]
    [InlineData("a eq 1", "b eq 1", false)]
    [InlineData("a in (1,2)", "a in (1,2,3)", false)]
    public void The_shape_leaves_values_out(string one, string other, bool same) =>
        Assert.Equal(same, NetworkFixture.Lex("S?$filter=" + one).Value!.Shape == NetworkFixture.Lex("S?$filter=" + other).Value!.Shape);

    [Theory]
    [InlineData("S?$count=true", "S?$count=false")]
    [InlineData("S?$top=1", "S?$skip=1")]
    [InlineData("S(1)", "S")]
    [InlineData("S/T", "S?T")]
    public void Different_requests_have_different_shapes(string one, string other) =>
        Assert.NotEqual(NetworkFixture.Lex(one).Value?.Shape, NetworkFixture.Lex(other).Value?.Shape);

    [Fact]
    public void Parsing_a_printed_expression_gives_the_expression_back() =>
        SyntaxText.Random.Sample(
            text =>
            {
                var tree = Tree(text);
                Assert.Equal(tree, Tree(SyntaxText.ToUrl(tree)));
            },
            iter: 2_000
        );

    [Fact] // the parser's own promise: any text gives a tree or a fault, never anything else
    public void Any_text_is_parsed_or_refused() =>
        Gen.String[Gen.Char["()',./ abeqno01'-:T$@*\u00e9\0%"], 0, 60]
            .Sample(
                text =>
                {
                    var result =
                        RequestAddress.Read("S", "$filter=" + text).Is(out var address, out _)
                        && LexedRequest.Read(address).Is(out var lexed, out _)
                            ? RequestParser.Parse(lexed).Fault?.Status ?? 200
                            : 400;
                    Assert.Contains(result, new[] { 200, 400, 501 });
                },
                iter: 20_000
            );

    [Fact]
    public void A_skip_token_comes_back_as_it_was() =>
        Gen.OneOf(
                Gen.Const(StoredValue.Null),
                Gen.Long.Select(StoredValue.From),
                Gen.Double.Select(StoredValue.From),
                Gen.String.Where(s => !s.Any(char.IsSurrogate)).Select(StoredValue.From)
            )
            .Array[1, 5]
            .Sample(values => Assert.Equal(values, PagePosition.Read(new PagePosition("o", [.. values]).Write())!.Values));
}
