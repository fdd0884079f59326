using System.CommandLine;
using RapidGable.Declarations;
using RapidGable.Model;
using RapidGable.Service.UseCases;
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
            Description = "Verify the running service at this root instead, any OData service, or plain REST by its openapi.json.",
        };
        var rows = new Option<long>("--rows") { Description = "Rows of a set to walk at most.", DefaultValueFactory = _ => 100_000 };
        var junit = new Option<string?>("--junit")
        {
            Description = "Also write the report to this file, in the XML form that build servers read.",
        };
        var html = new Option<string?>("--html") { Description = "Also write the report to this file, as one page to hand around." };
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
        var seed = new Option<int?>("--seed")
        {
            Description = "With --writes: make up the same entities as a run that said this seed; others each time when left out.",
        };
        var services = new Option<string[]>("--service")
        {
            Description = "Only this service, and no kept requests; can be given several times.",
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
            "gable verify demo --html report.html",
            "gable verify --url http://127.0.0.1:8460/odata/rivers/"
        )
        {
            workspace,
            url,
            rows,
            access,
            writes,
            services,
            seed,
            junit,
            html,
            details,
            json,
        };
        command.SetAction(
            (result, cancellation) =>
                RunAsync(
                    result.GetValue(workspace)!,
                    result.GetValue(url),
                    new VerifyOptions(
                        Math.Max(1, result.GetValue(rows)),
                        result.GetValue(access),
                        result.GetValue(writes),
                        result.GetValue(seed) ?? Random.Shared.Next(1, 1_000_000),
                        IsQuiet: !Console.IsErrorRedirected
                    )
                    {
                        Services = [.. result.GetValue(services) ?? []],
                    },
                    result.GetValue(junit),
                    result.GetValue(html),
                    result.GetValue(details),
                    result.GetValue(json),
                    cancellation
                )
        );
        return command;
    }

    private const string Description = "/openapi.json";

    private static async Task<int> RunAsync(
        string folder,
        string? url,
        VerifyOptions options,
        string? junit,
        string? html,
        bool details,
        bool json,
        CancellationToken cancellation
    )
    {
        if (url is not null && (options.WithAccess || options.WithWrites))
            throw new UsageException(
                options.WithAccess
                    ? "--access needs the workspace: who may do what is declared there."
                    : "--writes needs the workspace: what may be written is declared there."
            );
        if (url is not null && !options.Services.IsEmpty)
            throw new UsageException("--service chooses services of a workspace; --url names one already.");
        var report = url is null
            ? await VerifyWorkspaceAsync(folder, options, json, cancellation)
            : await VerifyUrlAsync(GetCommand.Address(url).OriginalString, options.Rows, json, cancellation);
        if (report is null)
            return 1;
        if (junit is not null)
            Save(junit, report.ToJUnit().Save);
        if (html is not null)
        {
            var page = HtmlReport.Write(report, url ?? TitleOf(folder), TimeProvider.System.GetUtcNow().UtcDateTime);
            Save(html, file => File.WriteAllText(file, page));
        }
        if (json)
            Terminal.WriteJson(ForJson(report));
        else
        {
            Write(report, details);
            if (options.WithWrites && report.HasFailures)
                Terminal.Out.WriteLine($"'--seed {options.Seed}' makes up the same entities again.");
        }
        return report.HasFailures ? 1 : 0;
    }

    private static string TitleOf(string folder) => WorkspaceReader.Read(new WorkspaceFolder(folder), _ => "").Workspace.Title;

    private static void Save(string file, Action<string> save)
    {
        try
        {
            save(file);
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
            url.EndsWith(Description, StringComparison.Ordinal)
                ? VerifyRestAsync(client, url[..^Description.Length], rows, progress, cancellation)
                : ServiceVerifier.VerifyAsync(
                    new HttpProbe(client),
                    new VerificationOptions(name.Length == 0 ? url : name, url, rows, Progress: progress),
                    cancellation
                )
        );
        return new VerificationReport([report]);
    }

    /// <summary>A service by its OpenAPI document. What could change something is left out: it is not known whose service it is.</summary>
    private static Task<ServiceReport> VerifyRestAsync(
        HttpClient client,
        string root,
        long rows,
        Action<string> progress,
        CancellationToken cancellation
    )
    {
        var title = $"{new Uri(root).AbsolutePath.Trim('/').Split('/')[^1]}: plain REST";
        var none = new Dictionary<string, string>();
        var options = new RestVerificationOptions(title, root, none, [], rows, Answers: false, Progress: progress);
        return RestVerifier.VerifyAsync(new RestProbe(client), options, cancellation);
    }

    private static async Task<VerificationReport?> VerifyWorkspaceAsync(
        string folder,
        VerifyOptions options,
        bool silent,
        CancellationToken cancellation
    )
    {
        await using var workspace = await Terminal.LoadAsync(folder, cancellation);
        Terminal.WriteDiagnostics(workspace.Diagnostics);
        var names = workspace.Services.Select(s => s.Model.Service).ToList();
        if (options.Services.FirstOrDefault(s => !names.Contains(s)) is { } unknown && !workspace.Diagnostics.HasErrors)
            throw new UsageException($"There is no service '{unknown}'.{NearestName.Hint(unknown, names)}");
        return workspace.Diagnostics.HasErrors
            ? null
            : await new VerifyWorkspace(
                workspace,
                options with
                {
                    Accounts = AccountOptions.Read(folder),
                },
                new StatusLine(silent)
            ).RunAsync(cancellation);
    }

    private sealed class StatusLine(bool silent) : IVerifyProgress
    {
        public Task<T> RunAsync<T>(string title, Func<Action<string>, Task<T>> work) => Terminal.WithStatusAsync(title, silent, work);
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
