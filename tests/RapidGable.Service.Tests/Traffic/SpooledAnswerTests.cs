using System.Text;
using RapidGable.Service.Traffic;
using RapidGable.Sources;

namespace RapidGable.Service.Tests;

/// <summary>Answers that are kept until they are whole: in memory, then in a file, within what all of them may take.</summary>
public sealed class SpooledAnswerTests
{
    private static readonly byte[] Piece = Encoding.ASCII.GetBytes(new string('x', 1_000));

    private static RequestAllowance Allowance(ByteBudget files) =>
        new("ines", false, new ByteBudget(1_000_000), 1_000_000, SessionSharing.Standard, files);

    private static async Task<long> SentAsync(SpooledAnswer answer)
    {
        var sent = 0L;
        await answer.SendAsync(
            bytes =>
            {
                sent += bytes.Length;
                return ValueTask.CompletedTask;
            },
            CancellationToken.None
        );
        return sent;
    }

    [Theory]
    [InlineData(1, true, 0)]
    [InlineData(10, false, 10_000)]
    public async Task What_is_kept_is_sent(int pieces, bool isInMemory, long inFiles)
    {
        var files = new ByteBudget(20_000);
        await using (var answer = new SpooledAnswer(Allowance(files), 4_000))
        {
            for (var i = 0; i < pieces; i++)
                await answer.KeepAsync(Piece, CancellationToken.None);
            Assert.Equal((isInMemory, inFiles), (answer.IsInMemory, files.Used));
            Assert.Equal(pieces * 1_000, await SentAsync(answer));
        }
        Assert.Equal(0, files.Used);
    }

    [Fact] // so that nothing is left of a process that is killed
    public async Task A_file_has_no_name_while_it_is_in_use()
    {
        await using var answer = new SpooledAnswer(Allowance(new ByteBudget(20_000)), 0);
        var before = Directory.GetFiles(Path.GetTempPath(), "gable-answer-*");
        await answer.KeepAsync(Piece, CancellationToken.None);
        Assert.False(answer.IsInMemory);
        Assert.Empty(Directory.GetFiles(Path.GetTempPath(), "gable-answer-*").Except(before));
        Assert.Equal(1_000, await SentAsync(answer));
    }

    [Fact]
    public async Task All_files_together_have_a_bound()
    {
        var files = new ByteBudget(10_000);
        await using var first = new SpooledAnswer(Allowance(files), 0);
        for (var i = 0; i < 6; i++)
            await first.KeepAsync(Piece, CancellationToken.None);
        await using (var second = new SpooledAnswer(Allowance(files), 0))
        {
            for (var i = 0; i < 4; i++)
                await second.KeepAsync(Piece, CancellationToken.None);
            await Assert.ThrowsAsync<MemoryExceededException>(() => second.KeepAsync(Piece, CancellationToken.None).AsTask());
        }
        Assert.Equal(6_000, files.Used);
        await first.KeepAsync(Piece, CancellationToken.None);
    }
}
