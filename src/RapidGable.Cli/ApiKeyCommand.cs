using System.CommandLine;
using Spectre.Console;

namespace RapidGable.Cli;

/// <summary><c>gable api-key</c>: keys that programs send instead of a password.</summary>
internal static class ApiKeyCommand
{
    public static Command Create()
    {
        var workspace = new Argument<string>("workspace") { Description = "The workspace's folder." };
        var name = new Argument<string>("name") { Description = "What the key is for; callers with it go by this name." };
        var (roles, attributes) = (AccountOptions.Roles(), AccountOptions.Attributes());
        var days = new Option<int?>("--days") { Description = "Days for which the key is taken; for ever when left out." };
        var make = new ExampleCommand("make", "Make a key and print it, this once. A program sends it as 'Authorization: Bearer KEY'.", "gable api-key make demo nightly-load --role office --days 90") { workspace, name, roles, attributes, days };
        make.SetAction(result => Make(result.GetValue(workspace)!, result.GetValue(name)!, result.GetValue(roles), result.GetValue(attributes), result.GetValue(days)));
        var json = CommonOptions.Json();
        var list = new ExampleCommand("list", "List the keys by their ids; the keys themselves cannot be had again.", "gable api-key list demo") { workspace, json };
        list.SetAction(result => List(result.GetValue(workspace)!, result.GetValue(json)));
        var id = new Argument<string>("id") { Description = "The key's id, as 'gable api-key list' shows it." };
        var revoke = new ExampleCommand("revoke", "Take a key back; a running service refuses it from the next request on.", "gable api-key revoke demo 3f9a1c0b2d4e") { workspace, id };
        revoke.SetAction(result => Revoke(result.GetValue(workspace)!, result.GetValue(id)!));
        return new Command("api-key", "Keys that programs send instead of a password.") { make, list, revoke };
    }

    private static int Make(string folder, string name, string[]? roles, string[]? attributes, int? days)
    {
        if (days is < 1 or > 36_500)
            throw new UsageException("--days takes 1 to 36500.");
        if (name.Length is 0 or > 100 || name.Any(char.IsControl))
            throw new UsageException("A key's name has up to 100 characters, without control characters.");
        var now = TimeProvider.System.GetUtcNow().UtcDateTime;
        var (file, id, key) = AccountOptions.Read(folder).WithKey(name, AccountOptions.RolesOf(roles), AccountOptions.AttributesOf(attributes), now, days is { } count ? now.AddDays(count) : null);
        file.Write(folder);
        Terminal.Out.WriteLine($"Key {id} for {name}. It is shown only now:");
        Console.Out.WriteLine(key);
        return 0;
    }

    private static int List(string folder, bool json)
    {
        var accounts = AccountOptions.Read(folder);
        if (json)
        {
            Terminal.WriteJson(new { keys = accounts.Keys.Select(k => new { id = k.Key, k.Value.Name, k.Value.Roles, k.Value.Attributes, k.Value.Made, k.Value.Expires }) });
            return 0;
        }
        var now = TimeProvider.System.GetUtcNow().UtcDateTime;
        var table = new Table().Border(TableBorder.None).AddColumns("id", "for", "roles", "attributes", "made", "taken until");
        foreach (var (id, key) in accounts.Keys)
            table.AddRow(id, Markup.Escape(key.Name), Markup.Escape(string.Join(", ", key.Roles)), Markup.Escape(string.Join(", ", key.Attributes.OrderBy(a => a.Key).Select(a => $"{a.Key}={a.Value}"))), $"{key.Made:yyyy-MM-dd}",
                key.Expires is not { } end ? "for ever" : end <= now ? $"[red]{end:yyyy-MM-dd}, over[/]" : $"{end:yyyy-MM-dd}");
        Terminal.Out.Write(table);
        return 0;
    }

    private static int Revoke(string folder, string id)
    {
        var accounts = AccountOptions.Read(folder);
        if (!accounts.Keys.ContainsKey(id))
        {
            Console.Error.WriteLine($"gable: there is no key '{id}'. 'gable api-key list' shows their ids.");
            return 1;
        }
        (accounts with { Keys = accounts.Keys.Remove(id) }).Write(folder);
        Terminal.Out.WriteLine($"The key {id} is no longer taken.");
        return 0;
    }
}
