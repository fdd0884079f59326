using Microsoft.Net.Http.Headers;
using RapidGable.Changes;
using RapidGable.Expressions;
using RapidGable.Payloads;
using RapidGable.Payloads.Json;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.OData;

namespace RapidGable.Service.Faces.OData;

/// <summary>A request whose body has been read.</summary>
internal sealed record ODataChangeRequest(ChangeRequest Request, ODataJsonBody? Body, Negotiated Answer)
{
    /// <summary>It may be sent again; null = it is what it is.</summary>
    public Repeatable? Repeatable { get; init; }
}

/// <summary>What stands in the headers and the body of a request that changes something (Protocol 11.4).</summary>
internal sealed class ODataChangeReader(ODataExchange exchange, TimeProvider time)
{
    /// <summary>Reads headers and body, and looks at the options about the answer before anything is done.</summary>
    public async Task<Result<ODataChangeRequest>> ReadAsync(
        ChangeVerb verb,
        PreparedChange change,
        LexedRequest lexed,
        ChangeOptions options
    )
    {
        var read = await ReadBodyAsync(verb, change, lexed, options);
        if (read.Value is { Request.Change.Request.Path.Root: not null } && options.Answer.Count > 0 && verb != ChangeVerb.Delete)
        {
            var path = exchange.Service.ModelFor(exchange.Caller).FindSet(change.Request.Path.Target.Name)
                is { ContainedIn: null, IsFunction: false } set
                ? set.Name
                : null;
            if (
                path is not null
                && RequestAddress.Read(path, string.Join('&', options.Answer.Select(o => o.Raw))).Is(out var address, out var fault)
                && (
                    !LexedRequest.Read(address).Is(out var asked, out fault)
                    || !exchange.Service.Prepare(asked, exchange.Caller).Is(out _, out fault)
                )
            )
            {
                read.Value.Body?.Dispose();
                return fault;
            }
        }
        return read;
    }

    private async Task<Result<ODataChangeRequest>> ReadBodyAsync(
        ChangeVerb verb,
        PreparedChange change,
        LexedRequest lexed,
        ChangeOptions options
    )
    {
        if (
            !Negotiation
                .Content(BodyKind.Json, exchange.Version, exchange.Request.Headers.Accept, options.Format, "")
                .Is(out var answer, out var fault)
            || !Conditions().Is(out var preconditions, out fault)
            || !(await Bodies.ReadAsync(exchange)).Is(out var body, out fault)
            || !Repeatable.Of(exchange.Context, exchange.Service.Model.Service, exchange.Caller, body, time).Is(out var again, out fault)
        )
            return fault;
        ODataChangeRequest Read(ODataJsonBody? sent, byte[]? content, string? contentType)
        {
            var request = new ChangeRequest(verb, change, lexed, sent, content, contentType, preconditions, new ODataAddresses(PathOf))
            {
                Id = options.Id,
                MayRemoveAllReferences = !Is40(),
                ContinuesOnError =
                    exchange.Preferences.ContinueOnError && change.Request.Path.Kind == ResourceKind.Collection && verb != ChangeVerb.Post,
            };
            return new ODataChangeRequest(request, sent, answer) { Repeatable = again as Repeatable };
        }

        if (verb == ChangeVerb.Delete)
            return Read(null, null, null);
        if (!StreamContent.TypeOf(exchange.Request).Is(out var type, out fault))
            return fault;
        if (change.Request.Path.Kind == ResourceKind.RawValue)
            return StreamContent.NotTaken(change.Request.Path.Property!, type) is { } wanted
                ? Refused(verb, wanted, type)
                : Read(null, body, exchange.Request.ContentType);
        if (!type.MediaType.Equals("application/json", StringComparison.OrdinalIgnoreCase))
            return Refused(verb, "application/json", type);
        return Json(body, type).Is(out var json, out fault) ? Read(json, null, null) : fault;
    }

    /// <summary>The body of a call of an action.</summary>
    public Result<ODataJsonBody> Arguments(byte[] body) =>
        !StreamContent.TypeOf(exchange.Request).Is(out var type, out var fault) ? fault
        : type.MediaType.Equals("application/json", StringComparison.OrdinalIgnoreCase) ? Json(body, type)
        : Refused(ChangeVerb.Post, "application/json", type);

    private RequestFault Refused(ChangeVerb verb, string wanted, MediaTypeHeaderValue type)
    {
        exchange.Response.Headers[verb == ChangeVerb.Patch ? "Accept-Patch" : HeaderNames.Accept] = wanted;
        return new RequestFault(415, "content-type", $"This resource takes {wanted}, not {type.MediaType}.", "Content-Type");
    }

    private Result<ODataJsonBody> Json(byte[] body, MediaTypeHeaderValue type)
    {
        if (!TakesNumbersAsText(type).Is(out var asText, out var fault))
            return fault;
        if (!ODataJsonBody.Parse(body, new ODataJsonForm(Is40(), asText == "true")).Is(out var json, out fault))
            return fault;
        if (OlderBody.Fault(json.Json) is not { } older)
            return json;
        json.Dispose();
        return older;
    }

    /// <summary>Whether numbers come as texts, as <c>true</c> or <c>false</c>; the fault is about an unknown parameter.</summary>
    private static Result<string> TakesNumbersAsText(MediaTypeHeaderValue type)
    {
        var asText = "false";
        foreach (var parameter in type.Parameters)
        {
            var value = parameter.Value.ToString().Trim('"').ToLowerInvariant();
            switch (parameter.Name.ToString().ToLowerInvariant(), value)
            {
                case ("ieee754compatible", "true" or "false"):
                    asText = value;
                    break;
                case
                ("odata.metadata" or "metadata", "minimal" or "full" or "none")
                or
                ("odata.streaming" or "streaming" or "exponentialdecimals", "true" or "false")
                or ("charset", "utf-8" or "utf8" or "us-ascii"):
                // The words of versions 1 to 3: what they mean is told by the body itself.
                case ("odata", "minimalmetadata" or "nometadata" or "fullmetadata" or "light" or "verbose"):
                    break;
                default:
                    return new RequestFault(
                        415,
                        "content-type",
                        $"The parameter '{parameter.Name}={parameter.Value}' of the Content-Type is not known.",
                        "Content-Type"
                    );
            }
        }
        return asText;
    }

    /// <summary>The version of the body (Protocol 8.1.5).</summary>
    private bool Is40() =>
        exchange.Request.Headers["OData-Version"].ToString().Trim() switch
        {
            "4.0" => true,
            "4.01" => false,
            _ => exchange.Request.Headers.ContainsKey("OData-MaxVersion") && exchange.Version == ODataVersion.V40,
        };

    private Result<Preconditions> Conditions()
    {
        var (match, wrong) = Validators.Tags(exchange.Request.Headers.IfMatch, "If-Match");
        var (noneMatch, alsoWrong) = Validators.Tags(exchange.Request.Headers.IfNoneMatch, "If-None-Match");
        return (wrong ?? alsoWrong) is { } fault ? fault : new Preconditions(match, noneMatch);
    }

    /// <summary>An address of an entity as a path below the service root; what a part of a batch made is known by its id.</summary>
    private string? PathOf(string reference)
    {
        var root = new Uri(exchange.Root).AbsolutePath;
        if (reference.StartsWith('$') && InnerExchange.AddressOf(exchange.Context, reference) is { } made)
            reference = made;
        var path =
            reference.StartsWith(exchange.Root, StringComparison.Ordinal) ? reference[exchange.Root.Length..]
            : reference.StartsWith(root, StringComparison.Ordinal) ? reference[root.Length..]
            : reference;
        return
            path.Contains("://", StringComparison.Ordinal)
            || path.StartsWith('/')
            || path.StartsWith('$')
            || path.Contains('?')
            || path.Length == 0
            ? null
            : path;
    }
}
