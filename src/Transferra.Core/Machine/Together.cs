// Together.cs: two pieces of work that do not wait for each other, on two cores.
// Holds: (1) it returns, or throws, only when both have ended, so that nobody reads a file any more that is moved next.
namespace Transferra.Core.Machine;

internal static class Together
{
    /// <summary>Does both.</summary>
    /// <param name="first">On a thread of its own.</param>
    /// <param name="second">On the caller's.</param>
    /// <exception cref="Exception">That of the second, otherwise that of the first.</exception>
    public static (TFirst First, TSecond Second) Do<TFirst, TSecond>(Func<TFirst> first, Func<TSecond> second)
    {
        Task<TFirst> beside = Task.Run(first);
        try
        {
            TSecond done = second();
            return (beside.GetAwaiter().GetResult(), done);
        }
        finally
        {
            ((IAsyncResult)beside).AsyncWaitHandle.WaitOne();
        }
    }
}
