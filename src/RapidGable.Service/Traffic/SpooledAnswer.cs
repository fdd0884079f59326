using RapidGable.Model;
using RapidGable.Sources;

namespace RapidGable.Service.Traffic;

/// <summary>
/// An answer that is kept until it is whole, since something about its end stands in its headers: in memory as far as it is small,
/// else in a file that is gone when the answer is.
/// </summary>
/// <param name="mostInMemory">Bytes that are kept in memory at most.</param>
internal sealed class SpooledAnswer(RequestAllowance allowance, int mostInMemory) : IAsyncDisposable
{
    private readonly HeldAnswer _held = new(allowance, mostInMemory);
    private FileStream? _file;
    private long _inFile;

    /// <summary>Bytes of all pieces.</summary>
    public long Length { get; private set; }

    /// <summary>Whether nothing of it is in a file.</summary>
    public bool IsInMemory => _file is null;

    /// <summary>Keeps a copy of a piece.</summary>
    /// <exception cref="AnswerTooLargeException">The answer becomes larger than any may.</exception>
    /// <exception cref="MemoryExceededException">The files of all answers become larger than they may.</exception>
    public async ValueTask KeepAsync(ReadOnlyMemory<byte> piece, CancellationToken cancellation)
    {
        Length += piece.Length;
        if (Length > Limits.SpooledAnswerBytes)
            throw new AnswerTooLargeException();
        if (_file is null && _held.TryKeep(piece))
            return;
        Take(Length - _inFile);
        if (_file is null)
        {
            _file = NewFile();
            await _held.SendAsync(kept => _file.WriteAsync(kept, cancellation));
        }
        await _file.WriteAsync(piece, cancellation);
    }

    private void Take(long bytes)
    {
        if (!allowance.Files.TryTake(bytes))
            throw new MemoryExceededException(isProcess: true);
        _inFile += bytes;
    }

    private static FileStream NewFile()
    {
        var options = new FileStreamOptions
        {
            Mode = FileMode.CreateNew,
            Access = FileAccess.ReadWrite,
            Share = FileShare.None,
            Options = FileOptions.DeleteOnClose | FileOptions.Asynchronous,
        };
        var path = Path.Combine(Path.GetTempPath(), $"gable-answer-{Guid.NewGuid():N}");
        // What callers may read is not for other users of the machine.
        if (!OperatingSystem.IsWindows())
            options.UnixCreateMode = UnixFileMode.UserRead | UnixFileMode.UserWrite;
        var file = new FileStream(path, options);
        // Without a name it is gone with the process, however that ends.
        if (!OperatingSystem.IsWindows())
            File.Delete(path);
        return file;
    }

    /// <summary>Calls for each piece of what is in memory, and leaves it there.</summary>
    public void Look(Action<ReadOnlySpan<byte>> look) => _held.Look(look);

    /// <summary>Sends what is kept.</summary>
    public async ValueTask SendAsync(Func<ReadOnlyMemory<byte>, ValueTask> send, CancellationToken cancellation)
    {
        if (_file is null)
        {
            await _held.SendAsync(send);
            return;
        }
        _file.Position = 0;
        var buffer = new byte[64 * 1024];
        int count;
        while ((count = await _file.ReadAsync(buffer, cancellation)) > 0)
            await send(buffer.AsMemory(0, count));
    }

    public async ValueTask DisposeAsync()
    {
        _held.Dispose();
        if (_file is not null)
            await _file.DisposeAsync();
        allowance.Files.Give(_inFile);
    }
}

/// <summary>An answer is larger than one may be that is kept until it is whole.</summary>
internal sealed class AnswerTooLargeException() : Exception("The answer is too large to be kept.");
