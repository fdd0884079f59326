using System.Collections.Immutable;
using System.CommandLine;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Service.Publishing;
using RapidGable.Service.Revisions;
using RapidGable.Service.Stores;
using RapidGable.Service.Trials;
using RapidGable.Service.UseCases;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable compare</c>: asks what is published and the draft the same, and shows the differences.</summary>
internal static class CompareCommand
{
    public static Command Create()
    {
        var workspace = CommonOptions.Workspace();
        var names = new Argument<string[]>("requests")
        {
            Description = "Names of kept requests; all that read when left out.",
            Arity = ArgumentArity.ZeroOrMore,
        };
        var get = new Option<string?>("--get") { Description = "Ask for this path instead, such as /rest/rivers/Stations?limit=5." };
        var caller = AccountOptions.As();
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "compare",
            "Send requests to the newest revision and to the files, as the same callers, and show how the answers differ.",
            "gable compare demo",
            "gable compare demo stations-by-name --as technician",
            "gable compare demo --get \"/rest/rivers/Stations?limit=5\""
        )
        {
            workspace,
            names,
            get,
            caller,
            json,
        };
        command.SetAction(
            (result, cancellation) =>
                RunAsync(
                    result.GetValue(workspace)!,
                    result.GetValue(names) ?? [],
                    result.GetValue(get),
                    result.GetValue(caller),
                    result.GetValue(json),
                    cancellation
                )
        );
        return command;
    }

    private static async Task<int> RunAsync(
        string folder,
        string[] names,
        string? get,
        string? who,
        bool json,
        CancellationToken cancellation
    )
    {
        var archive = PublishCommand.ArchiveOf(folder);
        var reader = new RevisionReader(Path.GetFullPath(folder), archive, WorkspaceState.Variables(folder));
        await using var published = await reader.LoadAsync(cancellation);
        await using var draft = await Terminal.LoadAsync(folder, cancellation);
        if (draft.Diagnostics.HasErrors)
        {
            Terminal.WriteDiagnostics(draft.Diagnostics);
            return 1;
        }
        var requests = Requests(draft.Declaration.Requests, names, get);
        try
        {
            var compared = await CompareStates.RunAsync(published, draft, AccountOptions.Read(folder), requests, who, cancellation);
            var reviews = PublishWorkspace
                .Compare(archive.Read(published.Revision!.Value), await PublishWorkspace.ContentOfAsync(draft, cancellation))
                .ToImmutableArray();
            if (json)
                Terminal.WriteJson(ForJson(published.Revision.Value, compared, reviews));
            else
                Write(published.Revision.Value, compared, reviews);
            return compared.All(c => c.Differences.IsEmpty) && reviews.IsEmpty ? 0 : 1;
        }
        catch (InvalidDataException exception)
        {
            throw new UsageException(exception.Message);
        }
    }

    private static ImmutableArray<KeptRequest> Requests(ImmutableArray<KeptRequest> all, string[] names, string? get)
    {
        if (get is not null)
            return [new KeptRequest("given", "", "GET", get, [], null, SourceLocation.WholeFile("--get"))];
        foreach (var name in names.Where(n => all.All(r => r.Name != n)))
            throw new UsageException($"There is no request '{name}'.{NearestName.Hint(name, all.Select(r => r.Name))}");
        var chosen = all.Where(r => !r.Changes && (names.Length == 0 || names.Contains(r.Name))).ToImmutableArray();
        return chosen.IsEmpty
            ? throw new UsageException("There is no request to compare: keep some that read in requests/*.http, or give one with --get.")
            : chosen;
    }

    private static object ForJson(int revision, ImmutableArray<ComparedRequest> compared, ImmutableArray<ServiceReview> reviews) =>
        new
        {
            revision,
            same = compared.All(c => c.Differences.IsEmpty) && reviews.IsEmpty,
            requests = compared.Select(c => new
            {
                c.Now.Request.Name,
                c.Now.Target,
                c.Now.Caller,
                before = new { status = c.Before.Answer?.Status, milliseconds = Milliseconds(c.Before) },
                now = new { status = c.Now.Answer?.Status, milliseconds = Milliseconds(c.Now) },
                c.Differences,
            }),
            services = reviews.Select(r => new
            {
                r.Name,
                faces = r.Faces.Select(f => new { f.Face, f.Differences }),
                r.Opened,
            }),
        };

    private static double Milliseconds(TriedRequest tried) => Math.Round(tried.Answer?.Time.TotalMilliseconds ?? 0, 1);

    private static void Write(int revision, ImmutableArray<ComparedRequest> compared, ImmutableArray<ServiceReview> reviews)
    {
        var table = new Table().Border(TableBorder.None).AddColumns("", "request", "as", $"revision {revision}", "files", "");
        foreach (var one in compared)
        {
            table.AddRow(
                one.Differences.IsEmpty ? "[green]same[/]" : "[olive]differs[/]",
                $"[bold]{Markup.Escape(one.Now.Request.Name == "given" ? one.Now.Target : one.Now.Request.Name)}[/]",
                Markup.Escape(one.Now.Caller),
                $"{one.Before.Answer?.Status}, {Milliseconds(one.Before):0} ms",
                $"{one.Now.Answer?.Status}, {Milliseconds(one.Now):0} ms",
                Markup.Escape(one.Differences.FirstOrDefault() ?? "")
            );
            foreach (var difference in one.Differences.Skip(1))
                table.AddRow("", "", "", "", "", Markup.Escape(difference));
        }
        Terminal.Out.Write(table);
        if (reviews.IsEmpty)
            return;
        Terminal.Out.WriteLine("Documents:");
        foreach (var review in reviews)
            PublishCommand.Write(review, revision);
    }
}
