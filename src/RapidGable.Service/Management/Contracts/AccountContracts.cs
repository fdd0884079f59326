using System.Collections.Immutable;
using System.Text.Json.Serialization;
using RapidGable.Access;
using RapidGable.Publishing;
using RapidGable.Queries;
using RapidGable.Service.Auditing;

namespace RapidGable.Service.Management.Contracts;

/// <summary>Who manages.</summary>
/// <param name="Required">There are administrators, so one of them must sign in.</param>
/// <param name="Name">Null = nobody has signed in.</param>
/// <param name="Rights">look, write, publish, administer; empty = nobody has signed in.</param>
public sealed record Session(
    bool Required,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.Never)] string? Name,
    IEnumerable<string> Rights
);

/// <summary>Who may sign in to services, and who manages.</summary>
/// <param name="Roles">All that rules and users name.</param>
public sealed record Accounts(
    IEnumerable<string> Roles,
    IEnumerable<UserInfo> Users,
    IEnumerable<KeyInfo> Keys,
    IEnumerable<AdministratorInfo> Administrators
);

/// <summary>Somebody who manages.</summary>
/// <param name="Rights">look, write, publish, administer.</param>
public sealed record AdministratorInfo(string Name, IEnumerable<string> Rights);

/// <summary>A user with a password.</summary>
/// <param name="LastUse">Missing = not as far as the audit log goes.</param>
public sealed record UserInfo(
    string Name,
    IEnumerable<string> Roles,
    IReadOnlyDictionary<string, ImmutableArray<string>> Attributes,
    DateTime? LastUse
);

/// <summary>A program's key; not the key itself.</summary>
/// <param name="Services">The services that it is good for; missing = all.</param>
/// <param name="May">The operations that it is good for; missing = all.</param>
/// <param name="Rights">Of an administrator's key; missing = it is none.</param>
public sealed record KeyInfo(
    string Id,
    string Name,
    IEnumerable<string> Roles,
    IReadOnlyDictionary<string, ImmutableArray<string>> Attributes,
    IEnumerable<string>? Services,
    IEnumerable<string>? May,
    bool IsAdministrator,
    IEnumerable<string>? Rights,
    DateTime Made,
    DateTime? Expires,
    DateTime? LastUse
);

/// <summary>The user that was set.</summary>
public sealed record SetUser(string Name);

/// <summary>The key that was made; it is shown this once.</summary>
public sealed record MadeKey(string Id, string Key);

/// <summary>Who may do what with each set of a service.</summary>
public sealed record ServiceAccess(string Service, IReadOnlyList<AccessCell> Access);

/// <summary>An answer as somebody else sees it.</summary>
/// <param name="Type">Media type of the answer.</param>
/// <param name="IsWhole">The body is all of it, and not its beginning.</param>
public sealed record SeenAnswer(int Status, string? Type, bool IsWhole, string Body);

/// <summary>The newest events of the audit log.</summary>
/// <param name="IsKept">The workspace keeps a log.</param>
public sealed record AuditPage(bool IsKept, IEnumerable<AuditEvent> Events);

/// <summary>The statements behind a request, and what the rules do to it.</summary>
/// <param name="Times">Missing = it was not run.</param>
public sealed record ExplainedAnswer(
    string Service,
    IReadOnlyList<ExplainedStatement> Statements,
    ExplainedTimes? Times,
    IReadOnlyList<RuleEffect> Rules
);

/// <summary>A request that is refused, and what the rules do to it.</summary>
public sealed record RefusedRequest(RequestError Error, IReadOnlyList<RuleEffect> Rules);

/// <summary>What is wrong with a request.</summary>
/// <param name="Position">Of the first character that is wrong, from 0.</param>
/// <param name="Pointer">The text with a caret under that character.</param>
public sealed record RequestError(string Code, string Message, string? Target, int? Position, string? Pointer, int Status);

/// <summary>Why the management interface does not do something.</summary>
public sealed record ManagementProblem(ProblemDetail Error);

/// <summary>A code for programs and a message for people.</summary>
public sealed record ProblemDetail(string Code, string Message);
