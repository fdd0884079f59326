using System.Collections.Immutable;
using System.CommandLine;
using RapidGable.Model;
using RapidGable.Service.Identity;
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
        var services = new Option<string[]>("--service")
        {
            Description = "A service that the key is good for; all when left out. May be given several times.",
        };
        var operations = new Option<string[]>("--may")
        {
            Description =
                "An operation that the key is good for: read, create, update or delete; all that its roles may when left out. "
                + "May be given several times.",
        };
        var administrator = new Option<bool>("--administrator")
        {
            Description = "For the management interface and the commands that use it, instead of services.",
        };
        var rights = AdministratorCommand.RightsOption();
        var make = new ExampleCommand(
            "make",
            "Make a key and print it, this once. A program sends it as 'Authorization: Bearer KEY'.",
            "gable api-key make demo nightly-load --role office --days 90",
            "gable api-key make demo map --role partner --service laboratory --may read"
        )
        {
            workspace,
            name,
            roles,
            attributes,
            days,
            services,
            operations,
            administrator,
            rights,
        };
        make.SetAction(result =>
            Make(
                result.GetValue(workspace)!,
                new ApiKey(result.GetValue(name)!, "", TimeProvider.System.GetUtcNow().UtcDateTime)
                {
                    Roles = AccountOptions.RolesOf(result.GetValue(roles)),
                    Attributes = AccountOptions.AttributesOf(result.GetValue(attributes)),
                    Services = result.GetValue(services) is { Length: > 0 } some ? [.. some] : null,
                    May = OperationsOf(result.GetValue(operations)),
                    IsAdministrator = result.GetValue(administrator),
                    Rights = AdministratorCommand.RightsOf(result.GetValue(rights)),
                },
                result.GetValue(days)
            )
        );
        var json = CommonOptions.Json();
        var list = new ExampleCommand(
            "list",
            "List the keys by their ids; the keys themselves cannot be had again.",
            "gable api-key list demo"
        )
        {
            workspace,
            json,
        };
        list.SetAction(result => List(result.GetValue(workspace)!, result.GetValue(json)));
        var id = new Argument<string>("id") { Description = "The key's id, as 'gable api-key list' shows it." };
        var revoke = new ExampleCommand(
            "revoke",
            "Take a key back; a running service refuses it from the next request on.",
            "gable api-key revoke demo 3f9a1c0b2d4e"
        )
        {
            workspace,
            id,
        };
        revoke.SetAction(result => Revoke(result.GetValue(workspace)!, result.GetValue(id)!));
        return new Command("api-key", "Keys that programs send instead of a password.") { make, list, revoke };
    }

    private static ImmutableArray<string>? OperationsOf(string[]? given)
    {
        if (given?.FirstOrDefault(o => !Grant.OperationWords.Contains(o)) is { } wrong)
            throw new UsageException(
                $"'{wrong}' is not an operation.{NearestName.Hint(wrong, Grant.OperationWords)} Operations: "
                    + $"{string.Join(", ", Grant.OperationWords)}."
            );
        return given is null or [] ? null : [.. given.Distinct()];
    }

    private static int Make(string folder, ApiKey asked, int? days)
    {
        if (days is < 1 or > 36_500)
            throw new UsageException("--days takes 1 to 36500.");
        if (asked.Name.Length is 0 or > 100 || asked.Name.Any(char.IsControl))
            throw new UsageException("A key's name has up to 100 characters, without control characters.");
        if (asked.IsAdministrator && (asked is not { Roles.IsEmpty: true, Attributes.IsEmpty: true, Services: null, May: null }))
            throw new UsageException("An administrator's key opens no service, so it has no roles, attributes, services and operations.");
        if (asked is { IsAdministrator: false, Rights: not null })
            throw new UsageException("--right is about an administrator's key; add --administrator.");
        AccountOptions.Read(folder);
        foreach (var service in asked.Services ?? [])
        {
            if (
                !File.Exists(Path.Combine(folder, "services", service + ".yaml"))
                && !File.Exists(Path.Combine(folder, "services", service + ".yml"))
            )
                throw new UsageException($"The workspace has no service '{service}'.");
        }
        var (made, id, key) = new AccountDirectory().WithKey(asked with { Expires = days is { } count ? asked.Made.AddDays(count) : null });
        AccountOptions.Change(folder, f => f with { Keys = f.Keys.AddRange(made.Keys) }, $"key {id} made for {asked.Name}");
        Terminal.Out.WriteLine($"Key {id} for {asked.Name}. It is shown only now:");
        Console.Out.WriteLine(key);
        AccountOptions.WarnOfRoles(folder, asked.Roles);
        return 0;
    }

    private static int List(string folder, bool json)
    {
        var accounts = AccountOptions.Read(folder);
        var uses = AccountOptions.LastUses(folder);
        DateTime? LastUse(string id) => uses.TryGetValue(id, out var last) ? last : null;
        if (json)
        {
            Terminal.WriteJson(
                new
                {
                    keys = accounts.Keys.Select(k => new
                    {
                        id = k.Key,
                        k.Value.Name,
                        k.Value.Roles,
                        k.Value.Attributes,
                        k.Value.Services,
                        k.Value.May,
                        k.Value.IsAdministrator,
                        k.Value.Rights,
                        k.Value.Made,
                        k.Value.Expires,
                        lastUse = LastUse(k.Key),
                    }),
                }
            );
            return 0;
        }
        var now = TimeProvider.System.GetUtcNow().UtcDateTime;
        var table = new Table()
            .Border(TableBorder.None)
            .AddColumns("id", "for", "roles", "attributes", "good for", "made", "last use", "taken until");
        foreach (var (id, key) in accounts.Keys)
            table.AddRow(
                id,
                Markup.Escape(key.Name),
                Markup.Escape(string.Join(", ", key.Roles)),
                Markup.Escape(AccountOptions.Words(key.Attributes)),
                GoodFor(key),
                $"{key.Made:yyyy-MM-dd}",
                LastUse(id) is { } last ? $"{last:yyyy-MM-dd HH:mm}" : "[grey]never[/]",
                key.Expires is not { } end ? "for ever"
                    : end <= now ? $"[red]{end:yyyy-MM-dd}, over[/]"
                    : $"{end:yyyy-MM-dd}"
            );
        Terminal.Out.Write(table);
        return 0;
    }

    private static string GoodFor(ApiKey key) =>
        key.IsAdministrator
            ? $"management: {string.Join(", ", ManagementRightWords.Of(ManagementRightWords.Of(key.Rights)))}"
            : Markup.Escape(
                $"{(key.Services is { } services ? string.Join(", ", services) : "all services")}"
                    + $"{(key.May is { } may ? $": {string.Join(", ", may)}" : "")}"
            );

    private static int Revoke(string folder, string id)
    {
        var accounts = AccountOptions.Read(folder);
        if (!accounts.Keys.ContainsKey(id))
        {
            Console.Error.WriteLine($"gable: there is no key '{id}'. 'gable api-key list' shows their ids.");
            return 1;
        }
        AccountOptions.Change(folder, f => f with { Keys = f.Keys.Remove(id) }, $"key {id} of {accounts.Keys[id].Name} revoked");
        Terminal.Out.WriteLine($"The key {id} is no longer taken.");
        return 0;
    }
}
