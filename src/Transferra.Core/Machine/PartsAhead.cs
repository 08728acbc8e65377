// PartsAhead.cs: makes parts one after the other, the next ones on the other core while somebody goes through one.
// Holds: (1) all parts come, in their order; (2) at most a few are in memory; (3) when going through them ends, also before the last one,
// none is being made any more, so that what they are made of may go.
namespace Transferra.Core.Machine;

/// <summary>Parts that are made before they are asked for.</summary>
internal static class PartsAhead
{
    private const int Ahead = 3;

    /// <summary>All parts.</summary>
    /// <param name="parts">How many there are.</param>
    /// <param name="make">Makes the part of this number, from 0 on; called by several threads.</param>
    public static IEnumerable<T> Of<T>(int parts, Func<int, T> make)
    {
        var making = new Queue<Task<T>>();
        try
        {
            for (int part = 0; part < parts + Ahead; part++)
            {
                if (part < parts)
                {
                    int next = part;
                    making.Enqueue(Task.Run(() => make(next)));
                }
                if (part >= Ahead && making.TryDequeue(out Task<T>? first)) yield return first.GetAwaiter().GetResult();
            }
        }
        finally
        {
            foreach (Task<T> left in making) ((IAsyncResult)left).AsyncWaitHandle.WaitOne();
        }
    }
}
