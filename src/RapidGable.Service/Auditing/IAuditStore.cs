using RapidGable.Declarations;

namespace RapidGable.Service.Auditing;

/// <summary>Where the events of an audit log are kept.</summary>
public interface IAuditStore
{
    /// <summary>Adds events.</summary>
    /// <exception cref="IOException">When they cannot be kept; <see cref="UnauthorizedAccessException"/> likewise.</exception>
    void Append(IEnumerable<AuditEvent> events);

    /// <summary>Removes the events of days before one (UTC).</summary>
    void RemoveBefore(DateOnly day);

    /// <summary>The events, newest first; those that cannot be read are left out.</summary>
    IEnumerable<AuditEvent> Read();
}

/// <summary>Finds the store of a workspace's audit log; null = it keeps none.</summary>
public delegate IAuditStore? AuditStoreOf(WorkspaceDeclaration workspace);
