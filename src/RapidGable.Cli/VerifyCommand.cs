using System.CommandLine;
using System.Xml.Linq;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Inspection;
using RapidGable.Publishing;
using RapidGable.Service.Hosting;
using RapidGable.Service.Publishing;
using RapidGable.Service.Trials;
using RapidGable.Verification;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable verify</c>: proves that services answer right.</summary>
internal static class VerifyCommand
{
    public static Command Create()
    {
        var workspace = CommonOptions.Workspace();
        var url = new Option<string?>("--url")
        {
            Description = "Verify the running service at this root instead; any OData service will do.",
        };
        var rows = new Option<long>("--rows") { Description = "Rows of a set to walk at most.", DefaultValueFactory = _ => 100_000 };
        var junit = new Option<string?>("--junit")
        {
            Description = "Also write the report to this file, in the XML form that build servers read.",
        };
        var details = new Option<bool>("--details") { Description = "Show every check, also those that passed." };
        var access = new Option<bool>("--access")
        {
            Description =
                "Also try who may do what: every kind of caller, set and operation, with a look for hidden values in every answer.",
        };
        var writes = new Option<bool>("--writes")
        {
            Description =
                "Also create, change and delete a made-up entity in every set that allows it, over the real sources, and take "
                + "it away again.",
        };
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "verify",
            """
            Prove that services answer right: documents that agree and are valid, values of their declared types, unique
            keys, rows found by key, exact pages, true counts, right errors. Exits with 1 when anything fails.
            """,
            "gable verify demo",
            "gable verify demo --access",
            "gable verify demo --writes",
            "gable verify demo --junit report.xml",
            "gable verify --url http://127.0.0.1:8460/odata/rivers/"
        )
        {
            workspace,
            url,
            rows,
            access,
            writes,
            junit,
            details,
            json,
        };
        command.SetAction(
            (result, cancellation) =>
                RunAsync(
                    result.GetValue(workspace)!,
                    result.GetValue(url),
                    Math.Max(1, result.GetValue(rows)),
                    result.GetValue(access),
                    result.GetValue(writes),
                    result.GetValue(junit),
                    result.GetValue(details),
                    result.GetValue(json),
                    cancellation
                )
        );
        return command;
    }

    private static async Task<int> RunAsync(
        string folder,
        string? url,
        long rows,
        bool access,
        bool writes,
        string? junit,
        bool details,
        bool json,
        CancellationToken cancellation
    )
    {
        if (url is not null && (access || writes))
            throw new UsageException(
                access
                    ? "--access needs the workspace: who may do what is declared there."
                    : "--writes needs the workspace: what may be written is declared there."
            );
        var report = url is null
            ? await VerifyWorkspaceAsync(folder, rows, access, writes, json, cancellation)
            : await VerifyUrlAsync(GetCommand.Address(url).OriginalString, rows, json, cancellation);
        if (report is null)
            return 1;
        if (junit is not null)
            Save(report.ToJUnit(), junit);
        if (json)
            Terminal.WriteJson(ForJson(report));
        else
            Write(report, details);
        return report.HasFailures ? 1 : 0;
    }

    private static void Save(XDocument document, string file)
    {
        try
        {
            document.Save(file);
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException)
        {
            throw new UsageException($"The report cannot be written to '{file}': {exception.Message}");
        }
    }

    private static async Task<VerificationReport> VerifyUrlAsync(string url, long rows, bool silent, CancellationToken cancellation)
    {
        using var client = new HttpClient { Timeout = TimeSpan.FromSeconds(100) };
        var name = new Uri(url).AbsolutePath.Trim('/').Split('/')[^1];
        var report = await Terminal.WithStatusAsync("Verifying", silent, progress =>
            ServiceVerifier.VerifyAsync(
                new HttpProbe(client),
                new VerificationOptions(name.Length == 0 ? url : name, url, rows, Progress: progress),
                cancellation
            )
        );
        return new VerificationReport([report]);
    }

    private static async Task<VerificationReport?> VerifyWorkspaceAsync(
        string folder,
        long rows,
        bool access,
        bool writes,
        bool silent,
        CancellationToken cancellation
    )
    {
        await using var workspace = await Terminal.LoadAsync(folder, cancellation);
        Terminal.WriteDiagnostics(workspace.Diagnostics);
        if (workspace.Diagnostics.HasErrors)
            return null;
        var registry = new ServiceRegistry(workspace);
        var trial = await AccessTrial.PrepareAsync(workspace, registry, access, cancellation);
        // What is tried here is of no interest to who reads the log of the real service.
        await using var app = ServiceHost.Build(
            workspace,
            new ServiceOptions(0, IsQuiet: !Console.IsErrorRedirected, Lent: trial.Keys, IsTrial: true)
        );
        await app.StartAsync(cancellation);
        using var client = new HttpClient { Timeout = TimeSpan.FromSeconds(100) };
        var reports = new List<ServiceReport>();
        foreach (var service in registry.All)
        {
            reports.AddRange(
                await Terminal.WithStatusAsync($"Trying {service.Model.Service}", silent, progress =>
                    trial.RunAsync(service, client, ServeCommand.AddressOf(app), progress, cancellation)
                )
            );
            var model = service.ModelFor(Caller.Anonymous);
            var root = $"{ServeCommand.AddressOf(app)}/odata/{service.Model.Service}/";
            if (model.Sets.IsEmpty)
                continue;
            var counter = new DatabaseCounter(service.Model, workspace.Sources);
            reports.Add(
                await Terminal.WithStatusAsync($"Verifying {service.Model.Service}", silent, progress =>
                    ServiceVerifier.VerifyAsync(
                        new HttpProbe(client),
                        new VerificationOptions(service.Model.Service, root, rows, DatabaseCount: counter.CountAsync, Progress: progress),
                        cancellation
                    )
                )
            );
        }
        await app.StopAsync(cancellation);
        if (registry.All.Any(IsPartlyClosed))
            reports.AddRange(await VerifyClosedAsync(workspace, rows, silent, cancellation));
        if (writes)
            reports.AddRange(await TryWritesAsync(workspace, silent, cancellation));
        return new VerificationReport([.. reports]);
    }

    private static bool IsPartlyClosed(PublishedService service) =>
        service.ModelFor(Caller.Anonymous).Sets.Length < service.Model.Sets.Length;

    /// <summary>Verifies services with sets that are not open to everybody, as somebody who may read all of them.</summary>
    private static async Task<List<ServiceReport>> VerifyClosedAsync(
        LoadedWorkspace workspace,
        long rows,
        bool silent,
        CancellationToken cancellation
    )
    {
        var (opened, key, caller) = WriteTrial.Open(workspace);
        await using var app = ServiceHost.Build(
            opened,
            new ServiceOptions(
                0,
                IsQuiet: !Console.IsErrorRedirected,
                Lent: new Dictionary<string, Caller> { [key] = caller },
                IsTrial: true
            )
        );
        await app.StartAsync(cancellation);
        using var client = new HttpClient { Timeout = TimeSpan.FromSeconds(100) };
        var reports = new List<ServiceReport>();
        var closed = new ServiceRegistry(workspace).All.Where(IsPartlyClosed).Select(s => s.Model.Service).ToHashSet();
        foreach (var service in new ServiceRegistry(opened).All.Where(s => closed.Contains(s.Model.Service)))
        {
            var root = $"{ServeCommand.AddressOf(app)}/odata/{service.Model.Service}/";
            var counter = new DatabaseCounter(service.Model, workspace.Sources);
            var options = new VerificationOptions(
                $"{service.Model.Service}: whatever the rules keep closed",
                root,
                rows,
                DatabaseCount: counter.CountAsync
            );
            reports.Add(
                await Terminal.WithStatusAsync($"Verifying all of {service.Model.Service}", silent, progress =>
                    ServiceVerifier.VerifyAsync(new HttpProbe(client, "Bearer " + key), options with { Progress = progress }, cancellation)
                )
            );
        }
        return reports;
    }

    private static async Task<List<ServiceReport>> TryWritesAsync(LoadedWorkspace workspace, bool silent, CancellationToken cancellation)
    {
        var (opened, key, caller) = WriteTrial.Open(workspace);
        await using var app = ServiceHost.Build(
            opened,
            new ServiceOptions(
                0,
                IsQuiet: !Console.IsErrorRedirected,
                Lent: new Dictionary<string, Caller> { [key] = caller },
                IsTrial: true
            )
        );
        await app.StartAsync(cancellation);
        using var client = new HttpClient { Timeout = TimeSpan.FromSeconds(100) };
        var reports = new List<ServiceReport>();
        foreach (
            var service in new ServiceRegistry(opened).All.Where(s =>
                s.Model.Sets.Any(e => (e.Operations & ~Model.SetOperations.Read) != 0)
            )
        )
            reports.Add(
                await Terminal.WithStatusAsync($"Writing to {service.Model.Service}", silent, progress =>
                    WriteTrial.RunAsync(
                        service,
                        client,
                        ServeCommand.AddressOf(app),
                        key,
                        Random.Shared.Next(1, 1_000_000),
                        progress,
                        cancellation
                    )
                )
            );
        await app.StopAsync(cancellation);
        return reports;
    }

    private static object ForJson(VerificationReport report) =>
        new
        {
            ok = !report.HasFailures,
            passed = report.Count(CheckOutcome.Passed),
            failed = report.Count(CheckOutcome.Failed),
            skipped = report.Count(CheckOutcome.Skipped),
            services = report.Services.Select(s => new
            {
                s.Service,
                s.Url,
                seconds = Math.Round(s.Time.TotalSeconds, 3),
                results = s.Results.Select(r => new
                {
                    r.Check,
                    r.Subject,
                    outcome = r.Outcome.ToString().ToLowerInvariant(),
                    r.Message,
                    r.Examined,
                    r.Url,
                }),
            }),
        };

    private static void Write(VerificationReport report, bool details)
    {
        foreach (var service in report.Services)
        {
            Terminal.Out.MarkupLine(
                $"[bold]{Markup.Escape(service.Service)}[/]  [grey]{Markup.Escape(service.Url)}, {service.Time.TotalSeconds:0.0} s[/]"
            );
            var table = new Table().Border(TableBorder.None).HideHeaders();
            if (details)
            {
                table.AddColumns("", "subject", "check", "message");
                foreach (var result in service.Results)
                    table.AddRow(
                        Word(result.Outcome),
                        Markup.Escape(result.Subject),
                        Markup.Escape(result.Check),
                        Markup.Escape(result.Message)
                    );
            }
            else
            {
                table.AddColumns("", "subject", "checks", "summary");
                // The sets of the matrix are told with the caller.
                foreach (
                    var subject in service.Results.GroupBy(r =>
                        r.Check.StartsWith("access-", StringComparison.Ordinal) ? r.Subject.Split(" for ")[^1] : r.Subject
                    )
                )
                    AddSubject(table, subject.Key, [.. subject]);
            }
            Terminal.Out.Write(table);
            foreach (var failure in service.Results.Where(r => r.Outcome == CheckOutcome.Failed && r.Url is not null))
                Terminal.Out.MarkupLine($"[grey]{Markup.Escape($"{failure.Subject} {failure.Check}: see {failure.Url}")}[/]");
            Terminal.Out.WriteLine();
        }
        Terminal.Out.MarkupLine(
            $"{report.Count(CheckOutcome.Passed)} passed, "
                + $"{(report.HasFailures ? $"[red]{report.Count(CheckOutcome.Failed)} failed[/]" : "0 failed")}, "
                + $"{report.Count(CheckOutcome.Skipped)} skipped"
        );
    }

    /// <summary>One line for a set or the service, and one below it for each check that did not pass.</summary>
    private static void AddSubject(Table table, string subject, List<CheckResult> results)
    {
        var worst = results.Max(r =>
            r.Outcome switch
            {
                CheckOutcome.Failed => 2,
                CheckOutcome.Skipped => 1,
                _ => 0,
            }
        );
        var outcome = worst switch
        {
            2 => CheckOutcome.Failed,
            1 => CheckOutcome.Skipped,
            _ => CheckOutcome.Passed,
        };
        var passed = results.Count(r => r.Outcome == CheckOutcome.Passed);
        CheckResult? Find(string check) => results.Find(r => r.Check == check && r.Outcome == CheckOutcome.Passed);
        var parts = new[]
        {
            Find("access-leaks")?.Message,
            Find("metadata-valid")?.Message,
            Find("keys-unique") is { } keys ? Terminal.Plural(keys.Examined, "row") : null,
            Find("set-answers")?.Message,
            Find("values-fit") is { } values ? Terminal.Plural(values.Examined, "value") : null,
        };
        table.AddRow(
            Word(outcome),
            Markup.Escape(subject),
            $"{passed} of {Terminal.Plural(results.Count, "check")}",
            Markup.Escape(string.Join(", ", parts.OfType<string>()))
        );
        foreach (var result in results.Where(r => r.Outcome != CheckOutcome.Passed))
            table.AddRow(
                "",
                "",
                Markup.Escape("  " + (result.Subject == subject ? result.Check : $"{result.Subject} {result.Check}")),
                result.Outcome == CheckOutcome.Failed ? $"[red]{Markup.Escape(result.Message)}[/]" : Markup.Escape(result.Message)
            );
    }

    private static string Word(CheckOutcome outcome) =>
        outcome switch
        {
            CheckOutcome.Passed => "[green]ok[/]",
            CheckOutcome.Failed => "[red]FAIL[/]",
            _ => "[olive]skip[/]",
        };
}
