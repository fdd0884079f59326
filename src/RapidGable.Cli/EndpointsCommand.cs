using System.CommandLine;
using System.Net.Http.Headers;
using System.Text;
using System.Text.Json;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable endpoints</c>: the addresses of a running service, and what may be done at each.</summary>
internal static class EndpointsCommand
{
    public static Command Create()
    {
        var url = new Argument<string>("url")
        {
            Description = "Where the service runs.",
            DefaultValueFactory = _ => "http://127.0.0.1:8460",
        };
        var service = new Option<string?>("--service") { Description = "Only this service.", HelpName = "NAME" };
        var face = new Option<string?>("--face") { Description = "Only this face: odata or rest.", HelpName = "FACE" };
        var user = new Option<string?>("--user") { Description = "Sign in with a name and a password.", HelpName = "NAME:PASSWORD" };
        var key = new Option<string?>("--key") { Description = "Sign in with an API key.", HelpName = "KEY" };
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "endpoints",
            "List the addresses of all sets on all faces of a running service, with what the caller may do at each.",
            "gable endpoints",
            "gable endpoints --face rest --service rivers",
            "gable endpoints http://127.0.0.1:9000 --user ines:PASSWORD --json"
        )
        {
            url,
            service,
            face,
            user,
            key,
            json,
        };
        command.SetAction(
            (result, cancellation) =>
                RunAsync(
                    result.GetValue(url)!,
                    result.GetValue(service),
                    result.GetValue(face),
                    result.GetValue(user),
                    result.GetValue(key),
                    result.GetValue(json),
                    cancellation
                )
        );
        return command;
    }

    private sealed record ListedService(string Name, string Title, IReadOnlyList<Endpoint> Endpoints);

    private sealed record Endpoint(string Face, string Set, string Url, IReadOnlyList<string> Operations);

    private static async Task<int> RunAsync(
        string url,
        string? service,
        string? face,
        string? user,
        string? key,
        bool json,
        CancellationToken cancellation
    )
    {
        if (!url.StartsWith("http", StringComparison.Ordinal))
            throw new UsageException($"'{url}' is not the address of a running service, such as http://127.0.0.1:8460.");
        var address = GetCommand.Address(url.TrimEnd('/') + "/services");
        using var client = new HttpClient();
        using var request = new HttpRequestMessage(HttpMethod.Get, address);
        if (user is not null)
            request.Headers.Authorization = new AuthenticationHeaderValue("Basic", Convert.ToBase64String(Encoding.UTF8.GetBytes(user)));
        else if (key is not null)
            request.Headers.Authorization = new AuthenticationHeaderValue("Bearer", key);
        try
        {
            using var response = await client.SendAsync(request, cancellation);
            if (!response.IsSuccessStatusCode)
            {
                Console.Error.WriteLine($"gable: {address} answers {(int)response.StatusCode}.");
                return 1;
            }
            using var answer = JsonDocument.Parse(await response.Content.ReadAsStringAsync(cancellation));
            var listed = answer
                .RootElement.GetProperty("services")
                .Deserialize<List<ListedService>>(JsonSerializerOptions.Web)!
                .Where(s => service is null || s.Name == service)
                .Select(s => s with { Endpoints = [.. s.Endpoints.Where(e => face is null || e.Face == face)] })
                .Where(s => s.Endpoints.Count > 0)
                .ToList();
            if (json)
                Terminal.WriteJson(new { services = listed });
            else
                Write(listed);
            return 0;
        }
        catch (Exception exception) when (exception is HttpRequestException or JsonException)
        {
            Console.Error.WriteLine($"gable: no answer of a service from {address.Authority}: {exception.Message}");
            return 1;
        }
    }

    private static void Write(List<ListedService> services)
    {
        if (services.Count == 0)
            Terminal.Out.WriteLine("There is nothing for this caller.");
        foreach (var service in services)
        {
            Terminal.Out.MarkupLine($"[bold]{Markup.Escape(service.Title)}[/] ({Markup.Escape(service.Name)})");
            foreach (var face in service.Endpoints.GroupBy(e => e.Face))
            {
                Terminal.Out.MarkupLine($"  [green]{Markup.Escape(face.Key)}[/]");
                var width = face.Max(e => string.Join(' ', e.Operations).Length);
                foreach (var endpoint in face)
                    Terminal.Out.WriteLine($"    {string.Join(' ', endpoint.Operations).PadRight(width)}  {endpoint.Url}");
            }
        }
    }
}
