namespace RapidGable.Service.Tests;

/// <summary>The console's types are those of the service's messages. <c>make contracts</c> writes them anew.</summary>
public sealed class ContractTypesTests
{
    [Fact]
    public void The_consoles_types_are_those_of_the_messages()
    {
        var file = Path.Combine(Gable.Root, "console/src/api/contracts.ts");
        var text = TypeScriptContracts.Write();
        if (Environment.GetEnvironmentVariable("GABLE_WRITE") == "1")
            File.WriteAllText(file, text);
        Assert.True(
            File.Exists(file) && File.ReadAllText(file) == text,
            "console/src/api/contracts.ts is not that of the service's messages. Run 'make contracts', look at the difference and commit it."
        );
    }
}
