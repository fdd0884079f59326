using System.Text;
using System.Text.Json;
using NJsonSchema.CodeGeneration.CSharp;
using NSwag;
using NSwag.CodeGeneration.CSharp;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>The plain REST face and its description, in use: public validators and generated clients.</summary>
[Collection("clients")] // they write into one folder
public sealed class RestClientTests : IAsyncLifetime
{
    private const string Password = "clear-water-7";
    private static readonly string Generated = Path.Combine(Clients.Folder, "generated");

    private readonly TestWorkspace _folder = new();
    private RunningService _service = null!;

    private string Root => _service.Address + "/rest/fieldwork";

    public async Task InitializeAsync()
    {
        await _folder.WithDemo().WithInesAsync(Password);
        _service = await RunningService.StartAsync(_folder.Folder);
        Directory.CreateDirectory(Generated);
    }

    public async Task DisposeAsync()
    {
        await _service.DisposeAsync();
        _folder.Dispose();
    }

    private static (string, string) Ines =>
        ("Authorization", "Basic " + Convert.ToBase64String(Encoding.UTF8.GetBytes("ines:" + Password)));

    /// <summary>Writes a document of the service beside the clients.</summary>
    private async Task<string> DocumentAsync(string address, string file)
    {
        var answer = await _service.SendAsync(address, "GET", Ines);
        Assert.Equal(200, answer.Status);
        var path = Path.Combine(Generated, file);
        await File.WriteAllBytesAsync(path, answer.Bytes);
        return path;
    }

    [Fact]
    public async Task A_csharp_client_is_generated_compiled_and_used()
    {
        var path = await DocumentAsync("/rest/fieldwork/openapi-3.0.json", "fieldwork-3.0.json");
        var document = await OpenApiDocument.FromJsonAsync(await File.ReadAllTextAsync(path));
        var settings = new CSharpClientGeneratorSettings
        {
            ClassName = "FieldworkClient",
            GenerateOptionalParameters = true,
            CSharpGeneratorSettings =
            {
                Namespace = "RapidGable.Clients.Fieldwork",
                JsonLibrary = CSharpJsonLibrary.SystemTextJson,
                GenerateNullableReferenceTypes = true,
                DateType = "System.DateOnly",
            },
        };
        await File.WriteAllTextAsync(
            Path.Combine(Generated, "FieldworkClient.cs"),
            new CSharpClientGenerator(document, settings).GenerateFile()
        );
        Assert.Equal(
            """{"list":[[1,2,3,4,5],true,true],"filtered":["AB-00","AB-00","AB-00"],"created":[true,"AB-001"],"changed":"Changed","conflict":"412 changed","refused":"422 rule-broken","gone":"404 not-found"}""",
            await Clients.RunAsync("dotnet", "run", "--project", "csharp", "-c", "Release", "-v", "quiet", "--", Root, "ines:" + Password)
        );
    }

    [Fact]
    public async Task A_typescript_client_is_generated_compiled_and_used()
    {
        await DocumentAsync("/rest/fieldwork/openapi.json", "fieldwork.json");
        await Clients.RunAsync("npx", "openapi-typescript", "generated/fieldwork.json", "-o", "generated/fieldwork.ts");
        await Clients.RunAsync("npx", "tsc", "-p", "tsconfig.rest.json");
        Assert.Equal(
            """{"list":[[1,2,3,4,5],true,true],"filtered":["AB-00","AB-00","AB-00"],"created":[201,true],"changed":[200,"Changed","AB-001"],"conflict":[412,"changed"],"refused":[422,["#/purpose"]],"deleted":204,"gone":"not-found"}""",
            await Clients.RunAsync("node", "generated/js/rest-client.js", Root, "ines:" + Password)
        );
    }

    [Fact] // every document of the demo, on both faces, in all forms
    [Proves("R-31, R-32, R-37, R-38, R-40, R-41, R-42")]
    public async Task Public_validators_find_nothing_wrong()
    {
        var files = new List<string>();
        foreach (var service in new[] { "rivers", "fieldwork", "laboratory" })
        foreach (var face in new[] { "rest", "odata" })
        foreach (var form in new[] { "openapi.json", "openapi.yaml", "openapi-3.0.json", "openapi-3.0.yaml" })
        {
            if ((await _service.SendAsync($"/{face}/{service}/{form}", "GET", Ines)).Status == 200)
                files.Add(await DocumentAsync($"/{face}/{service}/{form}", $"{face}-{service}-{form}"));
        }
        Assert.Equal(16, files.Count);
        var found = JsonDocument.Parse(await Clients.RunAsync("node", ["openapi-valid.mjs", .. files])).RootElement;
        foreach (var file in found.EnumerateObject())
        {
            Assert.Equal(file.Name.Contains("3.0") ? "3.0" : "3.1", file.Value[0].GetString());
            Assert.True(file.Value[1].GetArrayLength() == 0, $"{file.Name}: {file.Value[1]}");
        }
        Assert.Equal(files.Count, found.EnumerateObject().Count());
    }
}
