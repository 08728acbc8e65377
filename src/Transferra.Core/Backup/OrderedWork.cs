// OrderedWork.cs: work done on all cores whose results are taken in the order in which it was given out.
// Holds: (1) no more than a fixed number of results wait, so memory is bounded; (2) when something fails, Run returns only after all that
// was begun has ended.
using Transferra.Core.Machine;

namespace Transferra.Core.Backup;

internal static class OrderedWork
{
    // What a piece of a large file takes, with the room for packing it.
    private const long PieceBytes = 12L << 20;

    /// <summary>How many pieces of work are under way or waiting at most.</summary>
    public static int Ahead => (int)Math.Clamp(Math.Min(Environment.ProcessorCount + 2, MemoryBudget.OfProcess.Room / PieceBytes), 2, 8);

    /// <summary>Runs work.</summary>
    /// <param name="work">Enumerated by the calling thread, a little ahead of what is taken.</param>
    /// <param name="take">Called by the calling thread, in order.</param>
    /// <param name="cancel">Looked at before each piece.</param>
    public static void Run<T>(IEnumerable<Func<T>> work, Action<T> take, CancellationToken cancel)
    {
        var waiting = new Queue<Task<T>>();
        try
        {
            foreach (Func<T> piece in work)
            {
                cancel.ThrowIfCancellationRequested();
                if (waiting.Count >= Ahead) take(waiting.Dequeue().GetAwaiter().GetResult());
                waiting.Enqueue(Task.Run(piece, CancellationToken.None));
            }
            while (waiting.Count > 0) take(waiting.Dequeue().GetAwaiter().GetResult());
        }
        finally
        {
            // Buffers must not be in use any more when the caller goes on.
            foreach (Task<T> left in waiting) ((IAsyncResult)left).AsyncWaitHandle.WaitOne();
        }
    }
}
