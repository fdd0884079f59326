using Microsoft.AspNetCore.Http;

namespace RapidGable.Service;

/// <summary>Marks a request that stands inside of another one, which has been counted and held to its limits already.</summary>
internal interface IInnerMark;

/// <summary>Tells requests that stand inside of others from those that come over a connection of their own.</summary>
internal static class InnerMark
{
    public static bool IsOn(HttpContext context) => context.Features.Get<IInnerMark>() is not null;
}
