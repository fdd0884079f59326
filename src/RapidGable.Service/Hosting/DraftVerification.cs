using RapidGable.Declarations;
using RapidGable.Service.Identity;
using RapidGable.Service.Management;
using RapidGable.Service.Publishing;
using RapidGable.Service.UseCases;
using RapidGable.Verification;

namespace RapidGable.Service.Hosting;

/// <inheritdoc cref="VerificationWork"/>
internal sealed class DraftVerification(Draft draft, IAccountStore accounts)
{
    public async Task<VerificationReport> RunAsync(VerificationWish wish, Action<string, string> progress, CancellationToken cancellation)
    {
        progress("Reading the draft", "");
        await using var workspace = await draft.LoadAsync(cancellation);
        if (workspace.Diagnostics.Items.FirstOrDefault(d => d.Severity == Severity.Error) is { } fault)
            throw new InvalidDataException($"The draft has faults, the first one in {fault.Location}: {fault.Message}");
        var options = new VerifyOptions(wish.Rows, wish.WithAccess, WithWrites: false, Seed: 1, IsQuiet: true)
        {
            Accounts = accounts.Current,
            Services = wish.Services,
        };
        return await new VerifyWorkspace(workspace, options, new Told(progress)).RunAsync(cancellation);
    }

    private sealed class Told(Action<string, string> progress) : IVerifyProgress
    {
        public Task<T> RunAsync<T>(string title, Func<Action<string>, Task<T>> work)
        {
            progress(title, "");
            return work(detail => progress(title, detail));
        }
    }
}
