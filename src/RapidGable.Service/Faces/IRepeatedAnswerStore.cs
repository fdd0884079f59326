namespace RapidGable.Service.Faces;

/// <summary>Keeps the answers of repeatable requests; sources that keep them in a table of their own do without.</summary>
internal interface IRepeatedAnswerStore
{
    /// <summary>The answer that was given to a request; null = it is not known.</summary>
    string? Find(string id);

    /// <summary>
    /// Makes sure that an answer can be kept, before the change that it tells of is made; the oldest answers go for it. False when there
    /// is no room.
    /// </summary>
    bool Reserve(string answer);

    /// <summary>Gives back what was reserved.</summary>
    void Release(string answer);

    /// <summary>Keeps an answer for which room is reserved.</summary>
    void Keep(string id, string answer);

    /// <summary>Waits until nobody else answers the same request; dispose of the result to let the next one in.</summary>
    Task<IDisposable> EnterAsync(string id, CancellationToken cancellation);
}
