using System.CommandLine;
using RapidGable.Service.Hosting;
using RapidGable.Service.Identity;
using RapidGable.Service.UseCases;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable handover</c>: what the consumers of a service get, as a folder of files.</summary>
internal static class HandoverCommand
{
    public static Command Create()
    {
        var workspace = CommonOptions.Workspace();
        var service = new Argument<string>("service") { Description = "The service." };
        var to = new Option<string?>("--to") { Description = "The folder to write; 'handover/SERVICE' when left out." };
        var address = new Option<string>("--address")
        {
            Description = "Where consumers find the service, such as https://data.example.",
            DefaultValueFactory = _ => "http://127.0.0.1:8460",
        };
        var who = new Option<string?>("--as")
        {
            Description = "For whom it is made: a user, or roles joined by commas; for everybody when left out.",
        };
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "handover",
            "Write a page for the consumers of a service, with its documents beside it: addresses, how to sign in, requests that were "
                + "answered, and programs. It shows what the caller may see, and nothing else.",
            "gable handover demo rivers",
            "gable handover demo laboratory --as partner --address https://data.alderbasin.example --to for-the-agency"
        )
        {
            workspace,
            service,
            to,
            address,
            who,
            json,
        };
        command.SetAction(
            (result, cancellation) =>
                RunAsync(
                    result.GetValue(workspace)!,
                    result.GetValue(service)!,
                    result.GetValue(to),
                    result.GetValue(address)!,
                    result.GetValue(who),
                    result.GetValue(json),
                    cancellation
                )
        );
        return command;
    }

    private static async Task<int> RunAsync(
        string folder,
        string service,
        string? to,
        string address,
        string? who,
        bool json,
        CancellationToken cancellation
    )
    {
        var origin = Origin(address);
        var caller = NamedCaller.Of(AccountOptions.Read(folder), who)
            ?? throw new UsageException($"'{who}' is no user, and no list of roles.");
        await using var workspace = await Terminal.LoadAsync(folder, cancellation);
        if (workspace.Diagnostics.HasErrors)
        {
            Terminal.WriteDiagnostics(workspace.Diagnostics);
            return 1;
        }
        var name = caller.IsSignedIn ? who! : NamedCaller.Anonymous;
        var wish = new HandoverWish(service, name, caller, origin, TimeProvider.System.GetUtcNow().UtcDateTime);
        var files = await Terminal.WithStatusAsync($"Asking {service}", json, _ =>
            new HandOver(workspace, wish, ServiceHost.Trial).RunAsync(cancellation)
        );
        var target = to ?? Path.Combine("handover", service);
        try
        {
            Directory.CreateDirectory(target);
            foreach (var file in files)
                await File.WriteAllTextAsync(Path.Combine(target, file.Name), file.Text, cancellation);
        }
        catch (Exception exception) when (exception is IOException or UnauthorizedAccessException)
        {
            throw new UsageException($"'{target}' cannot be written: {exception.Message}");
        }
        if (json)
            Terminal.WriteJson(new { folder = target, files = files.Select(f => f.Name) });
        else
        {
            foreach (var file in files)
                Terminal.Out.MarkupLine(
                    $"[green]{Markup.Escape(Path.Combine(target, file.Name))}[/]  [grey]{file.Text.Length:N0} characters[/]"
                );
            Terminal.Out.WriteLine($"Made for {name}. Open {Path.Combine(target, files[0].Name)}.");
        }
        return 0;
    }

    /// <exception cref="UsageException">When it is no address of a server.</exception>
    private static string Origin(string address) =>
        Uri.TryCreate(address, UriKind.Absolute, out var uri) && uri is { Scheme: "http" or "https", PathAndQuery: "/" }
            ? uri.GetLeftPart(UriPartial.Authority)
            : throw new UsageException($"'{address}' is no address of a server, such as https://data.example.");
}
