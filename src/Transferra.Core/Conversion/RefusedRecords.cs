// RefusedRecords.cs: which old records the new store's engine refused when it was filled.
// Why kept: that a map gives a sound record says nothing about whether the engine takes it, so the match, which knows only the map, would
// miss them.
// They are exceptions like all others, and a company with one is never called proved. A record is known by the XXH128 of its canonical
// bytes (docs/fingerprints.md), 32 hexadecimal digits; there may be several the same.
using System.Globalization;
using System.IO.Hashing;
using Transferra.Core.Records;

namespace Transferra.Core.Conversion;

/// <summary>Old records that the new store refused, by table and content.</summary>
internal sealed class RefusedRecords
{
    /// <summary>None.</summary>
    public static readonly RefusedRecords None = new();

    private readonly Dictionary<string, Dictionary<UInt128, int>> _tables = [];

    /// <summary>Those of one hop's exceptions that the engine refused.</summary>
    public static RefusedRecords Of(IEnumerable<ExceptionRow> exceptions)
    {
        var refused = new RefusedRecords();
        foreach (ExceptionRow exception in exceptions.Where(exception => exception.IsRefused))
            if (UInt128.TryParse(exception.Record, NumberStyles.HexNumber, CultureInfo.InvariantCulture, out UInt128 digest))
                refused.Add(exception.Table, digest);
        return refused;
    }

    private void Add(string table, UInt128 digest)
    {
        if (!_tables.TryGetValue(table, out Dictionary<UInt128, int>? records)) _tables[table] = records = [];
        records[digest] = records.GetValueOrDefault(digest) + 1;
    }

    /// <summary>What is left to be met of a table; goes down as rows are met.</summary>
    internal Dictionary<UInt128, int>? Of(string table) => _tables.TryGetValue(table, out Dictionary<UInt128, int>? records)
        ? new(records) : null;

    /// <summary>The digest of a row's values.</summary>
    internal static UInt128 Digest(IReadOnlyList<Vector> vectors, int row, CanonicalWriter scratch)
    {
        scratch.Clear();
        foreach (Vector vector in vectors) vector.Encode(row, scratch);
        return XxHash128.HashToUInt128(scratch.Written);
    }

    /// <summary>The refusals of a batch, and one less of each left to be met.</summary>
    internal static List<RowReject> In(TableTransform lane, Dictionary<UInt128, int> left, CanonicalWriter scratch)
    {
        var rejects = new List<RowReject>();
        for (int row = 0; row < lane.RowCount; row++)
        {
            if (lane.Fates[row] is not (RowFate.Carried or RowFate.Changed)) continue;
            UInt128 digest = Digest(lane.Source.Vectors, row, scratch);
            if (left.GetValueOrDefault(digest) is not > 0) continue;
            left[digest]--;
            rejects.Add(new RowReject(row, FaultCode.WrongKind, "the new store refused it when it was made"));
        }
        return rejects;
    }
}
