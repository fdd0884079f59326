using System.Net;
using System.Net.Sockets;
using System.Security.Authentication;
using System.Text.RegularExpressions;
using MySqlConnector;

namespace RapidGable.Sources.MariaDb;

/// <summary>What the server or the network says, in plain words and as a kind; never with a secret.</summary>
internal static partial class MariaDbFault
{
    /// <param name="host">The server's own name, to ask whether it is known; it is not shown.</param>
    public static SourceException From(Exception exception, ServerNames names, string? host)
    {
        var place = names.Place;
        if (exception is SourceException own)
            return own;
        for (var inner = exception; inner is not null; inner = inner.InnerException)
        {
            switch (inner)
            {
                case SocketException { SocketErrorCode: SocketError.HostNotFound or SocketError.TryAgain or SocketError.NoData }:
                    return Unavailable($"The host '{names.Host}' is not known: its name cannot be resolved.");
                case SocketException { SocketErrorCode: SocketError.ConnectionRefused }:
                    return Unavailable($"Nothing listens on {place}: the connection was refused.");
                case AuthenticationException:
                    return Unavailable($"TLS with {place} failed: the server's certificate is not trusted.");
            }
        }
        return exception is MySqlException server ? FromServer(server, names, host, place)
            : exception is IOException or SocketException or TimeoutException ? Unavailable($"The connection to {place} broke.")
            : new SourceException(SourceFaultKind.Broken, exception.Message, exception);

        SourceException Unavailable(string message) =>
            new(SourceFaultKind.Unavailable, message, exception) { MayComeBack = !message.StartsWith("TLS", StringComparison.Ordinal) };
    }

    private static SourceException FromServer(MySqlException exception, ServerNames names, string? host, string place)
    {
        if (Constraint(exception) is { } broken)
            return new SourceException(SourceFaultKind.Constraint, $"{(int)exception.ErrorCode}: {exception.Message}", exception)
            {
                Constraint = broken,
            };
        var (kind, message) = (int)exception.ErrorCode switch
        {
            1045 => (SourceFaultKind.Unavailable, $"The password of '{names.User}' is wrong, or the user does not exist."),
            1044 => (SourceFaultKind.Unavailable, $"The user '{names.User}' may not use the database '{names.Database}'."),
            1049 => (SourceFaultKind.Unavailable, $"There is no database '{names.Database}' on {place}."),
            1054 or 1146 or 1356 => (SourceFaultKind.Changed, exception.Message),
            1142 or 1143 or 1227 or 1370 => (SourceFaultKind.Unavailable, $"The user '{names.User}' lacks a right: {exception.Message}."),
            1040 or 1203 => (SourceFaultKind.Busy, "The server takes no more connections."),
            1213 or 1020 => (SourceFaultKind.Collision, "Two changes wait for each other."),
            1205 => (SourceFaultKind.Busy, "The rows are locked by somebody else."),
            1053 or 1152 or 1184 or 1927 => (SourceFaultKind.Unavailable, $"The connection to {place} was ended there."),
            1969 or 3024 or 1317 => (SourceFaultKind.TooSlow, "The statement passed its time limit."),
            1242 or 1365 => (SourceFaultKind.DivisionByZero, exception.Message),
            1116 or 1390 or 1436 or 4124 => (SourceFaultKind.TooComplex, exception.Message),
            1021 or 1037 or 1038 or 1041 or 1114 or 1153 or 4173 => (SourceFaultKind.OutOfMemory, exception.Message),
            1139 => (SourceFaultKind.BadPattern, exception.Message),
            1690 => (SourceFaultKind.Overflow, exception.Message),
            1300 => (SourceFaultKind.BadData, exception.Message),
            _ when exception.Message.Contains("SSL", StringComparison.Ordinal) => (
                SourceFaultKind.Unavailable,
                $"TLS with {place} failed: the server does not offer it. Set 'tls: prefer' or 'tls: off' if that is intended."
            ),
            // The library does not say why, so the name is looked up once more.
            _ when exception.ErrorCode == MySqlErrorCode.UnableToConnectToHost => (
                SourceFaultKind.Unavailable,
                IsKnown(host ?? "")
                    ? $"Nothing listens on {place}: the connection was refused."
                    : $"The host '{names.Host}' is not known: its name cannot be resolved."
            ),
            // The library refuses the statement itself.
            _ when exception.ErrorCode == MySqlErrorCode.None && exception.Message.Contains("arameter", StringComparison.Ordinal) => (
                SourceFaultKind.Broken,
                exception.Message
            ),
            // The library's own faults have no number, and what broke is somewhere inside of them.
            _ when exception.ErrorCode is MySqlErrorCode.CommandTimeoutExpired or MySqlErrorCode.None
                    || Inside(exception).Any(e => e is IOException or SocketException) => (
                SourceFaultKind.Unavailable,
                $"The connection to {place} broke."
            ),
            _ => (SourceFaultKind.Broken, $"{(int)exception.ErrorCode}: {exception.Message}"),
        };
        var isDown =
            kind == SourceFaultKind.Unavailable
            && exception.ErrorCode is MySqlErrorCode.UnableToConnectToHost or MySqlErrorCode.None or MySqlErrorCode.ServerShutdown;
        return new SourceException(kind, message, exception) { MayComeBack = isDown };
    }

    private static IEnumerable<Exception> Inside(Exception exception)
    {
        for (var inner = exception.InnerException; inner is not null; inner = inner.InnerException)
            yield return inner;
    }

    /// <summary>Which rule of the database a change broke; null = none.</summary>
    private static BrokenConstraint? Constraint(MySqlException exception)
    {
        BrokenConstraint Of(ConstraintKind kind, string? name = null) =>
            new(
                kind,
                name,
                ColumnName().Match(exception.Message) is { Success: true } match ? [.. match.Groups[1].Value.Split("`, `")] : []
            );
        return (int)exception.ErrorCode switch
        {
            1062 or 1586 or 1761 or 1762 => new BrokenConstraint(
                ConstraintKind.Unique,
                KeyName().Match(exception.Message) is { Success: true } key ? key.Groups[1].Value : null,
                []
            ),
            1048 or 1364 => Of(ConstraintKind.Required),
            1451 or 1217 => new BrokenConstraint(ConstraintKind.HasChildren, null, []),
            1452 or 1216 => new BrokenConstraint(
                ConstraintKind.NoParent,
                null,
                ForeignKey().Match(exception.Message) is { Success: true } own ? [.. own.Groups[1].Value.Split("`, `")] : []
            ),
            1644 when exception.SqlState == "45000" => new BrokenConstraint(ConstraintKind.Raised, null, [])
            {
                Message = exception.Message,
            },
            4025 or 3819 or 1644 or 1369 => new BrokenConstraint(ConstraintKind.Check, null, []),
            1406 => Of(ConstraintKind.TooLong),
            1264 => Of(ConstraintKind.Range),
            1265 or 1366 or 1292 or 4078 or 3140 => Of(ConstraintKind.Value),
            _ => null,
        };
    }

    [GeneratedRegex("(?:[Cc]olumn|Field) [^'`]*(?:`[^`]*`\\.`[^`]*`\\.)?['`]([^'`]+)['`]")]
    private static partial Regex ColumnName();

    [GeneratedRegex("for key '([^']+)'$")]
    private static partial Regex KeyName();

    [GeneratedRegex("FOREIGN KEY \\(`([^)]*)`\\)")]
    private static partial Regex ForeignKey();

    private static bool IsKnown(string host)
    {
        try
        {
            return Dns.GetHostAddresses(host).Length > 0;
        }
        catch (SocketException)
        {
            return false;
        }
    }
}
