using System.CommandLine;
using System.Text.Encodings.Web;
using System.Text.Json;
using RapidGable.Declarations;

namespace RapidGable.Cli;

/// <summary><c>gable schema</c>: JSON Schemas by which editors complete and check the files of a workspace.</summary>
internal static class SchemaCommand
{
    private static readonly JsonSerializerOptions Json = new()
    {
        WriteIndented = true,
        Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping,
    };

    public static Command Create()
    {
        var kind = new Argument<string>("kind") { Description = "workspace, source or service." };
        kind.AcceptOnlyFromAmong([.. FileSchemas.All.Keys]);
        var command = new ExampleCommand(
            "schema",
            "Print the JSON Schema of a kind of file, for an editor to complete and check by.",
            "gable schema service > service.schema.json"
        )
        {
            kind,
        };
        command.SetAction(result => Console.Out.WriteLine(FileSchemas.All[result.GetValue(kind)!].ToJsonString(Json)));
        return command;
    }
}
