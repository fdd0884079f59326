using System.CommandLine;
using System.Text.Json;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable refresh</c>: makes a running service look at its files and databases again.</summary>
internal static class RefreshCommand
{
    public static Command Create()
    {
        var url = new Argument<string>("url")
        {
            Description = "Where the service runs.",
            DefaultValueFactory = _ => "http://127.0.0.1:8460",
        };
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "refresh",
            "Make a running service read its files and the catalogs of its databases again; what does not fit leaves all as it was.",
            "gable refresh",
            "gable refresh http://127.0.0.1:9000 --json"
        )
        {
            url,
            json,
        };
        command.SetAction((result, cancellation) => RunAsync(result.GetValue(url)!, result.GetValue(json), cancellation));
        return command;
    }

    private static async Task<int> RunAsync(string url, bool json, CancellationToken cancellation)
    {
        var address = GetCommand.Address(url.TrimEnd('/') + "/manage/refresh");
        using var client = new HttpClient();
        using var request = new HttpRequestMessage(HttpMethod.Post, address) { Headers = { { "Gable-Client", "gable" } } };
        ManagementKey.AddTo(request);
        try
        {
            using var response = await client.SendAsync(request, cancellation);
            var text = await response.Content.ReadAsStringAsync(cancellation);
            if (!response.IsSuccessStatusCode)
            {
                Console.Error.WriteLine(
                    $"gable: {address} answers {(int)response.StatusCode}; {ManagementKey.Advice(response.StatusCode)}"
                );
                return 1;
            }
            using var outcome = JsonDocument.Parse(text);
            if (json)
                Terminal.WriteJson(outcome.RootElement);
            else
                Write(outcome.RootElement);
            return outcome.RootElement.GetProperty("kept").GetBoolean() ? 1 : 0;
        }
        catch (HttpRequestException exception)
        {
            Console.Error.WriteLine($"gable: no answer from {address.Authority}: {exception.Message}");
            return 1;
        }
    }

    private static void Write(JsonElement outcome)
    {
        if (outcome.GetProperty("kept").GetBoolean())
        {
            Terminal.Out.MarkupLine("[red]The last good state is kept:[/]");
            foreach (var fault in outcome.GetProperty("faults").EnumerateArray())
                Terminal.Out.WriteLine($"  {fault.GetProperty("location").GetString()}: {fault.GetProperty("message").GetString()}");
            return;
        }
        var changed = outcome.GetProperty("changed").EnumerateArray().ToList();
        foreach (var opened in outcome.GetProperty("opened").EnumerateArray())
            Terminal.Out.MarkupLine(
                $"[olive]{Markup.Escape($"{opened.GetProperty("service").GetString()}: {opened.GetProperty("text").GetString()}")}[/]"
            );
        var settings = outcome.GetProperty("settings").EnumerateArray().Select(s => s.GetString()!).ToList();
        if (changed.Count == 0 && settings.Count == 0)
            Terminal.Out.WriteLine("Nothing has changed.");
        foreach (var text in settings)
            Terminal.Out.WriteLine(char.ToUpperInvariant(text[0]) + text[1..] + ".");
        foreach (var change in changed)
        {
            var service = change.GetProperty("service").GetString()!;
            Terminal.Out.MarkupLine(
                $"[green]{Markup.Escape(service)}[/]: {Revision(change, "before", "new")} -> {Revision(change, "after", "gone")}"
            );
            foreach (
                var difference in outcome
                    .GetProperty("differences")
                    .EnumerateArray()
                    .Where(d => d.GetProperty("service").GetString() == service)
            )
                Terminal.Out.WriteLine($"  {difference.GetProperty("text").GetString()}");
        }
    }

    private static string Revision(JsonElement change, string name, string otherwise) =>
        change.TryGetProperty(name, out var revision) && revision.ValueKind == JsonValueKind.String ? revision.GetString()! : otherwise;
}
