using System.Collections.ObjectModel;
using RapidGable.Expressions;

namespace RapidGable.Payloads.Json;

/// <summary>What is wrong with a body. Once <see cref="RequestFault.MostDetails"/> are known, no more of the body is read.</summary>
internal sealed class FaultList : Collection<RequestFault>
{
    /// <exception cref="TooManyFaultsException">There are as many as are told.</exception>
    protected override void InsertItem(int index, RequestFault item)
    {
        base.InsertItem(index, item);
        if (Count >= RequestFault.MostDetails)
            throw new TooManyFaultsException();
    }

    public void AddRange(IEnumerable<RequestFault> faults)
    {
        foreach (var fault in faults)
            Add(fault);
    }

    /// <summary>What is read, or all that is wrong with it.</summary>
    public Result<T> Of<T>(Func<T> read)
        where T : class
    {
        try
        {
            var value = read();
            return Count > 0 ? RequestFault.Of(this) : Result<T>.Of(value);
        }
        catch (TooManyFaultsException)
        {
            return RequestFault.Of(this);
        }
    }
}

/// <summary>So much is wrong with a body that the rest of it is not looked at.</summary>
internal sealed class TooManyFaultsException() : Exception("Too many faults.");
