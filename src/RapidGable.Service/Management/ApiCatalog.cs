using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;
using Microsoft.Extensions.DependencyInjection;
using RapidGable.Access;
using RapidGable.Model;
using RapidGable.Payloads.Plain;
using RapidGable.Publishing;
using RapidGable.Service.Faces;
using RapidGable.Service.Identity;
using RapidGable.Service.Management.Contracts;
using RapidGable.Service.Publishing;

namespace RapidGable.Service.Management;

/// <summary>What there is for a caller, on all faces: as a list of links (RFC 9727, RFC 9264), and as entries of the list of
/// services.</summary>
internal static class ApiCatalog
{
    private const string ContentType = "application/linkset+json; profile=\"https://www.rfc-editor.org/info/rfc9727\"";

    public static void Map(WebApplication app, ServiceRegistry registry)
    {
        var faces = app.Services.GetRequiredService<FaceTable>();
        app.MapMethods("/.well-known/api-catalog", ["GET", "HEAD"], async (HttpContext context, SignIn signIn) =>
        {
            if (!(await signIn.CallerOfAsync(context)).Is(out var caller, out var fault))
            {
                context.Response.Headers.WWWAuthenticate = signIn.Challenges(fault);
                return ManagementInterface.Problem(fault.Status, fault.Code, fault.Message);
            }
            context.Response.Headers.Append("Link", $"<{RootOf(context)}/.well-known/api-catalog>; rel=\"api-catalog\"");
            context.Response.Headers.Vary = "Authorization";
            context.Response.Headers.CacheControl = caller.IsSignedIn ? "private, no-cache" : "no-cache";
            var links = registry.All.SelectMany(s => faces.All.Select(f => Links(s, f, caller, context)).OfType<object>());
            return Results.Json(new { linkset = links }, ManagementInterface.JsonOptions, ContentType);
        });
        app.MapGet("/problems/{code}", (string code) =>
            ProblemTexts.Find(code) is { } text
                ? Results.Text(text, "text/markdown; charset=utf-8")
                : ManagementInterface.Problem(404, "not-found", $"There is no kind of problem '{code}'.")
        );
    }

    /// <summary>The endpoints of a service that a caller may do something with, on all of its faces.</summary>
    public static IEnumerable<EndpointInfo> Endpoints(PublishedService service, Caller caller, FaceTable faces, HttpContext context)
    {
        foreach (var face in faces.All)
        {
            var shown = service.On(face.Name);
            var seen = shown.ModelFor(caller);
            foreach (var set in shown.ChangeableBy(caller).Sets.Where(s => s.ContainedIn is null))
            {
                var operations = seen.FindSet(set.Name) is null ? set.Operations & ~SetOperations.Read : set.Operations;
                yield return new EndpointInfo(
                    face.Name,
                    set.Name,
                    $"{RootOf(context)}{face.RootOf(service)}{face.PathOf(shown, set)}",
                    Grant.Words(operations).Split(", ", StringSplitOptions.RemoveEmptyEntries)
                );
            }
        }
    }

    private static object? Links(PublishedService service, IFace face, Caller caller, HttpContext context)
    {
        if (!service.On(face.Name).IsOpenTo(caller))
            return null;
        var root = RootOf(context) + face.RootOf(service);
        return new Dictionary<string, object>
        {
            ["anchor"] = root,
            ["service-desc"] = face.Descriptions.Select(d => new { href = root + d.Path, type = d.MediaType }),
            ["service-doc"] = new[] { new { href = $"{RootOf(context)}/console/services/{service.Model.Service}", type = "text/html" } },
        };
    }

    private static string RootOf(HttpContext context) => $"{context.Request.Scheme}://{context.Request.Host}";
}

/// <summary>What each kind of problem means, as the page at its address.</summary>
internal static class ProblemTexts
{
    private static readonly Lazy<Dictionary<string, string>> Texts = new(Read);

    /// <summary>The text of a kind; null = there is none.</summary>
    public static string? Find(string code) => Texts.Value.GetValueOrDefault(code);

    /// <summary>The table of docs/errors.md, which is part of the program.</summary>
    private static Dictionary<string, string> Read()
    {
        using var stream = typeof(ProblemTexts).Assembly.GetManifestResourceStream("errors.md")!;
        using var reader = new StreamReader(stream);
        var texts = new Dictionary<string, string>();
        while (reader.ReadLine() is { } line)
        {
            var cells = line.Split('|', StringSplitOptions.TrimEntries);
            if (cells.Length < 4 || !cells[1].StartsWith('`'))
                continue;
            foreach (var code in cells[1].Split(',', StringSplitOptions.TrimEntries).Select(c => c.Trim('`')))
                texts[code] =
                    $"# {code}\n\n{string.Join("\n\n", cells[2..].Where(c => c.Length > 0))}\n\nAddress: {ProblemWriter.Types}{code}\n";
        }
        return texts;
    }
}
