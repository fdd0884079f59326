using System.CommandLine;
using RapidGable.Publishing;
using RapidGable.UseCases;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable access</c>: who may do what to which set of a service.</summary>
internal static class AccessCommand
{
    public static Command Create()
    {
        var workspace = new Argument<string>("workspace") { Description = "The workspace's folder." };
        var service = new Argument<string>("service") { Description = "The service." };
        var (caller, attributes, json) = (AccountOptions.As(), AccountOptions.Attributes(), CommonOptions.Json());
        var command = new ExampleCommand(
            "access",
            "Show who may do what to which set of a service: for everybody that its rules name, or for one caller.",
            "gable access demo rivers",
            "gable access demo fieldwork --as field-staff --attribute region=north"
        )
        {
            workspace,
            service,
            caller,
            attributes,
            json,
        };
        command.SetAction(
            (result, cancellation) =>
                RunAsync(
                    result.GetValue(workspace)!,
                    result.GetValue(service)!,
                    result.GetValue(caller),
                    result.GetValue(attributes),
                    result.GetValue(json),
                    cancellation
                )
        );
        return command;
    }

    private static async Task<int> RunAsync(
        string folder,
        string name,
        string? asked,
        string[]? attributes,
        bool json,
        CancellationToken cancellation
    )
    {
        await using var workspace = await Terminal.LoadAsync(folder, cancellation);
        if (workspace.Diagnostics.HasErrors)
        {
            Terminal.WriteDiagnostics(workspace.Diagnostics);
            return 1;
        }
        var service = workspace.Service(name);
        var cells = asked is not null
            ? AccessMatrix.Of(service, asked, AccountOptions.CallerOf(folder, asked, attributes), holdsAll: false)
            : AccessMatrix.Of(service);
        if (json)
        {
            Terminal.WriteJson(
                new
                {
                    service = name,
                    access = cells,
                    sql = service.Model.Sql?.Who.ToString(),
                }
            );
            return 0;
        }
        var table = new Table().Border(TableBorder.None).AddColumns("set", "caller", "may", "rows", "not shown", "always null");
        foreach (var set in service.Model.Sets)
        {
            var first = true;
            foreach (var cell in cells.Where(c => c.Set == set.Name))
            {
                table.AddRow(
                    first ? Markup.Escape(set.Name) : "",
                    Markup.Escape(cell.Caller),
                    cell.May.Length == 0 ? "[grey]nothing[/]" : Markup.Escape(cell.May),
                    Markup.Escape(cell.Rows ?? (cell.May.Contains("read", StringComparison.Ordinal) ? "all" : "")),
                    Markup.Escape(string.Join(", ", cell.NotShown)),
                    Markup.Escape(string.Join(", ", cell.Masked))
                );
                first = false;
            }
        }
        Terminal.Out.Write(table);
        if (service.Model.Sql is { } sql)
            Terminal.Out.MarkupLine($"Statements over these sets: {Markup.Escape(sql.Who.ToString())}");
        return 0;
    }
}
