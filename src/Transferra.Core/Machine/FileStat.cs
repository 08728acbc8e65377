// FileStat.cs: everything that statx(2) tells of one entry of a folder, links not followed.
// Why by bytes: a name on Linux is any bytes but "/" and zero, and .NET can open only those that are UTF-8.
using System.Buffers.Binary;

namespace Transferra.Core.Machine;

/// <summary>Kinds of entries.</summary>
internal enum FileKind
{
    /// <summary>A file with content.</summary>
    File,

    /// <summary>A folder.</summary>
    Folder,

    /// <summary>A symbolic link.</summary>
    Link,

    /// <summary>A socket, pipe or device: nothing that can be kept.</summary>
    Other,
}

/// <summary>What an entry of a folder is.</summary>
/// <param name="Kind">File, folder, link or other.</param>
/// <param name="Mode">Permission bits, with set-user, set-group and sticky.</param>
/// <param name="Owner">Number of the user.</param>
/// <param name="Group">Number of the group.</param>
/// <param name="Links">How many names it has.</param>
/// <param name="Device">Number of the volume.</param>
/// <param name="Inode">Number on the volume.</param>
/// <param name="Bytes">Size.</param>
/// <param name="BytesOnDisk">What it takes on the disk; less than its size when it has holes.</param>
/// <param name="ModifiedNanoseconds">When its content was changed last, nanoseconds since 1970.</param>
/// <param name="ChangedNanoseconds">When its content, name or rights were changed last; nobody can set this time.</param>
internal readonly record struct FileStat(FileKind Kind, int Mode, uint Owner, uint Group, uint Links, long Device, long Inode, long Bytes,
    long BytesOnDisk,
    long ModifiedNanoseconds, long ChangedNanoseconds)
{
    private const int BlockBytes = 512;

    /// <summary>What statx(2) is asked for, and how large its answer is.</summary>
    internal const int Wanted = 0x7FF, RawBytes = 256;

    /// <summary>Whether it has holes.</summary>
    public bool IsSparse => Kind == FileKind.File && BytesOnDisk < Bytes - 4096;

    /// <summary>Whether what is at two readings of a path is the same, unchanged content.</summary>
    public bool IsUnchangedSince(FileStat earlier) => this with { Links = 0, BytesOnDisk = 0 } == earlier with
    {
        Links = 0,
        BytesOnDisk = 0
    };

    /// <summary>Writes it as a part of an entry.</summary>
    internal void Write(EntryWriter writer)
    {
        writer.Number((long)Kind);
        foreach (long part in (ReadOnlySpan<long>)[Mode, Owner, Group, Links, Device, Inode, Bytes, BytesOnDisk]) writer.Number(part);
        writer.Long(ModifiedNanoseconds);
        writer.Long(ChangedNanoseconds);
    }

    /// <summary>Reads one that was written so.</summary>
    internal static FileStat Read(ref EntryReader reader) => new((FileKind)reader.Number(), (int)reader.Number(), (uint)reader.Number(),
        (uint)reader.Number(), (uint)reader.Number(), reader.Number(), reader.Number(), reader.Number(), reader.Number(), reader.Long(),
        reader.Long());

    internal static FileStat FromStatX(ReadOnlySpan<byte> raw)
    {
        // Offsets are those of struct statx.
        int mode = BinaryPrimitives.ReadUInt16LittleEndian(raw[28..]);
        long device = ((long)BinaryPrimitives.ReadUInt32LittleEndian(raw[136..]) << 32)
            | BinaryPrimitives.ReadUInt32LittleEndian(raw[140..]);
        return new FileStat((mode & 0xF000) switch
        {
            0x8000 => FileKind.File,
            0x4000 => FileKind.Folder,
            0xA000 => FileKind.Link,
            _ => FileKind.Other
        },
            mode & 0xFFF, BinaryPrimitives.ReadUInt32LittleEndian(raw[20..]), BinaryPrimitives.ReadUInt32LittleEndian(raw[24..]),
                BinaryPrimitives.ReadUInt32LittleEndian(raw[16..]),
            device, BinaryPrimitives.ReadInt64LittleEndian(raw[32..]), BinaryPrimitives.ReadInt64LittleEndian(raw[40..]),
                BinaryPrimitives.ReadInt64LittleEndian(raw[48..]) * BlockBytes,
            Nanoseconds(raw[112..]), Nanoseconds(raw[96..]));

        static long Nanoseconds(ReadOnlySpan<byte> time) => (BinaryPrimitives.ReadInt64LittleEndian(time) * 1_000_000_000)
            + BinaryPrimitives.ReadUInt32LittleEndian(time[8..]);
    }
}
