// TwoLanes.cs: rows of a table that are loaded over two connections, each half of them on a core of its own.
// Why: a server works for one connection on one core, and making a database again is most of what the proof of its backup takes.
// Where: only for tables without unique indexes, or with records that are known to be of different keys. Otherwise one connection could
// wait for a record of the other, which ends only with the load.
using Transferra.Core.Machine;

namespace Transferra.Stores.Servers;

internal static class TwoLanes
{
    /// <summary>Of fewer rows each journey to the server costs more than what it saves.</summary>
    public const int LeastRows = 512;

    /// <summary>Loads the first half of some rows and the second at the same time.</summary>
    /// <typeparam name="T">What is told of a load.</typeparam>
    /// <param name="rows">At least two.</param>
    /// <param name="first">Loads the first half.</param>
    /// <param name="second">Loads the second.</param>
    /// <exception cref="Exception">What either says, when both have ended.</exception>
    public static (T First, T Second) Do<T>(ReadOnlySpan<int> rows, Func<int[], T> first, Func<int[], T> second)
    {
        int[] begin = rows[..(rows.Length / 2)].ToArray(), end = rows[(rows.Length / 2)..].ToArray();
        return Together.Do(() => first(begin), () => second(end));
    }
}
