using System.IO.Pipelines;
using System.Text;
using Microsoft.AspNetCore.Connections;
using RapidGable.Payloads;
using RapidGable.Requests;

namespace RapidGable.Service;

/// <summary>
/// A request that is not HTTP, or whose path no server decodes (<c>%00</c>), is refused by the web server before anything of ours sees
/// it, with an empty body. Here that answer gets the error body that every other refusal has.
/// </summary>
internal static class UnreadableRequests
{
    private static readonly byte[] Refusal = "HTTP/1.1 400 "u8.ToArray();
    private static readonly byte[] Empty = "Content-Length: 0\r\n"u8.ToArray();
    private static readonly byte[] Answer = Make();

    public static Func<ConnectionDelegate, ConnectionDelegate> Middleware { get; } = next => connection =>
    {
        connection.Transport = new Pipes(connection.Transport.Input, new Writer(connection.Transport.Output));
        return next(connection);
    };

    private static byte[] Make()
    {
        var body = ErrorJsonWriter.Write(new RequestFault(400, "request", "The request cannot be read: it is not HTTP, or its address holds what no address can."));
        return [.. Encoding.ASCII.GetBytes($"HTTP/1.1 400 Bad Request\r\nContent-Type: application/json\r\nContent-Length: {body.Length}\r\nConnection: close\r\nOData-Version: 4.0\r\nX-Content-Type-Options: nosniff\r\n\r\n"), .. body];
    }

    private sealed record Pipes(PipeReader Input, PipeWriter Output) : IDuplexPipe;

    /// <summary>
    /// Passes everything on; an answer that only the server itself gives, a 400 without a body, goes as ours. Answers of ours always have
    /// one.
    /// </summary>
    private sealed class Writer(PipeWriter inner) : PipeWriter
    {
        private Memory<byte> _given;

        public override void Advance(int bytes)
        {
            var written = _given.Span[..Math.Min(bytes, _given.Length)];
            if (written.StartsWith(Refusal) && written.IndexOf(Empty) >= 0 && _given.Length >= Answer.Length)
            {
                Answer.CopyTo(_given);
                bytes = Answer.Length;
            }
            _given = default;
            inner.Advance(bytes);
        }

        public override Memory<byte> GetMemory(int sizeHint = 0) => _given = inner.GetMemory(sizeHint);

        public override Span<byte> GetSpan(int sizeHint = 0) => GetMemory(sizeHint).Span;

        public override ValueTask<FlushResult> FlushAsync(CancellationToken cancellationToken = default) => inner.FlushAsync(cancellationToken);

        public override ValueTask<FlushResult> WriteAsync(ReadOnlyMemory<byte> source, CancellationToken cancellationToken = default) => inner.WriteAsync(source, cancellationToken);

        public override void CancelPendingFlush() => inner.CancelPendingFlush();

        public override void Complete(Exception? exception = null) => inner.Complete(exception);

        public override ValueTask CompleteAsync(Exception? exception = null) => inner.CompleteAsync(exception);

        public override bool CanGetUnflushedBytes => inner.CanGetUnflushedBytes;

        public override long UnflushedBytes => inner.UnflushedBytes;
    }
}
