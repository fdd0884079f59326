using RapidGable.Sources;

namespace RapidGable.Service.Faces;

/// <summary>A request that is answered later.</summary>
/// <param name="Service">The service that it is about.</param>
/// <param name="Caller">The identity of who may fetch the answer.</param>
/// <param name="Who">Whose limits it counts for.</param>
/// <param name="Task">The answer, once it is there.</param>
/// <param name="Cancellation">Ends the work.</param>
/// <param name="Allowance">What it holds; it is given back when the work has ended and nobody waits.</param>
internal sealed record PendingAnswer(
    string Service,
    string Caller,
    string Who,
    Task<InnerResponse> Task,
    CancellationTokenSource Cancellation,
    RequestAllowance Allowance
);

/// <summary>Keeps answers that are fetched later, for a limited time.</summary>
internal interface IPendingAnswerStore
{
    /// <summary>How many there are.</summary>
    int Count { get; }

    /// <summary>How many of one caller there are, see <see cref="PendingAnswer.Who"/>.</summary>
    int CountOf(string who);

    /// <summary>Keeps one under an id that nobody can guess; it goes by itself when its time is over.</summary>
    void Add(string id, PendingAnswer answer);

    /// <summary>Null = there is none, or its time is over.</summary>
    PendingAnswer? Find(string id);

    /// <summary>Ends its work and forgets it.</summary>
    void Remove(string id);
}
