using Microsoft.AspNetCore.Builder;
using Microsoft.AspNetCore.Http;

namespace RapidGable.Service.Hosting;

/// <summary>
/// The console on an origin of its own: the first port of the service has no console and no management interface, so that nothing that
/// callers store shares an origin with them.
/// </summary>
internal static class ConsoleOrigin
{
    private static readonly PathString[] OwnPaths = ["/console", "/manage"];

    public static void Use(WebApplication app)
    {
        var services = new Lazy<int>(() => new Uri(app.Urls.First()).Port);
        app.Use(
            (context, next) =>
            {
                var isOwn =
                    context.Request.Path == "/"
                    || OwnPaths.Any(p => context.Request.Path.StartsWithSegments(p, StringComparison.OrdinalIgnoreCase));
                if (!isOwn || context.Connection.LocalPort != services.Value)
                    return next(context);
                context.Response.StatusCode = StatusCodes.Status404NotFound;
                return Task.CompletedTask;
            }
        );
    }
}
