// ReadSides.cs: the fingerprints of both sides' tables while they are read. As soon as both have read a table, it is compared, and only
// what came of it is kept, so that a store of a thousand tables costs the memory of those under way.
// Holds: what is kept does not depend on which side comes first.
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>What both sides of a table came to.</summary>
/// <param name="Expected">The records there should be.</param>
/// <param name="Found">The records there are.</param>
/// <param name="Differing">Key buckets to be read again.</param>
internal sealed record ReadTable(Fingerprint Expected, Fingerprint Found, BucketSet Differing);

/// <summary>Both sides of all tables of a new store.</summary>
internal sealed class ReadSides
{
    private sealed class Sides
    {
        public readonly BucketedFingerprint Expected = new();
        public BucketedFingerprint? Found;
        public IReadOnlyCollection<int> Unreadable = [];
        public int Awaited;
    }

    private readonly Dictionary<string, Sides> _open = [];
    private readonly Dictionary<string, ReadTable> _read = [];
    private readonly Lock _one = new();

    private readonly Action<string, ReadTable> _compared;

    /// <summary>Begins with nothing read.</summary>
    /// <param name="tables">Each table, with how many readings of the old side add to it.</param>
    /// <param name="compared">Hears what a table came to, one at a time.</param>
    public ReadSides(IEnumerable<(string Table, int Feeders)> tables, Action<string, ReadTable> compared)
    {
        _compared = compared;
        foreach ((string table, int feeders) in tables) _open.Add(table, new Sides { Awaited = feeders });
    }

    /// <summary>To add to what a table should hold; until the last that adds to it is done, by one thread.</summary>
    public BucketedFingerprint Expected(string table)
    {
        lock (_one) return _open[table].Expected;
    }

    /// <summary>One that adds to what a table should hold is done.</summary>
    public void Fed(string table)
    {
        lock (_one)
        {
            Sides sides = _open[table];
            if (--sides.Awaited == 0) sides.Expected.Fold();
            Compare(table, sides);
        }
    }

    /// <summary>A table of the new store was read.</summary>
    /// <param name="table">Which.</param>
    /// <param name="found">What it holds.</param>
    /// <param name="unreadable">Buckets, of <see cref="BucketedFingerprint.MostBuckets"/>, with a cell that cannot be read.</param>
    public void Found(string table, BucketedFingerprint found, IReadOnlyCollection<int> unreadable)
    {
        found.Fold();
        lock (_one)
        {
            Sides sides = _open[table];
            (sides.Found, sides.Unreadable) = (found, unreadable);
            Compare(table, sides);
        }
    }

    /// <summary>Both sides of a table were read by one who did so at once; nobody adds to it any more.</summary>
    /// <param name="table">Which.</param>
    /// <param name="expected">What it should hold.</param>
    /// <param name="found">What it holds; may be the same object.</param>
    public void Both(string table, BucketedFingerprint expected, BucketedFingerprint found)
    {
        expected.Fold();
        found.Fold();
        lock (_one) Close(table, new ReadTable(expected.Total(), found.Total(), expected.DifferingFrom(found)));
    }

    /// <summary>A table was compared before, and both sides were the same.</summary>
    /// <param name="table">Which.</param>
    /// <param name="both">What either held.</param>
    public void TakenOver(string table, Fingerprint both)
    {
        lock (_one)
        {
            _read.Add(table, new ReadTable(both, both, new BucketSet(1)));
            _open.Remove(table);
        }
    }

    /// <summary>What a table came to, once both sides were read.</summary>
    public ReadTable Of(string table) => _read[table];

    private void Compare(string table, Sides sides)
    {
        if (sides.Awaited > 0 || sides.Found is null) return;
        BucketSet differing = sides.Expected.DifferingFrom(sides.Found);
        foreach (int bucket in sides.Unreadable) differing.Add(bucket);
        Close(table, new ReadTable(sides.Expected.Total(), sides.Found.Total(), differing));
    }

    private void Close(string table, ReadTable read)
    {
        _read.Add(table, read);
        _open.Remove(table);
        _compared(table, read);
    }
}
