// Measures the service against endpoints written by hand for the same answers, in one process and one run: the two are
// asked in turn, and what is compared is the processor time of a request, so that a slow moment of the machine hits both.
using System.Diagnostics;
using System.Globalization;
using System.Net;
using System.Text.Json;
using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Hosting;
using Microsoft.AspNetCore.Http;
using Microsoft.Data.Sqlite;
using Microsoft.Extensions.Logging;
using RapidGable.Building;
using RapidGable.Demo;
using RapidGable.Service;

// args: the project's folder, and what to measure only: "load", with an engine and a part of a route's name where given, such as "load
// sqlite expand"; or "guards".
var folder = Directory.CreateTempSubdirectory("gable-bench").FullName;
try
{
    if (args is [_, "load", ..])
    {
        await LoadBench.RunAsync(folder, args[0], args.ElementAtOrDefault(2), args.ElementAtOrDefault(3));
        return;
    }
    if (args is [_, "guards", ..])
    {
        Console.WriteLine(await GuardBench.RunAsync(folder));
        return;
    }
    Directory.CreateDirectory(Path.Combine(folder, "sources"));
    Directory.CreateDirectory(Path.Combine(folder, "services"));
    var database = Path.Combine(folder, "network.db");
    NetworkDatabase.Make(database, 200_000, _ => { });
    File.WriteAllText(Path.Combine(folder, "workspace.yaml"), "title: Bench\n");
    File.WriteAllText(Path.Combine(folder, "sources/main.yaml"), "engine: sqlite\nfile: network.db\n");
    File.WriteAllText(
        Path.Combine(folder, "services/s.yaml"),
        "title: S\nsource: main\nrules: { read: anyone }\nsets:\n  - { from: station, name: Stations, hide: [photo], page: 100 "
            + "}\n  - { from: reading, name: Readings, page: 1000, largest-page: 200000 }\n"
    );
    await using var workspace = await WorkspaceLoader.LoadAsync(folder, _ => null, default);
    await using var service = ServiceHost.Build(workspace, new ServiceOptions(0));
    await service.StartAsync();
    await using var byHand = HandWritten.Build(database);
    await byHand.StartAsync();
    using var client = new HttpClient();
    var (ours, hand) = (service.Urls.First() + "/odata/s/", byHand.Urls.First() + "/");

    Console.WriteLine($"{"what", -44} {"gable µs", 9} {"by hand µs", 11} {"ratio", 6}");
    await CompareAsync("one station by key", i => $"{ours}Stations({(i % 120) + 1})", i => $"{hand}station?id={(i % 120) + 1}", 3000);
    await CompareAsync(
        "100 stations, filtered and sorted",
        i => $"{ours}Stations?$filter=telemetered%20eq%20true%20and%20id%20lt%20{100 + (i % 20)}&$orderby=name&$top=100",
        i => $"{hand}stations?below={100 + (i % 20)}",
        800
    );
    await CompareAsync(
        "1,000 readings",
        i => $"{ours}Readings?$filter=id%20gt%20{i * 7}&$top=1000",
        i => $"{hand}readings?after={i * 7}&rows=1000",
        200
    );
    await CompareAsync(
        "200,000 readings in one answer",
        _ => $"{ours}Readings?$top=200000",
        _ => $"{hand}readings?after=0&rows=200000",
        4,
        ("Prefer", "maxpagesize=200000")
    );
    await DepthAsync();
    await CatalogBench.RunAsync(folder);
    await LoadBench.RunAsync(folder, args[0]);
    Console.WriteLine($"{"memory after all of it", -44} {Environment.WorkingSet / 1048576, 9} MiB");

    async Task CompareAsync(
        string name,
        Func<int, string> left,
        Func<int, string> right,
        int rounds,
        params (string Name, string Value)[] headers
    )
    {
        double a = 0,
            b = 0;
        for (var i = -rounds / 5; i < rounds; i++)
        {
            var (x, y) = (await TimeAsync(left(Math.Abs(i)), headers), await TimeAsync(right(Math.Abs(i)), headers));
            if (i >= 0)
                (a, b) = (a + x, b + y);
        }
        Console.WriteLine(string.Create(CultureInfo.InvariantCulture, $"{name, -44} {a / rounds, 9:0} {b / rounds, 11:0} {b / a, 6:0.00}"));
    }

    // A page at the end of the set against the first one: the position is sought, so depth must cost nothing.
    async Task DepthAsync()
    {
        using var page = JsonDocument.Parse(await client.GetStringAsync($"{ours}Readings?$filter=id%20gt%20198000&$top=1500"));
        var link = page.RootElement.GetProperty("@odata.nextLink").GetString()!;
        var deep = $"{ours}Readings?$top=500&$skiptoken={link[(link.IndexOf("skiptoken=", StringComparison.Ordinal) + 10)..]}";
        await CompareAsync("500 readings at depth 199,000 / at the start", _ => deep, _ => $"{ours}Readings?$top=500", 300);
    }

    async Task<double> TimeAsync(string url, (string Name, string Value)[] headers)
    {
        using var request = new HttpRequestMessage(HttpMethod.Get, url);
        foreach (var (name, value) in headers)
            request.Headers.Add(name, value);
        var start = Process.GetCurrentProcess().TotalProcessorTime;
        using var response = await client.SendAsync(request, HttpCompletionOption.ResponseHeadersRead);
        response.EnsureSuccessStatusCode();
        await response.Content.CopyToAsync(Stream.Null);
        return (Process.GetCurrentProcess().TotalProcessorTime - start).TotalMicroseconds;
    }
}
finally
{
    Directory.Delete(folder, recursive: true);
}

/// <summary>The same answers as a developer would write them for these two tables only.</summary>
internal static class HandWritten
{
    public static WebApplication Build(string database)
    {
        var builder = WebApplication.CreateSlimBuilder();
        builder.Logging.ClearProviders();
        builder.WebHost.ConfigureKestrel(k => k.Listen(IPAddress.Loopback, 0));
        var app = builder.Build();
        var address = $"Data Source={database};Mode=ReadOnly";
        app.MapGet("/station", (HttpContext context, int id) =>
            AnswerAsync(
                context,
                address,
                "SELECT id, code, name, catchment_id, latitude, longitude, opened_on, closed_on, telemetered, datum_m, "
                    + "access_notes, changed_at FROM station WHERE id = $a",
                id,
                1,
                Station,
                single: true
            )
        );
        app.MapGet("/stations", (HttpContext context, int below) =>
            AnswerAsync(
                context,
                address,
                "SELECT id, code, name, catchment_id, latitude, longitude, opened_on, closed_on, telemetered, datum_m, "
                    + "access_notes, changed_at FROM station WHERE telemetered = 1 AND id < $a ORDER BY name, id LIMIT $b",
                below,
                100,
                Station
            )
        );
        app.MapGet("/readings", (HttpContext context, long after, int rows) =>
            AnswerAsync(
                context,
                address,
                "SELECT id, station_id, sensor_no, taken_at, value, quality, note FROM reading WHERE id > $a ORDER BY id LIMIT $b",
                after,
                rows,
                Reading
            )
        );
        return app;
    }

    private static async Task AnswerAsync(
        HttpContext context,
        string address,
        string sql,
        long a,
        int b,
        Action<Utf8JsonWriter, SqliteDataReader> write,
        bool single = false
    )
    {
        context.Response.ContentType = "application/json";
        await using var connection = new SqliteConnection(address);
        connection.Open();
        await using var command = new SqliteCommand(sql, connection);
        command.Parameters.AddWithValue("$a", a);
        if (!single)
            command.Parameters.AddWithValue("$b", b);
        await using var reader = command.ExecuteReader();
        await using var json = new Utf8JsonWriter(context.Response.BodyWriter);
        json.WriteStartObject();
        if (!single)
            json.WriteStartArray("value");
        while (reader.Read())
        {
            if (!single)
                json.WriteStartObject();
            write(json, reader);
            if (!single)
                json.WriteEndObject();
            if (json.BytesPending > 32_768)
            {
                json.Flush();
                await context.Response.BodyWriter.FlushAsync();
            }
        }
        if (!single)
            json.WriteEndArray();
        json.WriteEndObject();
    }

    private static void Station(Utf8JsonWriter json, SqliteDataReader row)
    {
        json.WriteNumber("id", row.GetInt64(0));
        json.WriteString("code", row.GetString(1));
        json.WriteString("name", row.GetString(2));
        json.WriteNumber("catchment_id", row.GetInt64(3));
        json.WriteNumber("latitude", row.GetDouble(4));
        json.WriteNumber("longitude", row.GetDouble(5));
        json.WriteString("opened_on", row.GetString(6));
        Text(json, "closed_on", row, 7);
        json.WriteBoolean("telemetered", row.GetBoolean(8));
        json.WriteNumber("datum_m", row.GetDecimal(9));
        Text(json, "access_notes", row, 10);
        json.WriteString("changed_at", row.GetString(11));
    }

    private static void Reading(Utf8JsonWriter json, SqliteDataReader row)
    {
        json.WriteNumber("id", row.GetInt64(0));
        json.WriteNumber("station_id", row.GetInt64(1));
        json.WriteNumber("sensor_no", row.GetInt64(2));
        json.WriteString("taken_at", row.GetString(3));
        if (row.IsDBNull(4))
            json.WriteNull("value");
        else
            json.WriteNumber("value", row.GetDecimal(4));
        Text(json, "quality", row, 5);
        Text(json, "note", row, 6);
    }

    private static void Text(Utf8JsonWriter json, string name, SqliteDataReader row, int column)
    {
        if (row.IsDBNull(column))
            json.WriteNull(name);
        else
            json.WriteString(name, row.GetString(column));
    }
}
