using System.Collections.Immutable;
using System.CommandLine;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Service.Hosting;
using RapidGable.Service.Trials;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable try</c>: sends the requests that a workspace keeps.</summary>
internal static class TryCommand
{
    public static Command Create()
    {
        var workspace = CommonOptions.Workspace();
        var names = new Argument<string[]>("requests")
        {
            Description = "Names of requests; all of them when left out.",
            Arity = ArgumentArity.ZeroOrMore,
        };
        var caller = AccountOptions.As();
        var writes = new Option<bool>("--writes") { Description = "Also send what may change something, over the real sources." };
        var show = new Option<bool>("--show") { Description = "Print each answer." };
        var keep = new Option<bool>("--keep")
        {
            Description = "Keep each answer as an example, read as the least privileged caller who may have it.",
        };
        var madeUp = new Option<bool>("--made-up") { Description = "With --keep: put made-up values in the place of those that came." };
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "try",
            "Send the requests that are kept in requests/*.http, each as the caller that it names.",
            "gable try demo",
            "gable try demo stations-by-name --show",
            "gable try demo --as technician",
            "gable try demo stations-by-name --keep"
        )
        {
            workspace,
            names,
            caller,
            writes,
            show,
            keep,
            madeUp,
            json,
        };
        command.SetAction(
            (result, cancellation) =>
                RunAsync(
                    result.GetValue(workspace)!,
                    result.GetValue(names) ?? [],
                    new TryRequests.Options(result.GetValue(caller), result.GetValue(writes)),
                    (result.GetValue(show), result.GetValue(keep), result.GetValue(madeUp)),
                    result.GetValue(json),
                    cancellation
                )
        );
        return command;
    }

    private static async Task<int> RunAsync(
        string folder,
        string[] names,
        TryRequests.Options options,
        (bool Show, bool Keep, bool MadeUp) what,
        bool json,
        CancellationToken cancellation
    )
    {
        await using var workspace = await Terminal.LoadAsync(folder, cancellation);
        if (workspace.Diagnostics.HasErrors)
        {
            Terminal.WriteDiagnostics(workspace.Diagnostics);
            return 1;
        }
        var requests = Chosen(workspace.Declaration.Requests, names);
        var trying = new TryRequests(workspace, AccountOptions.Read(folder), ServiceHost.Trial);
        try
        {
            var tried = await trying.RunAsync(requests, options, cancellation);
            if (json)
                Terminal.WriteJson(new { ok = tried.All(t => t.IsGood), requests = tried.Select(ForJson) });
            else
                Write(tried, what.Show);
            var isKept = !what.Keep || await KeepAsync(trying, workspace.Declaration.Folder, requests, options, what.MadeUp, cancellation);
            return isKept && tried.All(t => t.IsGood) ? 0 : 1;
        }
        catch (InvalidDataException exception)
        {
            throw new UsageException(exception.Message);
        }
    }

    private static async Task<bool> KeepAsync(
        TryRequests trying,
        string folder,
        ImmutableArray<KeptRequest> requests,
        TryRequests.Options options,
        bool madeUp,
        CancellationToken cancellation
    )
    {
        var isGood = true;
        foreach (var request in requests)
        {
            var (file, fault) = await new ExampleKeeper(trying).RunAsync(folder, request, options.As, madeUp, cancellation);
            if (file is not null)
                Terminal.Error.WriteLine($"kept: {file}");
            else
                Terminal.Error.MarkupLine($"[red]{Markup.Escape($"{request.Name}: {fault}")}[/]");
            isGood &= file is not null;
        }
        return isGood;
    }

    private static ImmutableArray<KeptRequest> Chosen(ImmutableArray<KeptRequest> all, string[] names)
    {
        if (all.IsEmpty)
            throw new UsageException("The workspace keeps no requests; write them into files such as requests/stations.http.");
        foreach (var name in names.Where(n => all.All(r => r.Name != n)))
            throw new UsageException($"There is no request '{name}'.{NearestName.Hint(name, all.Select(r => r.Name))}");
        return names.Length == 0 ? all : [.. all.Where(r => names.Contains(r.Name))];
    }

    private static object ForJson(TriedRequest tried) =>
        new
        {
            tried.Request.Name,
            tried.Request.Method,
            tried.Target,
            tried.Caller,
            status = tried.Answer?.Status,
            milliseconds = tried.Answer is { } answer ? Math.Round(answer.Time.TotalMilliseconds, 1) : (double?)null,
            ok = tried.IsGood,
            tried.Skipped,
            expectations = tried.Results.Select(r => new { expected = $"{r.Expected.Word} {r.Expected.Text}".Trim(), r.Fault }),
        };

    private static void Write(ImmutableArray<TriedRequest> tried, bool show)
    {
        var table = new Table().Border(TableBorder.None).AddColumns("", "request", "as", "status", "time", "");
        foreach (var one in tried)
        {
            table.AddRow(
                one.Skipped is not null ? "[olive]skip[/]"
                    : one.IsGood ? "[green]ok[/]"
                    : "[red]FAIL[/]",
                $"[bold]{Markup.Escape(one.Request.Name)}[/]",
                Markup.Escape(one.Caller),
                one.Answer?.Status.ToString(System.Globalization.CultureInfo.InvariantCulture) ?? "",
                one.Answer is { } answer ? $"{answer.Time.TotalMilliseconds:0} ms" : "",
                Markup.Escape(one.Skipped ?? Summary(one))
            );
            foreach (var (expected, fault) in one.Results.Where(r => r.Fault is not null))
                table.AddRow("", "", "", "", "", $"[red]{Markup.Escape(fault!)}[/] [grey]{Markup.Escape(expected.Location.ToString())}[/]");
        }
        Terminal.Out.Write(table);
        foreach (var one in tried.Where(t => show && t.Answer is not null))
        {
            Terminal.Out.MarkupLine($"[bold]{Markup.Escape($"{one.Request.Method} {one.Target}")}[/]");
            Console.Out.WriteLine(one.Answer!.Text);
        }
        Terminal.Out.MarkupLine(
            $"{tried.Count(t => t.IsGood && t.Skipped is null)} ok, {tried.Count(t => !t.IsGood)} failed, "
                + $"{tried.Count(t => t.Skipped is not null)} skipped"
        );
    }

    private static string Summary(TriedRequest one)
    {
        var rows = one.Answer?.Rows is { } list ? Terminal.Plural(list.Length, "row") : $"{one.Answer?.Body.Length ?? 0} bytes";
        return one.Results.IsEmpty
            ? rows
            : $"{rows}, {one.Results.Count(r => r.Fault is null)} of {Terminal.Plural(one.Results.Length, "expectation")}";
    }
}
