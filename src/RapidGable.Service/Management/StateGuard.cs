using System.Text.Json;
using System.Text.Json.Serialization;
using Microsoft.AspNetCore.Http;
using RapidGable.Service.State;

namespace RapidGable.Service.Management;

/// <summary>What endpoints that use the state share: bodies without unknown members, and problems instead of failures.</summary>
internal static class StateGuard
{
    private static readonly JsonSerializerOptions Json = new(JsonSerializerDefaults.Web)
    {
        UnmappedMemberHandling = JsonUnmappedMemberHandling.Disallow,
    };

    /// <exception cref="JsonException">When the body is no such object.</exception>
    public static Task<T> BodyAsync<T>(HttpContext context)
        where T : class => ManagementBody.ReadAsync<T>(context, Json);

    public static IResult Guard(Func<IResult> work)
    {
        try
        {
            return work();
        }
        catch (StateException exception)
        {
            return Unkept(exception);
        }
    }

    public static async Task<IResult> GuardAsync(Func<Task<IResult>> work)
    {
        try
        {
            return await work();
        }
        catch (StateException exception)
        {
            return Unkept(exception);
        }
        catch (JsonException)
        {
            return ManagementInterface.Problem(400, "body", "The body is no such JSON object.");
        }
    }

    private static IResult Unkept(StateException exception) => ManagementInterface.Problem(503, "state", exception.Message);
}
