// SpentMemory.cs: gives memory back between two parts of a long work, of which the first leaves much behind that nobody needs any more.
// Why by hand: the collector waits until memory is short on the machine, and on a small one that others use as well it then is.
namespace Transferra.Core.Machine;

/// <summary>Memory that was used and is not needed any more.</summary>
internal static class SpentMemory
{
    // Of a list with fewer entries little is left behind, and looking for it would take longer than it is worth.
    private const int ManyEntries = 20_000;

    /// <summary>Gives it back where a long list was worked on.</summary>
    /// <param name="entries">How many entries it had.</param>
    public static void GiveBackAfter(int entries)
    {
        if (entries < ManyEntries) return;
        GC.Collect(GC.MaxGeneration, GCCollectionMode.Aggressive, blocking: true, compacting: true);
    }
}
