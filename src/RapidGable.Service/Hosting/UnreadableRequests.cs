using System.IO.Pipelines;
using System.Text;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Connections;
using Microsoft.AspNetCore.Http;
using RapidGable.Expressions;
using RapidGable.Payloads.Json;

namespace RapidGable.Service.Hosting;

/// <summary>
/// A request that is not HTTP, or whose path no server decodes (<c>%00</c>), is refused by the web server before anything of ours sees
/// it, with an empty body. Here that answer gets the error body that every other refusal has.
/// </summary>
internal static class UnreadableRequests
{
    private static readonly byte[] Refusal = "HTTP/1.1 400 "u8.ToArray();
    private static readonly byte[] Empty = "Content-Length: 0\r\n"u8.ToArray();
    private static readonly byte[] Answer = Make();

    public static Func<ConnectionDelegate, ConnectionDelegate> Middleware { get; } =
        next =>
            connection =>
            {
                var writer = new Writer(connection.Transport.Output);
                connection.Features.Set(writer);
                connection.Transport = new Pipes(connection.Transport.Input, writer);
                return next(connection);
            };

    /// <summary>
    /// While the service itself answers, everything goes as it is: stored bytes may look like an answer of the web server.
    /// </summary>
    public static void Use(WebApplication app) =>
        app.Use(
            (context, next) =>
            {
                if (context.Features.Get<Writer>() is { } writer)
                {
                    writer.Begin();
                    // Answers of HTTP/2 are sent side by side, and its own refusals are not text.
                    if (HttpProtocol.IsHttp10(context.Request.Protocol) || HttpProtocol.IsHttp11(context.Request.Protocol))
                    {
                        context.Response.OnCompleted(() =>
                        {
                            writer.End();
                            return Task.CompletedTask;
                        });
                    }
                }
                return next(context);
            }
        );

    private static byte[] Make()
    {
        RequestFault fault = new(400, "request", "The request cannot be read: it is not HTTP, or its address holds what no address can.");
        var body = ErrorJsonWriter.Write(fault);
        string[] head =
        [
            "HTTP/1.1 400 Bad Request",
            "Content-Type: application/json",
            $"Content-Length: {body.Length}",
            "Connection: close",
            "OData-Version: 4.0",
            "X-Content-Type-Options: nosniff",
            "",
            "",
        ];
        return [.. Encoding.ASCII.GetBytes(string.Join("\r\n", head)), .. body];
    }

    private sealed record Pipes(PipeReader Input, PipeWriter Output) : IDuplexPipe;

    /// <summary>
    /// Passes everything on; while no request is being answered, a 400 without a body, which only the web server itself gives, goes as
    /// ours.
    /// </summary>
    internal sealed class Writer(PipeWriter inner) : PipeWriter
    {
        private Memory<byte> _given;
        private int _underWay;

        /// <summary>The service has begun to answer a request of the connection.</summary>
        public void Begin() => Interlocked.Increment(ref _underWay);

        /// <summary>The answer is complete.</summary>
        public void End() => Interlocked.Decrement(ref _underWay);

        public override void Advance(int bytes)
        {
            var written = _given.Span[..Math.Min(bytes, _given.Length)];
            var isServers = Volatile.Read(ref _underWay) == 0 && written.StartsWith(Refusal) && written.IndexOf(Empty) >= 0;
            if (isServers && _given.Length >= Answer.Length)
            {
                Answer.CopyTo(_given);
                bytes = Answer.Length;
            }
            _given = default;
            inner.Advance(bytes);
        }

        public override Memory<byte> GetMemory(int sizeHint = 0) => _given = inner.GetMemory(sizeHint);

        public override Span<byte> GetSpan(int sizeHint = 0) => GetMemory(sizeHint).Span;

        public override ValueTask<FlushResult> FlushAsync(CancellationToken cancellationToken = default) =>
            inner.FlushAsync(cancellationToken);

        public override ValueTask<FlushResult> WriteAsync(ReadOnlyMemory<byte> source, CancellationToken cancellationToken = default) =>
            inner.WriteAsync(source, cancellationToken);

        public override void CancelPendingFlush() => inner.CancelPendingFlush();

        public override void Complete(Exception? exception = null) => inner.Complete(exception);

        public override ValueTask CompleteAsync(Exception? exception = null) => inner.CompleteAsync(exception);

        public override bool CanGetUnflushedBytes => inner.CanGetUnflushedBytes;

        public override long UnflushedBytes => inner.UnflushedBytes;
    }
}
