// SetLayout.cs: where every byte of a set is and what it has to be, worked out from its manifest alone.
// Why made by hand and not by the tar library: a reader must know every header byte, or a change in one would go unnoticed; and every
// member must be found at once, so that one document can be taken out of a large set, and both cores can read it. Layout:
// docs/backup-sets.md.
// Source: IEEE Std 1003.1 (POSIX), pax interchange format; a pax header stands before those members only whose name, size or owner the
// ustar header cannot hold.
using System.Globalization;
using System.Text;

namespace Transferra.Core.Backup;

internal sealed class SetLayout
{
    public const int Block = 512;

    /// <summary>Name of the last member, which holds the digest of the first.</summary>
    public const string SealName = "seal.sha256";

    /// <summary>Header, digest and tar's end mark.</summary>
    public const int SealBytes = 4 * Block;

    private const string PackedSuffix = ".zst";

    // 8 GiB less one byte, the largest number of 11 octal digits.
    private const long LargestOctal11 = 0x1FFFFFFFF;

    private readonly long[] _headerAt;
    private readonly int[] _headerBytes;

    /// <summary>The layout of a set.</summary>
    /// <param name="manifest">Its manifest.</param>
    /// <param name="beginningBytes">Of the manifest with its header, a multiple of <see cref="Block"/>.</param>
    public SetLayout(SetManifest manifest, long beginningBytes)
    {
        _headerAt = new long[manifest.Members.Count];
        _headerBytes = new int[manifest.Members.Count];
        long at = beginningBytes;
        for (int i = 0; i < _headerAt.Length; i++)
        {
            SetMember member = manifest.Members[i];
            _headerAt[i] = at;
            _headerBytes[i] = HeaderOf(member).Length;
            at += _headerBytes[i] + Padded(member.PackedBytes);
        }
        SealAt = at;
    }

    /// <summary>Where the seal's header is.</summary>
    public long SealAt { get; }

    /// <summary>How long the set is.</summary>
    public long TotalBytes => SealAt + SealBytes;

    /// <summary>Where a member's header is.</summary>
    public long HeaderAt(int member) => _headerAt[member];

    /// <summary>Where a member's packed content is.</summary>
    public long ContentAt(int member) => _headerAt[member] + _headerBytes[member];

    /// <summary>Where the next member, or the seal, is.</summary>
    public long EndOf(int member) => member + 1 < _headerAt.Length ? _headerAt[member + 1] : SealAt;

    public static long Padded(long bytes) => (bytes + Block - 1) / Block * Block;

    /// <summary>The bytes before a member's content: one header, or a pax header and one.</summary>
    public static byte[] HeaderOf(SetMember member)
    {
        byte[] name = member.NameBytes(), target = [];
        char type = '0';
        switch (member.Kind)
        {
            case MemberKinds.Folder: (type, name) = ('5', [.. name, (byte)'/']); break;
            case MemberKinds.Link: (type, target) = ('2', member.TargetBytes()); break;
            case MemberKinds.Same:
                (type, name, target) = ('1', [.. name, .. Encoding.ASCII.GetBytes(PackedSuffix)],
                [.. member.TargetBytes(), .. Encoding.ASCII.GetBytes(PackedSuffix)]); break;
            default: name = [.. name, .. Encoding.ASCII.GetBytes(PackedSuffix)]; break;
        }
        (uint user, uint group, string userName, string groupName) = member.OwnerParts();
        return Header(name, member.PackedBytes, member.Bytes > LargestOctal11, Convert.ToInt32(member.Mode, 8), member.Modified, type,
            target, user, group, userName, groupName);
    }

    /// <summary>The header of the manifest.</summary>
    public static byte[] ManifestHeader(long bytes, DateTimeOffset madeAt) =>
        Header(Encoding.ASCII.GetBytes(SetManifest.FirstMember), bytes, false, 0x1A4, madeAt, '0', [], 0, 0, "", "");

    /// <summary>The last bytes of a set: the digest of its beginning as a member, and the end mark.</summary>
    /// <param name="digest">SHA-256 of the manifest with its header: 64 lower-case hexadecimal digits.</param>
    /// <param name="madeAt">The set's time; whole seconds are kept.</param>
    public static byte[] Seal(string digest, DateTimeOffset madeAt)
    {
        byte[] seal = new byte[SealBytes];
        Header(Encoding.ASCII.GetBytes(SealName), digest.Length, false, 0x1A4, madeAt, '0', [], 0, 0, "", "").CopyTo(seal, 0);
        Encoding.ASCII.GetBytes(digest, seal.AsSpan(Block));
        return seal;
    }

    /// <summary>The size a header tells; -1 when it tells none.</summary>
    public static long SizeIn(ReadOnlySpan<byte> header)
    {
        long size = 0;
        foreach (byte digit in header.Slice(124, 11))
        {
            if (digit is < (byte)'0' or > (byte)'7') return -1;
            size = (size * 8) + digit - '0';
        }
        return size;
    }

    // Whether there is a pax record for the size depends on the file's own size and its width is fixed, so that room for a header can be
    // left before its content is packed.
    private static byte[] Header(ReadOnlySpan<byte> name, long size, bool mayBeLarge, int mode, DateTimeOffset modified, char type,
        ReadOnlySpan<byte> target,
        long owner, long group, string user, string groupName)
    {
        const int nameBytes = 100, prefixBytes = 155;
        const long octal7 = 0x1FFFFF;
        // A long name is split at a "/" where that is possible; otherwise a pax record holds it.
        ReadOnlySpan<byte> prefix = [], rest = name;
        if (name.Length > nameBytes)
        {
            int from = Math.Max(0, name.Length - nameBytes - 1), slash = name.Length <= nameBytes + prefixBytes + 1
                ? name[from..^1].IndexOf((byte)'/') + from : -1;
            if (slash > from - 1 && slash > 0 && slash <= prefixBytes)
            {
                prefix = name[..slash];
                rest = name[(slash + 1)..];
            }
        }
        var records = new List<byte>();
        if (rest.Length > nameBytes) AddRecord(records, "path", name);
        if (target.Length > nameBytes) AddRecord(records, "linkpath", target);
        if (mayBeLarge) AddRecord(records, "size", Encoding.ASCII.GetBytes(size.ToString("D19", CultureInfo.InvariantCulture)));
        if (owner > octal7) AddRecord(records, "uid", Encoding.ASCII.GetBytes(owner.ToString(CultureInfo.InvariantCulture)));
        if (group > octal7) AddRecord(records, "gid", Encoding.ASCII.GetBytes(group.ToString(CultureInfo.InvariantCulture)));
        byte[] header = Ustar(prefix, rest.Length > nameBytes ? rest[..nameBytes] : rest, size > LargestOctal11 ? 0 : size, mode,
            modified, type,
            target.Length > nameBytes ? target[..nameBytes] : target,
            owner > octal7 ? 0 : owner, group > octal7 ? 0 : group, user, groupName);
        if (records.Count == 0) return header;
        byte[] pax = Ustar([], "pax"u8, records.Count, 0x1A4, modified, 'x', [], 0, 0, "", ""),
            all = new byte[Block + Padded(records.Count) + Block];
        pax.CopyTo(all, 0);
        records.CopyTo(all, Block);
        header.CopyTo(all, all.Length - Block);
        return all;
    }

    private static byte[] Ustar(ReadOnlySpan<byte> prefix, ReadOnlySpan<byte> name, long size, int mode, DateTimeOffset modified, char type,
        ReadOnlySpan<byte> target, long owner, long group, string user, string groupName)
    {
        byte[] header = new byte[Block];
        name.CopyTo(header);
        Octal(100, 8, mode);
        Octal(108, 8, owner);
        Octal(116, 8, group);
        Octal(124, 12, size);
        Octal(136, 12, Math.Clamp(modified.ToUnixTimeSeconds(), 0, LargestOctal11));
        header.AsSpan(148, 8).Fill((byte)' '); // the checksum counts as blanks while it is computed
        header[156] = (byte)type;
        target.CopyTo(header.AsSpan(157));
        "ustar"u8.CopyTo(header.AsSpan(257));
        header[263] = header[264] = (byte)'0';
        Text(265, 31, user);
        Text(297, 31, groupName);
        prefix.CopyTo(header.AsSpan(345));
        int sum = 0;
        foreach (byte value in header) sum += value;
        Encoding.ASCII.GetBytes(Convert.ToString(sum, 8).PadLeft(6, '0') + "\0 ", header.AsSpan(148));
        return header;

        void Octal(int at, int width, long value) => Encoding.ASCII.GetBytes(Convert.ToString(value, 8).PadLeft(width - 1, '0'),
            header.AsSpan(at));

        void Text(int at, int width, string value)
        {
            byte[] bytes = Encoding.UTF8.GetBytes(value);
            bytes.AsSpan(0, Math.Min(bytes.Length, width)).CopyTo(header.AsSpan(at));
        }
    }

    // A pax record is "LENGTH NAME=VALUE\n", where LENGTH counts itself.
    private static void AddRecord(List<byte> records, string name, ReadOnlySpan<byte> value)
    {
        int body = 1 + name.Length + 1 + value.Length + 1, length = body + 1;
        while (length != body + length.ToString(CultureInfo.InvariantCulture).Length) length = body
            + length.ToString(CultureInfo.InvariantCulture).Length;
        records.AddRange(Encoding.ASCII.GetBytes(string.Create(CultureInfo.InvariantCulture, $"{length} {name}=")));
        records.AddRange(value);
        records.Add((byte)'\n');
    }
}
