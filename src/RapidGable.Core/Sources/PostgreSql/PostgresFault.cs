using System.Collections.Immutable;
using System.Net.Sockets;
using System.Security.Authentication;
using System.Text.RegularExpressions;
using Npgsql;

namespace RapidGable.Sources.PostgreSql;

/// <summary>What the server or the network says, in plain words and as a kind; never with a secret.</summary>
internal static partial class PostgresFault
{
    public static SourceException From(Exception exception, ServerNames names)
    {
        var place = names.Place;
        switch (exception)
        {
            case SourceException own:
                return own;
            case PostgresException server:
                return FromServer(server, names);
            case NpgsqlException
            {
                InnerException: SocketException { SocketErrorCode: SocketError.HostNotFound or SocketError.TryAgain or SocketError.NoData }
            }:
            case SocketException { SocketErrorCode: SocketError.HostNotFound or SocketError.TryAgain or SocketError.NoData }:
                return Unavailable($"The host '{names.Host}' is not known: its name cannot be resolved.");
            case NpgsqlException { InnerException: SocketException { SocketErrorCode: SocketError.ConnectionRefused } }:
                return Unavailable($"Nothing listens on {place}: the connection was refused.");
            case NpgsqlException { InnerException: AuthenticationException }:
                return Unavailable($"TLS with {place} failed: the server's certificate is not trusted.");
            case NpgsqlException tls when tls.Message.Contains("SSL", StringComparison.Ordinal):
                return Unavailable(
                    $"TLS with {place} failed: the server does not offer it. Set 'tls: prefer' or 'tls: off' if that is intended."
                );
            case TimeoutException or NpgsqlException { InnerException: TimeoutException }:
                return new SourceException(SourceFaultKind.TooSlow, $"{place} did not answer in time.", exception) { MayComeBack = true };
            case NpgsqlException or IOException or SocketException:
                return Unavailable($"The connection to {place} broke.");
            default:
                return new SourceException(SourceFaultKind.Broken, exception.Message, exception);
        }

        SourceException Unavailable(string message) =>
            new(SourceFaultKind.Unavailable, message, exception) { MayComeBack = !message.StartsWith("TLS", StringComparison.Ordinal) };
    }

    private static SourceException FromServer(PostgresException exception, ServerNames names)
    {
        if (Constraint(exception) is { } broken)
            return new SourceException(SourceFaultKind.Constraint, $"{exception.SqlState}: {exception.MessageText}", exception)
            {
                Constraint = broken,
            };
        var (kind, message) = exception.SqlState switch
        {
            "28P01" => (SourceFaultKind.Unavailable, $"The password of '{names.User}' is wrong."),
            "28000" => (SourceFaultKind.Unavailable, $"The user '{names.User}' may not connect from here, or does not exist."),
            "3D000" => (SourceFaultKind.Unavailable, $"There is no database '{names.Database}' on {names.Place}."),
            "42703" or "42P01" or "3F000" => (SourceFaultKind.Changed, exception.MessageText),
            "42501" => (SourceFaultKind.Unavailable, $"The user '{names.User}' lacks a right: {exception.MessageText}."),
            "53300" => (SourceFaultKind.Busy, "The server takes no more connections."),
            "57014" => (SourceFaultKind.TooSlow, "The statement passed its time limit."),
            "22P02" or "22007" or "22021" or "42846" => (SourceFaultKind.BadData, exception.MessageText),
            "22012" => (SourceFaultKind.DivisionByZero, exception.MessageText),
            "2201B" => (SourceFaultKind.BadPattern, exception.MessageText),
            "22003" or "22008" or "22015" => (SourceFaultKind.Overflow, exception.MessageText),
            "54000" or "54001" or "54011" or "54023" => (SourceFaultKind.TooComplex, exception.MessageText),
            "53000" or "53100" or "53200" or "53400" => (SourceFaultKind.OutOfMemory, exception.MessageText),
            "XX000" when exception.MessageText.StartsWith("invalid memory alloc request", StringComparison.Ordinal) => (
                SourceFaultKind.OutOfMemory,
                exception.MessageText
            ),
            "40001" or "40P01" => (SourceFaultKind.Collision, exception.MessageText),
            "55P03" => (SourceFaultKind.Busy, exception.MessageText),
            ['5', '7', 'P', ..] or ['0', '8', ..] => (SourceFaultKind.Unavailable, exception.MessageText),
            _ => (SourceFaultKind.Broken, $"{exception.SqlState}: {exception.MessageText}"),
        };
        // It starts, or stops to start again.
        return new SourceException(kind, message, exception)
        {
            Constraint = Refused(exception),
            MayComeBack = exception.SqlState is "57P03" or "57P01" or "57P02",
        };
    }

    /// <summary>Which rule of the database a change broke; null = none.</summary>
    private static BrokenConstraint? Constraint(PostgresException exception)
    {
        BrokenConstraint Of(ConstraintKind kind, params ImmutableArray<string> columns) =>
            new(kind, exception.ConstraintName, columns.IsEmpty && exception.ColumnName is { Length: > 0 } column ? [column] : columns);
        if (exception.SqlState is "P0001" or "45000")
            return Of(ConstraintKind.Raised) with { Message = exception.MessageText };
        // A developer's own words, though not meant for the caller who breaks the rule.
        if (exception.Where?.EndsWith("at RAISE", StringComparison.Ordinal) == true)
            return Of(ConstraintKind.Check);
        return exception.SqlState switch
        {
            "23505" or "23P01" => Of(ConstraintKind.Unique, Columns(exception)),
            "23502" => Of(ConstraintKind.Required),
            // The server says the same of both sides; only the one that refers has the missing row in its own words.
            "23503" => exception.MessageText.StartsWith("insert or update", StringComparison.Ordinal)
                ? Of(ConstraintKind.NoParent, Columns(exception))
                : Of(ConstraintKind.HasChildren),
            "23514" or "44000" => Of(ConstraintKind.Check),
            "22001" => Of(ConstraintKind.TooLong),
            "22003" or "22008" => exception.TableName is null && exception.ColumnName is null ? null : Of(ConstraintKind.Range),
            _ => null,
        };
    }

    /// <summary>
    /// What the server says of a parameter is about a value that was sent, and not about one that is stored; null = it says
    /// nothing of any value.
    /// </summary>
    private static BrokenConstraint? Refused(PostgresException exception)
    {
        if (ParameterNumber().Match(exception.Where ?? "") is not { Success: true } parameter)
            // Of a text that is no value of the type that it is cast to, nothing says where it comes from.
            return exception.SqlState is "22P02" or "22007" or "22023" ? new BrokenConstraint(ConstraintKind.Value, null, []) : null;
        var number = int.Parse(parameter.Groups[1].ValueSpan, System.Globalization.CultureInfo.InvariantCulture);
        return new BrokenConstraint(ConstraintKind.Value, null, []) { Parameter = number };
    }

    /// <summary>The columns of <c>Key (code, region)=(…) already exists.</c></summary>
    private static ImmutableArray<string> Columns(PostgresException exception) =>
        KeyColumns().Match(exception.Detail ?? "") is { Success: true } match
            ? [.. match.Groups[1].Value.Split(", ").Select(c => c.Trim('"'))]
            : [];

    /// <summary>The number in <c>unnamed portal parameter $2 = '…'</c>.</summary>
    [GeneratedRegex(@"portal(?: ""[^""]*"")? parameter \$(\d+)")]
    private static partial Regex ParameterNumber();

    [GeneratedRegex(@"^Key \(([^()]*)\)=")]
    private static partial Regex KeyColumns();
}
