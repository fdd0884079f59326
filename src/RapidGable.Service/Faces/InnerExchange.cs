using Microsoft.AspNetCore.Http;
using Microsoft.AspNetCore.Http.Features;
using RapidGable.Access;
using RapidGable.Changes;
using RapidGable.Expressions;
using RapidGable.Sources;

namespace RapidGable.Service.Faces;

/// <summary>A request that stands inside of another one.</summary>
/// <param name="Target">Path and query from the slash after the host on.</param>
internal sealed record InnerRequest(string Method, string Target, IReadOnlyList<(string Name, string Value)> Headers, byte[] Body);

/// <summary>Its answer, held in memory.</summary>
internal sealed record InnerResponse(int Status, IReadOnlyList<(string Name, string Value)> Headers, byte[] Body)
{
    /// <summary>Bytes of the request's allowance that it holds.</summary>
    public long Held { get; init; }

    public bool IsSuccess => Status is >= 200 and < 400;

    public string? ContentType => Headers.FirstOrDefault(h => h.Name.Equals("Content-Type", StringComparison.OrdinalIgnoreCase)).Value;
}

/// <summary>Runs requests that do not come over a connection of their own: parts of a batch, and those that are answered later.</summary>
internal static class InnerExchange
{
    private sealed record Mark(Caller Caller, ChangeUnit? Unit, Func<string, string?>? AddressOf, bool IsPart, RequestAllowance Allowance)
        : IInnerMark;

    public static bool Is(HttpContext context) => context.Features.Get<Mark>() is not null;

    /// <summary>What the request that this one stands in may take; null = it stands in none.</summary>
    public static RequestAllowance? AllowanceOf(HttpContext context) => context.Features.Get<Mark>()?.Allowance;

    /// <summary>Whether the request is a part of a batch, which holds no other batch, in whatever form it is asked for.</summary>
    public static bool IsPart(HttpContext context) => context.Features.Get<Mark>() is { IsPart: true };

    /// <summary>Who sent the request that this one stands in; null = it stands in none.</summary>
    public static Caller? CallerOf(HttpContext context) => context.Features.Get<Mark>()?.Caller;

    /// <summary>The changes that this request is to be done together with; null = it stands alone.</summary>
    public static ChangeUnit? UnitOf(HttpContext context) => context.Features.Get<Mark>()?.Unit;

    /// <summary>
    /// The address of what another part of the same batch made or is about, by a reference such as <c>$1</c>; null = there is none.
    /// </summary>
    public static string? AddressOf(HttpContext context, string reference) => context.Features.Get<Mark>()?.AddressOf?.Invoke(reference);

    /// <param name="allowance">What it may take; the answer holds its bytes of that until they are given back.</param>
    /// <param name="unit">The changes that it is done together with; null = it stands alone.</param>
    /// <param name="addressOf">Addresses by their references; null = there are none.</param>
    /// <param name="isPart">It is a part of a batch.</param>
    public static async Task<InnerResponse> RunAsync(
        HttpContext outer,
        Caller caller,
        InnerRequest request,
        IFace face,
        FacePipeline pipeline,
        RequestAllowance allowance,
        CancellationToken cancellation,
        ChangeUnit? unit = null,
        Func<string, string?>? addressOf = null,
        bool isPart = false
    )
    {
        var context = new DefaultHttpContext { RequestServices = outer.RequestServices, RequestAborted = cancellation };
        var mark = new Mark(caller, unit, addressOf, isPart || IsPart(outer), allowance);
        context.Features.Set(mark);
        context.Features.Set<IInnerMark>(mark);
        context.Features.Set(outer.Features.Get<TrialMark>());
        var lifetime = new Lifetime(cancellation);
        context.Features.Set<IHttpRequestLifetimeFeature>(lifetime);
        context.Connection.RemoteIpAddress = outer.Connection.RemoteIpAddress;
        context.Request.Method = request.Method;
        context.Request.Scheme = outer.Request.Scheme;
        context.Request.Host = outer.Request.Host;
        context.Features.Get<IHttpRequestFeature>()!.RawTarget = request.Target;
        foreach (var (name, value) in request.Headers)
            context.Request.Headers.Append(name, value);
        context.Request.Body = new MemoryStream(request.Body);
        context.Request.ContentLength = request.Body.Length;
        using var body = new BoundedStream(pipeline.Limits.HeldAnswerBytes, allowance);
        context.Response.Body = body;
        await pipeline.HandleAsync(face, context);
        // A fault after the first bytes leaves half an answer, which nobody may see.
        if (lifetime.IsAborted || body.IsFull)
        {
            var isFull = body.IsFull;
            context.Response.Clear();
            body.Restart();
            await pipeline.FailAsync(
                face,
                context,
                body.Exceeded is { } exceeded ? Faults.From(exceeded)
                    : isFull
                        ? new RequestFault(
                            413,
                            "too-large",
                            $"The answer is larger than {pipeline.Limits.HeldAnswerBytes} bytes; ask for less, or for it alone."
                        )
                    : Faults.Internal
            );
        }
        var headers = context.Response.Headers.SelectMany(h => h.Value.Select(v => (h.Key, v ?? ""))).ToList();
        return new InnerResponse(context.Response.StatusCode, headers, body.ToArray()) { Held = body.Taken };
    }

    private sealed class Lifetime(CancellationToken cancellation) : IHttpRequestLifetimeFeature
    {
        public bool IsAborted { get; private set; }

        public CancellationToken RequestAborted { get; set; } = cancellation;

        public void Abort() => IsAborted = true;
    }

    /// <summary>Memory up to a limit, out of an allowance; what comes after it is dropped and noted.</summary>
    private sealed class BoundedStream(int most, RequestAllowance allowance) : MemoryStream
    {
        public bool IsFull { get; private set; }

        /// <summary>Why the allowance gives no more; null = it does.</summary>
        public MemoryExceededException? Exceeded { get; private set; }

        /// <summary>Bytes of the allowance that are in use.</summary>
        public long Taken { get; private set; }

        /// <summary>Begins anew, with an error that is small enough to be held in any case.</summary>
        public void Restart()
        {
            allowance.Give(Taken);
            (Taken, IsFull) = (0, false);
            SetLength(0);
        }

        public override void Write(byte[] buffer, int offset, int count)
        {
            if (IsFull)
                return;
            var isError = Exceeded is not null;
            if (Length + count > most || (!isError && (Exceeded = allowance.TryTake(count)) is not null))
            {
                IsFull = true;
                return;
            }
            Taken += isError ? 0 : count;
            base.Write(buffer, offset, count);
        }

        // What this class inherits would come back here.
        public override void Write(ReadOnlySpan<byte> buffer) => Write(buffer.ToArray(), 0, buffer.Length);

        public override ValueTask WriteAsync(ReadOnlyMemory<byte> buffer, CancellationToken cancellationToken = default)
        {
            Write(buffer.Span);
            return default;
        }
    }
}
