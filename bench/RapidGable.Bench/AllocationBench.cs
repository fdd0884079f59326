using System.Globalization;
using System.Text;
using BenchmarkDotNet.Attributes;
using BenchmarkDotNet.Columns;
using BenchmarkDotNet.Configs;
using BenchmarkDotNet.Diagnosers;
using BenchmarkDotNet.Jobs;
using BenchmarkDotNet.Loggers;
using BenchmarkDotNet.Running;
using BenchmarkDotNet.Toolchains.InProcess.NoEmit;
using RapidGable.Access;
using RapidGable.Building;
using RapidGable.Payloads;
using RapidGable.Payloads.Json;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Requests;
using RapidGable.Requests.OData;

/// <summary>
/// Bytes that the core allocates for a request and for each of its rows: from the address to the last byte of the answer, without the
/// network.
/// </summary>
public class AllocationBench
{
    private static readonly Dictionary<string, PublishedService> Services = [];

    [ParamsSource(nameof(Engines))]
    public string Engine { get; set; } = "";

    [Params(1, 1_000, 10_000)]
    public int Rows { get; set; }

    public static IEnumerable<string> Engines => Services.Keys;

    [Benchmark]
    public Task Readings() => AnswerAsync($"Readings?$top={Rows}");

    [Benchmark]
    public Task ReadingsWithSensor() => AnswerAsync($"Readings?$top={Rows}&$expand=sensor");

    [Benchmark]
    public Task SensorsWithReadings() =>
        AnswerAsync($"Sensors?$top={Math.Min(Rows, 200)}&$expand=Readings($top={Math.Max(1, Rows / 200)})");

    private async Task AnswerAsync(string url)
    {
        var service = Services[Engine];
        var address = RequestAddress.Read(url[..url.IndexOf('?')], url[(url.IndexOf('?') + 1)..]).Value!;
        var lexed = LexedRequest.Read(address).Value!;
        var prepared = service.Prepare(lexed, Caller.Anonymous).Value!;
        var values = QueryValues.Make(prepared.Request, lexed, 1_000_000, DateTime.UnixEpoch).Value!;
        await using var run = (await QueryRun.StartAsync(prepared, values, CancellationToken.None)).Value!;
        using var output = new PayloadOutput((_, _) => default);
        await ODataJsonWriter
            .For(prepared, new PayloadFormat(ODataVersion.V40, MetadataLevel.Minimal, false))
            .WriteAsync(run, new LinkBuilder("http://x/", lexed), output, CancellationToken.None);
    }

    /// <summary>Prints the table and gives it as Markdown.</summary>
    public static async Task<string> RunAsync(string workspaceFolder)
    {
        await using var workspace = await WorkspaceLoader.LoadAsync(workspaceFolder, _ => null, default);
        foreach (var service in workspace.Services.Where(s => s.Model.FindSet("Sensors") is not null))
            Services[service.Model.Service] = new PublishedService(service.Model, workspace.Sources, "r");
        var job = Job
            .Default.WithToolchain(InProcessNoEmitToolchain.Instance)
            .WithWarmupCount(3)
            .WithIterationCount(3)
            .WithInvocationCount(16)
            .WithUnrollFactor(1);
        var summary = BenchmarkRunner.Run<AllocationBench>(
            ManualConfig
                .CreateEmpty()
                .AddJob(job)
                .AddDiagnoser(MemoryDiagnoser.Default)
                .AddLogger(NullLogger.Instance)
                .AddColumnProvider(DefaultColumnProviders.Instance)
                .WithOptions(ConfigOptions.DisableLogFile)
        );
        var bytes = summary.Reports.ToDictionary(
            r =>
                (
                    Engine: (string)r.BenchmarkCase.Parameters["Engine"],
                    Rows: (int)r.BenchmarkCase.Parameters["Rows"],
                    What: r.BenchmarkCase.Descriptor.WorkloadMethod.Name
                ),
            r => (double)r.GcStats.GetBytesAllocatedPerOperation(r.BenchmarkCase)!.Value
        );
        Console.WriteLine($"\n{"allocated bytes", -42} {"a request", 12} {"a row", 8}");
        var table = new StringBuilder(
            "\n## Allocation\n\nBytes that a request of one row allocates in all, and what each further row adds (between "
                + "1,000 and 10,000 rows), from the address to the last byte, by\nBenchmarkDotNet.\n\n| what | a request | a "
                + "row |\n| --- | --- | --- |\n"
        );
        foreach (var (engine, what) in bytes.Keys.Select(k => (k.Engine, k.What)).Distinct().Order())
        {
            var (one, row) = (bytes[(engine, 1, what)], (bytes[(engine, 10_000, what)] - bytes[(engine, 1_000, what)]) / 9_000);
            var name = what switch
            {
                "Readings" => "readings",
                "ReadingsWithSensor" => "readings with a to-one expand",
                _ => "sensors with a to-many expand",
            };
            Console.WriteLine(string.Create(CultureInfo.InvariantCulture, $"  {engine + ": " + name, -40} {one, 12:0} {row, 8:0.0}"));
            table.Append(
                CultureInfo.InvariantCulture,
                $"| {(engine == "sqlite" ? "SQLite" : "PostgreSQL")}: {name} | {one:0} | {row:0.0} |\n"
            );
        }
        return table.ToString();
    }
}
