using System.Diagnostics;
using Microsoft.AspNetCore.Http;
using RapidGable.Access;
using RapidGable.Publishing;
using RapidGable.Sources;

namespace RapidGable.Service.Faces;

/// <summary>Marks a request of a trial: whether its changes are undone.</summary>
internal sealed record TrialMark(bool Undoes);

/// <summary>One request to one service, whatever the face.</summary>
/// <param name="Root">The service's absolute address, with a slash at its end.</param>
/// <param name="Path">What follows the root, as it was sent.</param>
/// <param name="Query">What follows the question mark, as it was sent; empty = nothing.</param>
/// <param name="Allowance">What the request may take of memory and of sessions.</param>
/// <param name="Traffic">What the workspace declares of how much callers may ask.</param>
internal record Exchange(
    HttpContext Context,
    PublishedService Service,
    Caller Caller,
    string Root,
    string Path,
    string Query,
    RequestAllowance Allowance,
    Declarations.TrafficDeclaration Traffic
)
{
    /// <summary>Notes a change before it becomes final, where it must not happen without that; null = it is noted afterwards.</summary>
    public Action? NoteChange { get; init; }

    public CancellationToken Cancellation => Context.RequestAborted;

    /// <summary>Runs while the database is asked, until its first row is there.</summary>
    public Stopwatch Database { get; } = new();

    /// <summary>As in <see cref="Changes.ChangeUnit.IsTrial"/>.</summary>
    public bool? IsTrial => Context.Features.Get<TrialMark>()?.Undoes;

    public HttpRequest Request => Context.Request;

    public HttpResponse Response => Context.Response;
}
