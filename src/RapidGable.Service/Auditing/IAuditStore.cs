namespace RapidGable.Service.Auditing;

/// <summary>Where the events of an audit log are kept.</summary>
public interface IAuditStore
{
    /// <summary>Adds events.</summary>
    /// <exception cref="State.StateException">When they cannot be kept.</exception>
    void Append(IEnumerable<AuditEvent> events);

    /// <summary>Removes the events of days before one (UTC).</summary>
    void RemoveBefore(DateOnly day);

    /// <summary>The events, newest first; those that cannot be read are left out.</summary>
    IEnumerable<AuditEvent> Read();
}
