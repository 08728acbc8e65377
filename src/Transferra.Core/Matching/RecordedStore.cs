// RecordedStore.cs: what a run recorded of its new store when it was matched: of each table the fingerprints of groups of its records.
// Why: weeks later the old store may be gone, and its backup set too. What is recorded takes a few kilobytes a table, holds no value of
// any record, and still tells whether those that were proved are unaltered. Form: docs/fingerprints.md.
using System.Buffers.Binary;
using System.Globalization;
using System.Numerics;
using Transferra.Core.Records;

namespace Transferra.Core.Matching;

/// <summary>One table as it was read.</summary>
/// <param name="Table">Name, columns and key it was read by.</param>
/// <param name="IsKept">Whether it is as the old store had it, so that cells that cannot be read count as what they are.</param>
/// <param name="Records">How many records it had.</param>
/// <param name="Fingerprint">Of all of them, 32 hexadecimal digits.</param>
/// <param name="Last">The highest number that a key began with; null where keys do not begin with a whole number, or are private.</param>
/// <param name="Groups">The fingerprints of its groups, in Base64: of each the records (64-bit little-endian) and the sum of their digests
/// (128-bit little-endian). A record's group is the lowest bits of the XXH3-64 of its key's bytes.</param>
public sealed record RecordedTable(WrittenTable Table, bool IsKept, long Records, string Fingerprint, long? Last, string Groups)
{
    private const int MostGroups = BucketedFingerprint.MostGroups, RecordsOfAGroup = 64, BytesOfAGroup = sizeof(long) + 16;

    internal static RecordedTable Of(TableShape table, bool isKept, BucketedFingerprint found, long? last)
    {
        Fingerprint total = found.Total();
        return new RecordedTable(WrittenTable.Of(table), isKept, total.Rows, total.ToString(), last,
            Written(found.Groups(GroupsFor(total.Rows))));
    }

    /// <summary>Into how many groups so many records are parted: a power of two.</summary>
    internal static int GroupsFor(long records) =>
        (int)Math.Clamp(BitOperations.RoundUpToPowerOf2((ulong)(records / RecordsOfAGroup) + 1), 1, MostGroups);

    /// <summary>Groups as they are kept.</summary>
    internal static string Written(ReadOnlySpan<Fingerprint> groups)
    {
        byte[] bytes = new byte[groups.Length * BytesOfAGroup];
        for (int i = 0; i < groups.Length; i++)
        {
            Span<byte> group = bytes.AsSpan(i * BytesOfAGroup, BytesOfAGroup);
            BinaryPrimitives.WriteInt64LittleEndian(group, groups[i].Rows);
            BinaryPrimitives.WriteUInt128LittleEndian(group[sizeof(long)..], groups[i].Sum);
        }
        return Convert.ToBase64String(bytes);
    }

    /// <summary>The fingerprint of all its records.</summary>
    /// <exception cref="FormatException">It is not what was written here.</exception>
    internal Fingerprint Total() => new(Records, UInt128.Parse(Fingerprint, NumberStyles.AllowHexSpecifier, CultureInfo.InvariantCulture));

    /// <summary>The fingerprints of its groups.</summary>
    /// <exception cref="Machine.TransferraException">They are not what was written here.</exception>
    internal Fingerprint[] ReadGroups() => ReadGroups(Groups, Table.Name);

    /// <summary>Groups as they were kept.</summary>
    /// <param name="written">What <see cref="Written"/> gave.</param>
    /// <param name="table">Of which table, for the message.</param>
    /// <exception cref="Machine.TransferraException">They are not what was written here.</exception>
    internal static Fingerprint[] ReadGroups(string written, string table)
    {
        byte[] bytes = new byte[MostGroups * BytesOfAGroup];
        if (!Convert.TryFromBase64String(written, bytes, out int length) || length == 0 || length % BytesOfAGroup != 0
            || !BitOperations.IsPow2(length / BytesOfAGroup))
            throw new Machine.TransferraException($"what was recorded of the table {table} cannot be read",
                "Match against a backup set instead: transferra match --old SET --new STORE");
        var groups = new Fingerprint[length / BytesOfAGroup];
        for (int i = 0; i < groups.Length; i++)
        {
            ReadOnlySpan<byte> group = bytes.AsSpan(i * BytesOfAGroup, BytesOfAGroup);
            groups[i] = new Fingerprint(BinaryPrimitives.ReadInt64LittleEndian(group),
                BinaryPrimitives.ReadUInt128LittleEndian(group[sizeof(long)..]));
        }
        return groups;
    }

    /// <summary>Groups joined to fewer: a power of two.</summary>
    internal static Fingerprint[] Joined(Fingerprint[] groups, int count)
    {
        if (groups.Length <= count) return groups;
        var joined = new Fingerprint[count];
        for (int i = 0; i < groups.Length; i++) joined[i & (count - 1)] += groups[i];
        return joined;
    }
}

/// <summary>A new store as it was matched.</summary>
/// <param name="Version">Its data version.</param>
/// <param name="At">When it was matched.</param>
/// <param name="Verdict">What the match came to.</param>
/// <param name="Tables">Its tables, in the kit's order.</param>
public sealed record RecordedStore(string Version, DateTimeOffset At, Verdict Verdict, IReadOnlyList<RecordedTable> Tables);
