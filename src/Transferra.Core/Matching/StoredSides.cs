// StoredSides.cs: a table that both stores keep in the same form, compared by what they keep, byte by byte; only one side's values are
// read, in two parts on two cores, and of the other those of the records that differ.
// Why: two readings of all values, one for each side, cost several times what it takes to see that the bytes are the same.
// Holds: (1) both sides are read whole, each from its own store; (2) both come to what a reading of all values of each comes to;
//        (3) where a store gives up, nothing of it is used.
using System.IO.Hashing;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>What both sides of a table came to.</summary>
/// <param name="Expected">The records there should be; not folded.</param>
/// <param name="Found">The records there are; not folded; may be the same object.</param>
/// <param name="Last">The highest number that a key of the new store began with; see <see cref="TableReading.Last"/>.</param>
/// <param name="Differing">Reads those that may differ without the others; null where none does, or all have to be looked at.</param>
internal sealed record StoredSides(BucketedFingerprint Expected, BucketedFingerprint Found, long? Last, StoredDifferences? Differing)
{
    // Below so many records a second thread costs more than it saves.
    private const long FewestRows = 20_000;

    // Where a larger share of all buckets differs, most records would be read again.
    private const int LargestShare = 8;

    // Between two looks at whether somebody wants to stop.
    private const int RecordsOfALook = 1 << 12;

    /// <summary>Compares, where both stores can.</summary>
    /// <param name="old">The old store.</param>
    /// <param name="was">The table as the old store has it.</param>
    /// <param name="renewed">The new store.</param>
    /// <param name="now">The table as the new store has it, with the same columns and key.</param>
    /// <param name="done">Hears how many more records of the new store were read; from two threads, one at a time. Each is read twice.
    /// </param>
    /// <param name="stop">Stops.</param>
    /// <returns>Null where they have to be read in another way.</returns>
    public static StoredSides? Read(IStore old, TableShape was, IStore renewed, TableShape now, Action<int> done, CancellationToken stop)
    {
        if (old.Stored(was) is not { } before || renewed.Stored(now) is not { } after || before.Form != after.Form) return null;
        bool isLittle = renewed.AboutRows(now.Name) < FewestRows;
        (BucketedFingerprint? a, BucketedFingerprint? b) = Together.Do(() => BytesOf(before, _ => { }, stop),
            () => BytesOf(after, done, stop), isLittle);
        if (a is null || b is null) return null;
        BucketSet differing = a.DifferingFrom(b);
        if (differing.Count > differing.Of / LargestShare) return null;
        bool byNumber = differing.Count > 0 && now.Key is [var key] && string.Equals(key, after.NumberColumn,
            StringComparison.OrdinalIgnoreCase);
        var common = new StoredParts(now, byNumber, isLittle, done, stop);
        Predicate<long>? isCommon = differing.Count == 0 ? null : number => !differing.Contains(BucketOf(number));
        if (!common.TryRead(after, isCommon)) return null;
        if (isCommon is null) return new StoredSides(common.Records, common.Records, common.Last, null);
        var differences = new StoredDifferences(before, was, after, now, number => !isCommon(number), common.Noted, stop);
        return differences.Read() is not { } sides ? null : new StoredSides(sides.Gone.Also(common.Records),
            sides.Come.Also(common.Records), StoredParts.Later(sides.Last, common.Last), byNumber ? differences : null);
    }

    // Numbers that follow each other are in buckets that follow each other, so that adding up does not jump about in memory.
    private static int BucketOf(long number) => (int)number & (BucketedFingerprint.MostBuckets - 1);

    private static BucketedFingerprint? BytesOf(IStoredTable table, Action<int> done, CancellationToken stop)
    {
        var sums = new BucketedFingerprint();
        IStoredRecords records = table.Records();
        var buckets = new int[RecordsOfALook];
        var digests = new UInt128[RecordsOfALook];
        int count = 0;
        while (records.Next(out ReadOnlySpan<byte> bytes, out long number))
        {
            (buckets[count], digests[count]) = (BucketOf(number), XxHash128.HashToUInt128(bytes, number));
            if (++count < RecordsOfALook) continue;
            stop.ThrowIfCancellationRequested();
            sums.Add(buckets, digests);
            done(count);
            count = 0;
        }
        if (records.HasGivenUp) return null;
        sums.Add(buckets.AsSpan(0, count), digests.AsSpan(0, count));
        done(count);
        sums.Fold();
        return sums;
    }
}

/// <summary>The values of a table's records, read in two parts on two cores.</summary>
/// <param name="shape">What is read.</param>
/// <param name="noting">Whether to take note of the last numbers.</param>
/// <param name="isLittle">Whether there is so little that one core does.</param>
/// <param name="done">Hears how many more records were read; from two threads, one at a time.</param>
/// <param name="stop">Stops.</param>
internal sealed class StoredParts(TableShape shape, bool noting, bool isLittle, Action<int> done, CancellationToken stop)
{
    private readonly Lock _one = new();

    /// <summary>What was read; not folded.</summary>
    public BucketedFingerprint Records { get; } = new();

    /// <summary>See <see cref="TableReading.Last"/>.</summary>
    public long? Last { get; private set; }

    /// <summary>The last numbers; null when nobody wants to know.</summary>
    public LastNumbers? Noted { get; } = noting ? new LastNumbers(shape) : null;

    /// <summary>The higher of two numbers.</summary>
    public static long? Later(long? one, long? other) => one is null || other > one ? other : one;

    /// <summary>Reads.</summary>
    /// <param name="table">The table.</param>
    /// <param name="which">Which records by their numbers; null for all.</param>
    /// <returns>False when the table gave up.</returns>
    public bool TryRead(IStoredTable table, Predicate<long>? which)
    {
        using IPartReader first = table.Part(0, 2, which), second = table.Part(1, 2, which);
        (var one, var other) = Together.Do(() => Read(first), () => Read(second), isLittle);
        foreach ((TableReading reading, BucketedFingerprint records) in (ReadOnlySpan<(TableReading, BucketedFingerprint)>)[one, other])
        {
            Records.Also(records);
            Last = Later(Last, reading.Last);
            if (reading.Noting is not null) Noted?.Add(reading.Noting);
        }
        return !first.HasGivenUp && !second.HasGivenUp;
    }

    private (TableReading Reading, BucketedFingerprint Records) Read(IPartReader reader)
    {
        var records = new BucketedFingerprint();
        var reading = new TableReading(shape, isKept: true) { Noting = noting ? new LastNumbers(shape) : null };
        reading.Into(records, reader, border: null, Tell, stop);
        return (reading, records);
    }

    private void Tell(int rows)
    {
        lock (_one) done(rows);
    }
}
