using System.Globalization;

namespace RapidGable.Bench.ByHand;

/// <summary>Values of a request's address.</summary>
internal static class RequestValues
{
    public static object Number(this HttpContext context, string name)
    {
        var text = context.Request.RouteValues[name] as string ?? context.Request.Query[name].ToString();
        return long.Parse(text, CultureInfo.InvariantCulture);
    }

    public static object Text(this HttpContext context, string name) => context.Request.Query[name].ToString();

    public static object Flag(this HttpContext context, string name) => context.Request.Query[name] == "true";
}
