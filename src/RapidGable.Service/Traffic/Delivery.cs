using System.Diagnostics;
using Microsoft.AspNetCore.Http;
using RapidGable.Declarations;
using RapidGable.Model;

namespace RapidGable.Service.Traffic;

/// <summary>
/// Sends the pieces of an answer and counts for how long the caller lets them wait. Who takes them at the declared rate may take as long
/// as the answer is large; who does not is cut, and at once when others wait for the session that the answer holds.
/// </summary>
/// <param name="isAwaited">Whether others wait for what the answer holds.</param>
internal sealed class Delivery(HttpContext context, TrafficDeclaration declared, Func<bool> isAwaited)
{
    private static readonly TimeSpan Look = TimeSpan.FromMilliseconds(250);

    private TimeSpan _waited;
    private long _sent;

    /// <summary>How long the caller may let the answer wait, with what they have taken of it so far.</summary>
    private TimeSpan Patience => TimeSpan.FromSeconds(declared.DownloadSeconds + (_sent / (declared.DownloadRate * 1024.0)));

    public ValueTask SendAsync(ReadOnlyMemory<byte> bytes)
    {
        var sent = context.Response.Body.WriteAsync(bytes, context.RequestAborted);
        _sent += bytes.Length;
        return sent.IsCompletedSuccessfully ? sent : WaitAsync(sent.AsTask());
    }

    private async ValueTask WaitAsync(Task sent)
    {
        var since = Stopwatch.GetTimestamp();
        var before = _waited;
        while (await Task.WhenAny(sent, Task.Delay(Look)) != sent)
        {
            var here = Stopwatch.GetElapsedTime(since);
            _waited = before + here;
            if (_waited <= Patience && !(isAwaited() && here > TimeSpan.FromSeconds(Limits.StallSeconds)))
                continue;
            context.Abort();
            // The bytes are in use until this has ended.
            await sent.ContinueWith(_ => { }, TaskScheduler.Default);
            throw new OperationCanceledException(context.RequestAborted);
        }
        _waited = before + Stopwatch.GetElapsedTime(since);
        await sent;
    }
}
