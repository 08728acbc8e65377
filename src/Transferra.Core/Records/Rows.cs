// Rows.cs: numbers of rows, made once for all who want every row of a batch.
namespace Transferra.Core.Records;

/// <summary>Numbers of rows, all of a batch's.</summary>
internal static class Rows
{
    private static int[] _all = [.. Enumerable.Range(0, 4096)];

    /// <summary>0, 1, 2 and so on.</summary>
    public static ReadOnlySpan<int> Upto(int count)
    {
        int[] all = _all;
        if (all.Length < count) _all = all = [.. Enumerable.Range(0, count)];
        return all.AsSpan(0, count);
    }
}
