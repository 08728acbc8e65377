// KnownFileCounts.cs: numbers of records that were counted in earlier openings of a file, each for as long as the file's mark tells that
// nobody wrote to it.
// Why: counting goes through every page of a table, and a survey, the gates and a conversion ask one after the other.
// Holds: (1) what is given was counted in these very bytes, or is counted now.
using System.Diagnostics;
using Transferra.Core.Office;

namespace Transferra.Stores.Files;

/// <summary>Counts by path, mark and table. Thread-safe.</summary>
internal sealed class KnownFileCounts
{
    private const int MostFiles = 1000;

    // What takes less is counted again as quickly as the mark is looked at.
    private static readonly TimeSpan _worthKeeping = TimeSpan.FromMilliseconds(2);

    private readonly Dictionary<string, (string Mark, Dictionary<string, long> Counts)> _files = new(StringComparer.Ordinal);

    /// <summary>How many counts are kept.</summary>
    internal int Kept
    {
        get { lock (_files) return _files.Values.Sum(file => file.Counts.Count); }
    }

    /// <summary>The number of a table's records.</summary>
    /// <param name="reading">Begun before the file was opened.</param>
    /// <param name="path">The file.</param>
    /// <param name="table">The table.</param>
    /// <param name="count">Counts them.</param>
    public long Of(MarkedReading reading, string path, string table, Func<string, long> count)
    {
        if (Known(path, table) is { } known && reading.IsStill(known.Mark)) return known.Count;
        long began = Stopwatch.GetTimestamp(), counted = count(table);
        if (Stopwatch.GetElapsedTime(began) > _worthKeeping && reading.Undisturbed() is { } mark) Keep(path, mark.Text, table, counted);
        return counted;
    }

    private (string Mark, long Count)? Known(string path, string table)
    {
        lock (_files)
            return _files.TryGetValue(path, out (string Mark, Dictionary<string, long> Counts) file)
                && file.Counts.TryGetValue(table, out long count) ? (file.Mark, count) : null;
    }

    private void Keep(string path, string mark, string table, long count)
    {
        lock (_files)
        {
            if (_files.Count >= MostFiles) _files.Clear();
            if (!_files.TryGetValue(path, out (string Mark, Dictionary<string, long> Counts) file) || file.Mark != mark)
                _files[path] = file = (mark, []);
            file.Counts[table] = count;
        }
    }
}
