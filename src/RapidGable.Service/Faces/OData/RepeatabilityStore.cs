using System.Collections.Concurrent;
using System.Globalization;
using System.Security.Cryptography;
using System.Text;
using Microsoft.AspNetCore.Http;
using RapidGable.Access;
using RapidGable.Expressions;
using RapidGable.Model;
using RapidGable.Service.Traffic;

namespace RapidGable.Service.Faces.OData;

/// <summary>A request that may be sent again (OASIS Repeatable Requests 1.0).</summary>
/// <param name="Id">Of the caller and the request together, so that nobody meets the answers of others.</param>
/// <param name="Print">What tells another request with the same id.</param>
internal sealed record Repeatable(string Id, string Print);

/// <summary>
/// The answers of repeatable requests, as long as the service runs; sources that keep them in a table of their own do without.
/// </summary>
internal sealed class RepeatabilityStore(Allowances allowances, TimeProvider time)
{
    private readonly ConcurrentDictionary<string, string> _answers = new();
    private readonly ConcurrentQueue<string> _age = new();
    private readonly ConcurrentDictionary<string, Turn> _turns = new();

    private sealed class Turn
    {
        public SemaphoreSlim Gate { get; } = new(1);

        public int Waiting { get; set; }
    }

    /// <summary>What the headers of a request say; null = it is not repeatable.</summary>
    public Result<object> Of(HttpContext context, string service, Caller caller, byte[] body)
    {
        var (id, sent) = (context.Request.Headers[RepeatHeaders.Id].ToString(), context.Request.Headers[RepeatHeaders.Sent].ToString());
        if (id.Length == 0 && sent.Length == 0)
            return Result<object>.Of("");
        if (id.Length is 0 or > 100 || id.Any(c => !char.IsAsciiLetterOrDigit(c) && c is not ('-' or '_' or '.' or ':')))
            return new RequestFault(
                400,
                "repeatability",
                $"{RepeatHeaders.Id} is an id of at most 100 letters, digits and '-', such as a uuid.",
                RepeatHeaders.Id
            );
        if (!DateTimeOffset.TryParseExact(sent, "r", CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal, out var first))
            return new RequestFault(
                400,
                "repeatability",
                $"{RepeatHeaders.Sent} is the time of the first try, such as Wed, 01 May 2024 12:00:00 GMT.",
                RepeatHeaders.Sent
            );
        if (first < time.GetUtcNow() - TimeSpan.FromHours(Limits.RepeatHours))
        {
            context.Response.Headers[RepeatHeaders.Result] = "rejected";
            return new RequestFault(
                412,
                "repeatability",
                $"A request is known for {Limits.RepeatHours} hours, and this one was first sent before that.",
                RepeatHeaders.Sent
            );
        }
        var (path, query) = RawTarget.Of(context);
        var print = Convert.ToHexStringLower(
            SHA256.HashData([.. Encoding.UTF8.GetBytes($"{context.Request.Method} {path}?{query}\n"), .. body]).AsSpan(0, 16)
        );
        var whose = Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes($"{service}\n{caller.Identity}")).AsSpan(0, 8));
        return Result<object>.Of(new Repeatable($"{whose}-{id}", print));
    }

    public string? Find(string id) => _answers.GetValueOrDefault(id);

    private static long Bytes(string answer) => 200 + (2L * answer.Length);

    /// <summary>
    /// Makes sure that an answer can be kept, before the change that it tells of is made; the oldest answers go for it. False when there
    /// is no memory.
    /// </summary>
    public bool Reserve(string answer)
    {
        while (!allowances.Process.TryTake(Bytes(answer)))
        {
            if (!ForgetOldest())
                return false;
        }
        return true;
    }

    /// <summary>Gives back what was reserved.</summary>
    public void Release(string answer) => allowances.Process.Give(Bytes(answer));

    /// <summary>Keeps an answer for which memory is reserved.</summary>
    public void Keep(string id, string answer)
    {
        if (_answers.TryAdd(id, answer))
            _age.Enqueue(id);
        else
            Release(answer);
        while (_answers.Count > Limits.RepeatedAnswers && ForgetOldest()) { }
    }

    private bool ForgetOldest()
    {
        if (!_age.TryDequeue(out var oldest))
            return false;
        if (_answers.TryRemove(oldest, out var gone))
            Release(gone);
        return true;
    }

    /// <summary>Waits until nobody else answers the same request.</summary>
    public async Task<IDisposable> EnterAsync(string id, CancellationToken cancellation)
    {
        Turn turn;
        lock (_turns)
        {
            turn = _turns.GetOrAdd(id, _ => new Turn());
            turn.Waiting++;
        }
        try
        {
            await turn.Gate.WaitAsync(cancellation);
        }
        catch
        {
            Leave(id, turn, isIn: false);
            throw;
        }
        return new Left(() => Leave(id, turn, isIn: true));
    }

    private void Leave(string id, Turn turn, bool isIn)
    {
        lock (_turns)
        {
            if (isIn)
                turn.Gate.Release();
            if (--turn.Waiting == 0)
                _turns.TryRemove(id, out _);
        }
    }

    private sealed class Left(Action leave) : IDisposable
    {
        public void Dispose() => leave();
    }
}
