using System.Globalization;
using System.Text.Json;
using System.Text.Json.Serialization;
using RapidGable.Service.Auditing;
using RapidGable.Service.State;

namespace RapidGable.Service.Stores;

/// <summary>The audit log as a journal: a part for each day (UTC), a JSON object in each line.</summary>
public sealed class AuditInState(IStateStore state) : IAuditStore
{
    private const string Ending = ".jsonl";
    private const string DayForm = "yyyy-MM-dd";

    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web)
    {
        DefaultIgnoreCondition = JsonIgnoreCondition.WhenWritingNull,
    };

    public void Append(IEnumerable<AuditEvent> events)
    {
        foreach (var day in events.GroupBy(e => DateOnly.FromDateTime(e.Time)))
        {
            using var lines = new MemoryStream();
            foreach (var happened in day)
            {
                JsonSerializer.Serialize(lines, happened, Json);
                lines.WriteByte((byte)'\n');
            }
            state.Append(StateRooms.Audit, PartOf(day.Key), lines.GetBuffer().AsMemory(0, (int)lines.Length));
        }
    }

    public void RemoveBefore(DateOnly day)
    {
        foreach (var (_, part) in Days().Where(d => d.Day < day))
            state.RemovePart(StateRooms.Audit, part);
    }

    public IEnumerable<AuditEvent> Read() =>
        Days()
            .OrderByDescending(d => d.Day)
            .SelectMany(d => state.LinesFromEnd(StateRooms.Audit, d.Part))
            .Select(Parse)
            .OfType<AuditEvent>();

    private static AuditEvent? Parse(string line)
    {
        try
        {
            return JsonSerializer.Deserialize<AuditEvent>(line, Json);
        }
        catch (JsonException)
        {
            return null;
        }
    }

    private IEnumerable<(DateOnly Day, string Part)> Days() =>
        state
            .Parts(StateRooms.Audit)
            .Where(p => p.EndsWith(Ending, StringComparison.Ordinal) && DayOf(p) is not null)
            .Select(p => (DayOf(p)!.Value, p));

    private static DateOnly? DayOf(string part) =>
        DateOnly.TryParseExact(part[..^Ending.Length], DayForm, CultureInfo.InvariantCulture, DateTimeStyles.None, out var day)
            ? day
            : null;

    private static string PartOf(DateOnly day) => day.ToString(DayForm, CultureInfo.InvariantCulture) + Ending;
}
