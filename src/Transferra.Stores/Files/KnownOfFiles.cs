// KnownOfFiles.cs: what took a reading of a file to know (how many records its tables have, how wide their numbers are), kept between two
// openings of it for as long as the file's mark tells that nobody wrote to it.
// Why: a survey, the gates, a check, a backup and a conversion open a store one after the other, and each would read all of it to know.
// Holds: (1) what is given was learnt of these very bytes, or is learnt now.
using System.Diagnostics;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Stores.Files;

/// <summary>Facts by path, mark and name. Thread-safe.</summary>
/// <typeparam name="T">A fact; never changed.</typeparam>
internal sealed class KnownOfFiles<T>
{
    private const int MostFiles = 1000;

    // What takes less is learnt again as quickly as the mark is looked at.
    private static readonly TimeSpan _worthKeeping = TimeSpan.FromMilliseconds(2);

    private readonly Dictionary<string, (string Mark, Dictionary<string, T> Facts)> _files = new(StringComparer.Ordinal);

    /// <summary>How many facts are kept.</summary>
    internal int Kept
    {
        get { lock (_files) return _files.Values.Sum(file => file.Facts.Count); }
    }

    /// <summary>The reading of a file, to be begun before it is opened.</summary>
    /// <param name="engine">As office.yaml calls it, which says what else belongs to the file.</param>
    /// <param name="path">The file.</param>
    public static MarkedReading Begin(string engine, string path) => new(new StoreAddress(engine, path), null);

    /// <summary>A fact about a file.</summary>
    /// <param name="reading">Begun before the file was opened.</param>
    /// <param name="path">The file.</param>
    /// <param name="name">Of the fact: a table's name.</param>
    /// <param name="learn">Learns it from the file.</param>
    public T Of(MarkedReading reading, string path, string name, Func<string, T> learn)
    {
        if (Known(path, name, out string mark) is (true, { } known) && reading.IsStill(mark)) return known;
        long began = Stopwatch.GetTimestamp();
        T learnt = learn(name);
        if (Stopwatch.GetElapsedTime(began) > _worthKeeping && reading.WasSettled && reading.Undisturbed() is { } undisturbed)
            Keep(path, undisturbed.Text, name, learnt);
        return learnt;
    }

    private (bool IsKnown, T? Fact) Known(string path, string name, out string mark)
    {
        lock (_files)
        {
            bool isKnown = _files.TryGetValue(path, out (string Mark, Dictionary<string, T> Facts) file);
            mark = file.Mark;
            return isKnown && file.Facts.TryGetValue(name, out T? fact) ? (true, fact) : default;
        }
    }

    private void Keep(string path, string mark, string name, T fact)
    {
        lock (_files)
        {
            if (_files.Count >= MostFiles) _files.Clear();
            if (!_files.TryGetValue(path, out (string Mark, Dictionary<string, T> Facts) file) || file.Mark != mark)
                _files[path] = file = (mark, []);
            file.Facts[name] = fact;
        }
    }
}
