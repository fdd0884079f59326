using System.CommandLine;
using System.Diagnostics;
using System.Globalization;
using System.Net.Http.Json;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json.Nodes;
using Polly;
using Polly.Retry;
using RapidGable.Model;
using RapidGable.Verification;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable send</c>: writes entities from a file to a set.</summary>
internal static class SendCommand
{
    private sealed record Asked(
        Uri Set,
        string File,
        string Format,
        int Batch,
        bool Upserts,
        bool IsWhole,
        string[] Headers,
        string? Report,
        bool Json
    );

    /// <summary>What became of a line.</summary>
    private sealed record Refused(long Line, int Status, JsonNode? Error, JsonNode? Sent);

    public static Command Create()
    {
        var url = new Argument<string>("set")
        {
            Description = "The whole address of an entity set, such as http://127.0.0.1:8460/odata/fieldwork/Visits.",
        };
        var file = new Argument<string>("file")
        {
            Description = "A file of JSON, JSON lines or CSV; - is standard input.",
            DefaultValueFactory = _ => "-",
            Arity = ArgumentArity.ZeroOrOne,
        };
        var format = new Option<string?>("--format")
        {
            Description = "json, jsonl or csv; by the file's name when left out, jsonl for standard input.",
        };
        format.AcceptOnlyFromAmong("json", "jsonl", "csv");
        var batch = new Option<int>("--batch") { Description = "Entities in one request.", DefaultValueFactory = _ => 50 };
        var upserts = new Option<bool>("--upsert") { Description = "Change entities whose key is there, and create the others." };
        var whole = new Option<bool>("--atomic") { Description = "Each request is done as a whole or not at all." };
        var header = new Option<string[]>("--header", "-H")
        {
            Description = "A request header, such as 'Authorization: Bearer KEY'; may be repeated.",
        };
        var report = new Option<string?>("--report") { Description = "Write refused lines, with why, to this file as JSON lines." };
        var json = CommonOptions.Json();
        var command = new ExampleCommand(
            "send",
            """
            Write entities from a file to a set, several in a request. A file that was broken off goes on where it was: beside it
            stands how far it is, until it is done; and what was sent and not answered is not written twice. Exits with 1 when a
            line is refused.
            """,
            "gable send http://127.0.0.1:8460/odata/fieldwork/Visits visits.csv -H 'Authorization: Bearer KEY'",
            "gable send http://127.0.0.1:8460/odata/s/Basins basins.jsonl --report refused.jsonl",
            "echo '{\"name\":\"Upper Alder\",\"area_km2\":12.5}' | gable send http://127.0.0.1:8460/odata/s/Catchments"
        )
        {
            url,
            file,
            format,
            batch,
            upserts,
            whole,
            header,
            report,
            json,
        };
        command.SetAction(
            (result, cancellation) =>
            {
                var name = result.GetValue(file)!;
                var chosen = result.GetValue(format)
                    ?? Path.GetExtension(name).ToLowerInvariant() switch
                    {
                        ".csv" => "csv",
                        ".json" => "json",
                        _ => "jsonl",
                    };
                return RunAsync(
                    new Asked(
                        GetCommand.Address(result.GetValue(url)!),
                        name,
                        chosen,
                        Math.Clamp(result.GetValue(batch), 1, RequestLimits.Standard.BatchRequests),
                        result.GetValue(upserts),
                        result.GetValue(whole),
                        result.GetValue(header) ?? [],
                        result.GetValue(report),
                        result.GetValue(json)
                    ),
                    cancellation
                );
            }
        );
        return command;
    }

    private static async Task<int> RunAsync(Asked asked, CancellationToken cancellation)
    {
        if (asked.File != "-" && !File.Exists(asked.File))
            throw new UsageException($"There is no file '{asked.File}'.");
        using var client = new HttpClient { Timeout = TimeSpan.FromSeconds(120) };
        foreach (var header in asked.Headers)
        {
            var colon = header.IndexOf(':');
            if (colon <= 0 || !client.DefaultRequestHeaders.TryAddWithoutValidation(header[..colon].Trim(), header[(colon + 1)..].Trim()))
                throw new UsageException($"'{header}' is not a header of the form 'Name: value'.");
        }
        var slash = asked.Set.OriginalString.TrimEnd('/').LastIndexOf('/');
        var (root, set) = (asked.Set.OriginalString[..(slash + 1)], asked.Set.OriginalString.TrimEnd('/')[(slash + 1)..]);
        var (types, key, fault) = await TypesAsync(client, root, Uri.UnescapeDataString(set), cancellation);
        if (fault is not null)
        {
            Console.Error.WriteLine($"gable: {fault}");
            return 1;
        }
        using var reader = asked.File == "-" ? Console.In : new StreamReader(asked.File, new UTF8Encoding(false, true));
        var place = new ResumePoint(asked.File, asked.Set.OriginalString);
        var total = asked.File == "-" ? 0 : new FileInfo(asked.File).Length;
        var clock = Stopwatch.StartNew();
        var sender = new Sender(client, root, set, key, asked, place);
        try
        {
            await WithBarAsync(asked.Json, total, async advance =>
            {
                var lines = SentLines.Read(reader, asked.Format, types).SkipWhile(l => l.Number <= place.Done);
                foreach (var some in lines.Chunk(asked.Batch))
                {
                    await sender.SendAsync(some, cancellation);
                    advance(
                        reader is StreamReader { BaseStream: { } stream } ? stream.Position : 0,
                        sender.Written + sender.RefusedLines.Count
                    );
                }
            });
        }
        catch (Exception exception)
            when (exception is HttpRequestException or IOException or DecoderFallbackException or OperationCanceledException)
        {
            var why =
                exception is not OperationCanceledException ? exception.Message
                : cancellation.IsCancellationRequested ? "it was interrupted."
                : "the service did not answer in time.";
            Console.Error.WriteLine($"gable: broken off after line {place.Done}: {why} Call it again to go on from there.");
            Tell(asked, sender, place, clock.Elapsed);
            return 1;
        }
        if (sender.Stop is { } stop)
        {
            Console.Error.WriteLine($"gable: {stop}");
            Tell(asked, sender, place, clock.Elapsed);
            return 1;
        }
        place.Forget();
        Tell(asked, sender, place, clock.Elapsed);
        return sender.RefusedLines.Count > 0 ? 1 : 0;
    }

    /// <summary>The properties of a set's type by name, and its key, by the metadata.</summary>
    private static async Task<(IReadOnlyDictionary<string, CsdlProperty> Types, IReadOnlyList<CsdlProperty> Key, string? Fault)> TypesAsync(
        HttpClient client,
        string root,
        string set,
        CancellationToken cancellation
    )
    {
        var none = new Dictionary<string, CsdlProperty>();
        HttpResponseMessage answer;
        try
        {
            answer = await client.GetAsync(new Uri(root + "$metadata"), cancellation);
        }
        catch (HttpRequestException exception)
        {
            return (none, [], $"no answer from {new Uri(root).Authority}: {exception.Message}");
        }
        using (answer)
        {
            if (!answer.IsSuccessStatusCode)
                return (
                    none,
                    [],
                    $"{root}$metadata answers "
                        + $"{(int)answer.StatusCode}"
                        + $"{((int)answer.StatusCode == 401 ? "; say who you are with --header 'Authorization: …'" : "")}."
                );
            var document = CsdlReader.Read(await answer.Content.ReadAsByteArrayAsync(cancellation), []);
            var found = document?.Containers.SelectMany(c => c.Sets).FirstOrDefault(s => s.Name == set);
            if (document is null || found is null || document.FindType(found.Type) is not { } type)
                return (
                    none,
                    [],
                    $"The service has no entity set "
                        + $"'{set}'.{NearestName.Hint(set, document?.Containers.SelectMany(c => c.Sets).Select(s => s.Name) ?? [])}"
                );
            var properties = document.PropertiesOf(type).GroupBy(p => p.Name).ToDictionary(g => g.Key, g => g.First());
            return (properties, [.. document.KeyOf(type).Where(properties.ContainsKey).Select(k => properties[k])], null);
        }
    }

    private static Task WithBarAsync(bool silent, long total, Func<Action<long, long>, Task> work)
    {
        if (silent || Console.IsErrorRedirected)
            return work((_, _) => { });
        return Terminal
            .Error.Progress()
            .AutoClear(true)
            .Columns(new TaskDescriptionColumn(), new ProgressBarColumn(), new PercentageColumn(), new ElapsedTimeColumn())
            .StartAsync(async context =>
            {
                var bar = context.AddTask("Sending", maxValue: Math.Max(1, total));
                bar.IsIndeterminate = total == 0;
                await work(
                    (bytes, lines) =>
                    {
                        bar.Value = Math.Min(bytes, total);
                        bar.Description = $"{lines:N0} lines";
                    }
                );
            });
    }

    private static void Tell(Asked asked, Sender sender, ResumePoint place, TimeSpan time)
    {
        if (asked.Report is { } file)
            File.WriteAllLines(
                file,
                sender.RefusedLines.Select(r =>
                    Terminal.JsonLine(
                        new
                        {
                            line = r.Line,
                            status = r.Status,
                            error = r.Error,
                            sent = r.Sent,
                        }
                    )
                )
            );
        if (asked.Json)
        {
            Terminal.WriteJson(
                new
                {
                    ok = sender.RefusedLines.Count == 0 && sender.Stop is null,
                    written = sender.Written,
                    refused = sender.RefusedLines.Select(r => new
                    {
                        line = r.Line,
                        status = r.Status,
                        error = r.Error,
                    }),
                    resumedAfter = place.Start == 0 ? (long?)null : place.Start,
                    seconds = Math.Round(time.TotalSeconds, 3),
                }
            );
            return;
        }
        foreach (var refused in sender.RefusedLines.Take(20))
            Terminal.Out.MarkupLine($"[red]line {refused.Line}[/] {refused.Status} {Markup.Escape(MessageOf(refused.Error))}");
        if (sender.RefusedLines.Count > 20)
            Terminal.Out.WriteLine(
                $"… and {sender.RefusedLines.Count - 20:N0} more{(asked.Report is null ? "; --report writes them to a file" : "")}"
            );
        var rate = time.TotalSeconds > 0.5 ? $", {sender.Written / time.TotalSeconds:N0} a second" : "";
        Terminal.Out.MarkupLine(
            $"{Terminal.Plural(sender.Written, "line")} written, "
                + $"{(sender.RefusedLines.Count > 0 ? $"[red]{sender.RefusedLines.Count:N0} refused[/]" : "0 refused")}"
                + $"{(place.Start > 0 ? $", from line {place.Start + 1} on" : "")} "
                + $" [grey]{time.TotalSeconds:0.0} s{rate}[/]"
        );
    }

    private static string MessageOf(JsonNode? error) =>
        error?["details"] is JsonArray { Count: > 0 } details
            ? string.Join(' ', details.Select(d => d?["message"]?.ToString()))
            : error?["message"]?.ToString() ?? "";

    /// <summary>How far a file is, beside it; a file that goes on sends the lines in between as requests that are not done twice.</summary>
    private sealed class ResumePoint
    {
        private readonly string? _path;

        public ResumePoint(string file, string set)
        {
            var mark = Convert.ToHexStringLower(SHA256.HashData(Encoding.UTF8.GetBytes(set)).AsSpan(0, 4));
            _path = file == "-" ? null : $"{file}.{mark}.sent";
            Run = Guid.NewGuid().ToString("N");
            Begun = DateTimeOffset.UtcNow;
            if (
                _path is null
                || !File.Exists(_path)
                || File.ReadAllText(_path).Split(' ') is not [var run, var begun, var done]
                || !long.TryParse(done, CultureInfo.InvariantCulture, out var line)
                || !DateTimeOffset.TryParse(begun, CultureInfo.InvariantCulture, out var at)
            )
                return;
            (Run, Begun, Start, Done) = (run, at, line, line);
        }

        public string Run { get; }

        public DateTimeOffset Begun { get; }

        /// <summary>The line after which it went on; 0 = from the start.</summary>
        public long Start { get; }

        public long Done { get; private set; }

        public void Keep(long line)
        {
            Done = line;
            if (_path is null)
                return;
            File.WriteAllText(_path + ".new", $"{Run} {Begun:O} {line}");
            File.Move(_path + ".new", _path, overwrite: true);
        }

        public void Forget()
        {
            if (_path is not null)
                File.Delete(_path);
        }
    }

    private sealed class Sender(HttpClient client, string root, string set, IReadOnlyList<CsdlProperty> key, Asked asked, ResumePoint place)
    {
        private static readonly ResiliencePipeline Patience = new ResiliencePipelineBuilder()
            .AddRetry(
                new RetryStrategyOptions
                {
                    ShouldHandle = new PredicateBuilder().Handle<HttpRequestException>(),
                    MaxRetryAttempts = 3,
                    Delay = TimeSpan.FromMilliseconds(200),
                    BackoffType = DelayBackoffType.Exponential,
                }
            )
            .Build();

        public long Written { get; private set; }

        public List<Refused> RefusedLines { get; } = [];

        /// <summary>Why nothing more is sent; null = all is.</summary>
        public string? Stop { get; private set; }

        public async Task SendAsync(SentLine[] lines, CancellationToken cancellation)
        {
            if (Stop is not null)
                return;
            RefusedLines.AddRange(
                lines.Where(l => l.Json is null).Select(l => new Refused(l.Number, 0, new JsonObject { ["message"] = l.Fault }, null))
            );
            var sound = lines.Where(l => l.Json is not null).ToList();
            if (sound.Count > 0)
                await SendBatchAsync(sound, cancellation);
            if (Stop is null)
                place.Keep(lines[^1].Number);
        }

        private async Task SendBatchAsync(List<SentLine> lines, CancellationToken cancellation)
        {
            var requests = new JsonArray([.. lines.Select(l => (JsonNode)RequestOf(l))]);
            // What gets no answer is sent again: the service knows what it has done.
            var response = await Patience.ExecuteAsync(async token => await PostAsync(requests, token), cancellation);
            using (response)
            {
                if (!response.IsSuccessStatusCode)
                {
                    Stop = $"the service answers {(int)response.StatusCode}: {await response.Content.ReadAsStringAsync(cancellation)}";
                    return;
                }
                var answers = (await response.Content.ReadFromJsonAsync<JsonObject>(cancellation))!["responses"]!.AsArray();
                if (answers.FirstOrDefault(a => (int)a!["status"]! == 503) is { } busy)
                    throw new IOException($"The service answers 503: {MessageOf(busy["body"]?["error"])}");
                foreach (var answer in answers)
                    Take(answer!, lines);
            }
        }

        private async Task<HttpResponseMessage> PostAsync(JsonArray requests, CancellationToken cancellation)
        {
            using var request = new HttpRequestMessage(HttpMethod.Post, root + "$batch")
            {
                Content = JsonContent.Create(new JsonObject { ["requests"] = requests.DeepClone() }),
            };
            request.Headers.TryAddWithoutValidation("OData-MaxVersion", "4.01");
            request.Headers.TryAddWithoutValidation("Prefer", "continue-on-error");
            return await client.SendAsync(request, cancellation);
        }

        private void Take(JsonNode answer, List<SentLine> lines)
        {
            var (number, status) = (long.Parse(answer["id"]!.ToString(), CultureInfo.InvariantCulture), (int)answer["status"]!);
            if (status < 300)
                Written++;
            else if (status is 401 or 403 or 405 or 404 && !asked.Upserts && Written == 0)
                Stop = $"{set} answers {status}: {MessageOf(answer["body"]?["error"])}";
            else
                RefusedLines.Add(
                    new Refused(
                        number,
                        status,
                        answer["body"]?["error"]?.DeepClone(),
                        JsonNode.Parse(lines.Find(l => l.Number == number)!.Json!)
                    )
                );
        }

        private JsonObject RequestOf(SentLine line)
        {
            var entity = JsonNode.Parse(line.Json!)!.AsObject();
            var headers = new JsonObject
            {
                ["content-type"] = "application/json",
                ["prefer"] = "return=minimal",
                ["repeatability-request-id"] = $"{place.Run}-{line.Number}",
                ["repeatability-first-sent"] = place.Begun.ToString("r", CultureInfo.InvariantCulture),
            };
            var request = new JsonObject
            {
                ["id"] = line.Number.ToString(CultureInfo.InvariantCulture),
                ["method"] = asked.Upserts ? "PATCH" : "POST",
                ["url"] = asked.Upserts ? $"{set}({KeyOf(entity)})" : set,
                ["headers"] = headers,
                ["body"] = entity,
            };
            if (asked.IsWhole)
                request["atomicityGroup"] = "all";
            return request;
        }

        private string KeyOf(JsonObject entity)
        {
            string Literal(CsdlProperty property) =>
                entity[property.Name] is not { } value ? ""
                : property.Type == "Edm.String" ? $"'{Uri.EscapeDataString(value.ToString().Replace("'", "''", StringComparison.Ordinal))}'"
                : Uri.EscapeDataString(value.ToString());
            return key.Count == 1 ? Literal(key[0]) : string.Join(',', key.Select(k => $"{k.Name}={Literal(k)}"));
        }
    }
}
