// Fingerprint.cs: an order-independent digest of a table's records. By key bucket: BucketedFingerprint.cs.
// Why sums and not XOR: a record that is there twice would cancel itself under XOR. Definition: docs/fingerprints.md.
// Holds: (1) the order in which records are added does not matter; (2) the same records give the same sums on every engine.
using System.IO.Hashing;

namespace Transferra.Core.Records;

/// <summary>The sum of row digests (XxHash128 of the canonical bytes, modulo 2^128) with the number of rows.</summary>
public readonly record struct Fingerprint(long Rows, UInt128 Sum)
{
    /// <summary>The fingerprint of one record, from its canonical bytes.</summary>
    public static Fingerprint Of(ReadOnlySpan<byte> row) => new(1, XxHash128.HashToUInt128(row));

    /// <summary>Adds two disjoint sets of records.</summary>
    public static Fingerprint operator +(Fingerprint a, Fingerprint b) => new(checked(a.Rows + b.Rows), unchecked(a.Sum + b.Sum));

    /// <summary>The digest as 32 hexadecimal digits.</summary>
    public override string ToString() => Sum.ToString("x32", System.Globalization.CultureInfo.InvariantCulture);
}
