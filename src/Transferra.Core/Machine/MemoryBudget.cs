// MemoryBudget.cs: how much memory this program may take, and what of it is lent to work that can do with less.
// Why for the whole process, unlike anything else here: there is one memory, and a sorter of one table must leave room for the list of
// another stage, which knows nothing of it.
// Why lent and not only divided: most work needs little, and what nobody else needs makes sorting quicker.
// Holds: (1) what can be refused never comes to more than the room; (2) what was given back is lent again; (3) sizes grow and shrink with
//        the budget, between the borders that each work names.
using System.Globalization;

namespace Transferra.Core.Machine;

/// <summary>A number of bytes that parts of the program draw on. Thread-safe.</summary>
/// <param name="bytes">All that the process may take, about; from <see cref="Least"/> on.</param>
public sealed class MemoryBudget(long bytes)
{
    /// <summary>What is taken where nobody says otherwise: enough to be quick, and little enough for the smallest server of an
    /// office.</summary>
    public const long Usual = 200L << 20;

    /// <summary>With less than this nothing can be done in good time.</summary>
    public const long Least = 96L << 20;

    // What the runtime, the program itself, the drivers and the batches on their way take, whatever the work.
    private const long Standing = 80L << 20;

    private long _lent;

    /// <summary>The process's own.</summary>
    public static MemoryBudget OfProcess { get; private set; } = new(UsualOn(Available("/proc/meminfo", "/sys/fs/cgroup/memory.max")));

    /// <summary>All that the process may take, about.</summary>
    public long Bytes { get; } = Math.Max(bytes, Least);

    /// <summary>What can be lent at a time.</summary>
    public long Room => Bytes - Standing;

    /// <summary>Says how much the process may take, before any work begins.</summary>
    public static void Set(long bytes) => OfProcess = new MemoryBudget(bytes);

    /// <summary>What is taken on a machine where nobody says otherwise.</summary>
    /// <param name="available">Bytes that the machine, or the part of it that is ours, has; 0 when it is not known.</param>
    internal static long UsualOn(long available) => available <= 0 ? Usual : Math.Clamp(available / 4, Least, Usual);

    /// <summary>What the machine has, or what the group of processes that this one is in may take of it; 0 when neither is told. The
    /// collector tells it as well, but only when it has collected once.</summary>
    /// <param name="machine">proc(5), /proc/meminfo: MemTotal, in kilobytes.</param>
    /// <param name="group">Control Group v2, memory.max: bytes, or "max".</param>
    internal static long Available(string machine, string group)
    {
        const string total = "MemTotal:", unit = "kB";
        long all = Line(machine, line => line.StartsWith(total, StringComparison.Ordinal)) is { } told
            && long.TryParse(told.AsSpan(total.Length).Trim().TrimEnd(unit).Trim(), CultureInfo.InvariantCulture, out long kilobytes)
            ? kilobytes << 10 : 0;
        return Line(group, _ => true) is { } limit && long.TryParse(limit, CultureInfo.InvariantCulture, out long most) && most > 0
            ? all == 0 ? most : Math.Min(all, most) : all;
    }

    private static string? Line(string file, Func<string, bool> which)
    {
        try { return File.Exists(file) ? File.ReadLines(file).FirstOrDefault(which) : null; }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException) { return null; }
    }

    /// <summary>A size that suits the budget.</summary>
    /// <param name="usual">What suits <see cref="Usual"/>.</param>
    /// <param name="least">Never less.</param>
    /// <param name="most">Never more.</param>
    public long Suiting(long usual, long least, long most) =>
        Math.Clamp((long)((Int128)usual * Room / (Usual - Standing)), least, most);

    /// <summary>Lends bytes if there is room.</summary>
    /// <returns>Whether they are lent; give them back then.</returns>
    public bool TryLend(long bytes)
    {
        for (long lent = Interlocked.Read(ref _lent); bytes <= Room - lent;)
        {
            long before = Interlocked.CompareExchange(ref _lent, lent + bytes, lent);
            if (before == lent) return true;
            lent = before;
        }
        return false;
    }

    /// <summary>Takes back what was lent.</summary>
    public void GiveBack(long bytes) => Interlocked.Add(ref _lent, -bytes);
}
