// Together.cs: two pieces of work that do not wait for each other, on two cores.
// Holds: (1) it returns, or throws, only when both have ended, so that nobody reads a file any more that is moved next.
namespace Transferra.Core.Machine;

/// <summary>Work on two cores.</summary>
public static class Together
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

    /// <summary>Does both.</summary>
    /// <param name="first">On a thread of its own.</param>
    /// <param name="second">On the caller's.</param>
    /// <exception cref="Exception">That of the second, otherwise that of the first.</exception>
    public static void Do(Action first, Action second)
    {
        static Func<bool> Done(Action action) => () => { action(); return true; };
        Do(Done(first), Done(second));
    }

    /// <summary>Does both, one after the other where there is so little to do that a thread would cost more than it saves.</summary>
    /// <param name="first">On a thread of its own, unless it is little.</param>
    /// <param name="second">On the caller's.</param>
    /// <param name="isLittle">Whether there is little to do.</param>
    public static (TFirst First, TSecond Second) Do<TFirst, TSecond>(Func<TFirst> first, Func<TSecond> second, bool isLittle) =>
        isLittle ? (first(), second()) : Do(first, second);
}
