using System.Diagnostics;
using System.Globalization;
using System.Text.Json;
using CsvHelper;
using RapidGable.Core.Tests;

namespace RapidGable.Service.Tests;

/// <summary>CSV and XLSX as a spreadsheet program reads them, cell by cell.</summary>
public sealed class SpreadsheetTests : IAsyncLifetime
{
    // A day counts from here in spreadsheets, for days after February 1900.
    private static readonly DateTime Start = new(1899, 12, 30, 0, 0, 0, DateTimeKind.Utc);

    private readonly TestWorkspace _folder = new();
    private RunningService _service = null!;

    public async Task InitializeAsync()
    {
        _folder
            .WithSource()
            .WithDatabase(
                """
                CREATE TABLE cell (id INTEGER PRIMARY KEY, large BIGINT, exact DECIMAL(28,10), measured DOUBLE, note TEXT, day DATE, at TIMESTAMP, open BOOLEAN);
                INSERT INTO cell VALUES
                    (1, 9007199254740993, '123456789012345678.0123456789', 0.1, 'plain', '2024-05-01', '2024-05-01 14:30:00', 1),
                    (2, -9223372036854775808, '-0.0000000001', 1e300, 'comma, "quote"', '1901-01-01', '1901-01-01 00:00:00', 0),
                    (3, 42, '1.5', -2.5, 'two' || char(10) || 'lines', '9999-12-31', '2031-12-31 23:59:59.123', NULL),
                    (4, NULL, NULL, NULL, NULL, NULL, NULL, NULL),
                    (5, 123456789012345, '123456789012.345', 123456.789, ' blanks ', '2024-02-29', '2024-02-29 00:00:00', 1),
                    (6, -999999999999999, '999999999999999', 3, 'größe m³/s 水', '2024-01-01', '2024-01-01 00:00:00', 1),
                    (7, 1000000000000000, '0.1234567890', 3, '=1+1', '2024-01-01', '2024-01-01 12:00:00', 1),
                    (8, 1, '1', 3, '@SUM(A1)', '2024-01-01', '2024-01-01 00:00:00', 1),
                    (9, 1, '1', 3, '00123', '1850-06-01', '1850-06-01 00:00:00', 1);
                """
            )
            .WithService("  - { from: cell, name: Cells, columns: { exact: { type: \"decimal(28,10)\" } } }\n");
        _service = await RunningService.StartAsync(_folder.Folder);
    }

    public async Task DisposeAsync()
    {
        await _service.DisposeAsync();
        _folder.Dispose();
    }

    /// <summary>The cells of a file as the program holds them.</summary>
    private async Task<List<string[]>> OpenedAsync(string file, byte[] content)
    {
        var (path, read) = (Path.Combine(_folder.Folder, file), Path.Combine(_folder.Folder, file + ".out.csv"));
        await File.WriteAllBytesAsync(path, content);
        var options = new[] { "-T", "Gnumeric_stf:stf_assistant", "-O", "separator=, quoting-mode=auto format=raw", path, read };
        using var process = Process.Start(new ProcessStartInfo("ssconvert", options) { RedirectStandardError = true })!;
        using var limit = new CancellationTokenSource(TimeSpan.FromMinutes(1));
        var errors = await process.StandardError.ReadToEndAsync(limit.Token);
        await process.WaitForExitAsync(limit.Token);
        Assert.True(process.ExitCode == 0, errors);
        using var parser = new CsvParser(new StreamReader(read), CultureInfo.InvariantCulture);
        var rows = new List<string[]>();
        while (await parser.ReadAsync())
            rows.Add(parser.Record!);
        return rows;
    }

    [Theory]
    [InlineData("format=xlsx", "cells.xlsx", 9)]
    [InlineData("format=text/csv;formulas=escaped&id=..8", "cells.csv", 8)] // codes keep their zeros, and early days theirs, in XLSX only
    public async Task Each_cell_is_what_the_service_says(string parameters, string file, int count)
    {
        var expected = (await _service.SendAsync("/rest/s/Cells")).Json.GetProperty("rows").EnumerateArray().Take(count).ToList();
        var answer = await _service.SendAsync("/rest/s/Cells?" + parameters);
        Assert.True(answer.Status == 200, answer.Text);
        var cells = await OpenedAsync(file, answer.Bytes);
        Assert.Equal(expected[0].EnumerateObject().Select(m => m.Name), cells[0]);
        Assert.Equal(count, cells.Count - 1);
        foreach (var (row, opened) in expected.Zip(cells.Skip(1)))
        foreach (var (member, cell) in row.EnumerateObject().Zip(opened))
            Assert.True(IsSame(member.Value, cell), $"{member.Name} of {row}: {cell}");
    }

    private static bool IsSame(JsonElement value, string cell) =>
        value.ValueKind switch
        {
            JsonValueKind.Null => cell.Length == 0,
            JsonValueKind.True or JsonValueKind.False => cell == value.GetRawText().ToUpperInvariant(),
            // A number with more digits than a double keeps is a text, digit by digit.
            JsonValueKind.Number when value.GetRawText().Count(char.IsAsciiDigit) > 15 && !value.GetRawText().Contains('E') => cell
                == value.GetRawText(),
            JsonValueKind.Number => double.Parse(cell, CultureInfo.InvariantCulture) == value.GetDouble(),
            _ => cell == value.GetString() || IsDay(value.GetString()!, cell),
        };

    /// <summary>A date or a time is a number of days, as precise as a double is.</summary>
    private static bool IsDay(string text, string cell) =>
        DateTime.TryParse(
            text,
            CultureInfo.InvariantCulture,
            DateTimeStyles.AdjustToUniversal | DateTimeStyles.AssumeUniversal,
            out var day
        )
        && double.TryParse(cell, CultureInfo.InvariantCulture, out var days)
        && Math.Abs((day - Start).TotalDays - days) < 1e-8;
}
