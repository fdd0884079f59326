using RapidGable.Access;
using RapidGable.Declarations;
using RapidGable.Service.Management;
using RapidGable.Service.Publishing;
using RapidGable.Service.Trials;
using RapidGable.Service.UseCases;

namespace RapidGable.Service.Hosting;

/// <inheritdoc cref="HandoverWork"/>
internal sealed class DraftHandover(ServiceRegistry registry, Draft draft, RevisionReader revisions, TrialHost host, TimeProvider time)
{
    public async Task<string> RunAsync(string service, string name, Caller caller, string origin, CancellationToken cancellation)
    {
        // What is served, loaded anew: the one that serves may be let go of in the middle.
        var isPublished = registry.Workspace.Revision is not null;
        await using var workspace = isPublished ? await revisions.LoadAsync(cancellation) : await draft.LoadAsync(cancellation);
        if (workspace.Diagnostics.Items.FirstOrDefault(d => d.Severity == Severity.Error) is { } fault)
            throw new InvalidDataException($"The files have faults, the first one in {fault.Location}: {fault.Message}");
        var wish = new HandoverWish(service, name, caller, origin, time.GetUtcNow().UtcDateTime) { IsPageOnly = true };
        return (await new HandOver(workspace, wish, host).RunAsync(cancellation))[0].Text;
    }
}
