namespace RapidGable.Service.Faces;

/// <summary>Keeps the answers of repeatable requests; sources that keep them in a table of their own do without.</summary>
internal interface IRepeatedAnswerStore
{
    /// <summary>What is known of a request; null = nothing.</summary>
    RepeatedAnswer? Find(string id);

    /// <summary>
    /// Notes the answer of a request before its change is made final. Whoever stops between the two leaves the note, and the request is not
    /// carried out again.
    /// </summary>
    /// <returns>False = somebody else was first; <see cref="Find"/> tells what is known.</returns>
    /// <exception cref="State.StateException">When it cannot be kept.</exception>
    bool Begin(string id, string answer);

    /// <summary>Takes bytes from what a caller may have kept in a day; false when that is used up.</summary>
    /// <param name="who">The same text for all requests of one caller.</param>
    bool TryTake(string who, long bytes);

    /// <summary>Removes the note of a change that was undone.</summary>
    void Undo(string id);

    /// <summary>Says that the change was made final, so that the answer is given again. What cannot be said leaves the note.</summary>
    void Finish(string id);

    /// <summary>Waits until nobody else in this process answers the same request; dispose of the result to let the next one in.</summary>
    Task<IDisposable> EnterAsync(string id, CancellationToken cancellation);
}

/// <summary>What is known of a repeatable request.</summary>
/// <param name="Answer">How it is answered, as text.</param>
/// <param name="Began">When its change was about to be made final.</param>
/// <param name="IsFinal">The change was made. Else it is being made, or whoever made it stopped.</param>
internal sealed record RepeatedAnswer(string Answer, DateTimeOffset Began, bool IsFinal);
