// PackedEntries.cs: a long list of small entries, kept as bytes: as objects with texts, 100,000 of them take three times as much, and the
// collector as much again to look after them.
// Holds: (1) what was written is what is read, whatever it was; (2) of a list of any length only a few megabytes are in memory, and eight
//        bytes an entry.
using System.Buffers.Binary;
using System.Text;

namespace Transferra.Core.Machine;

/// <summary>Writes the parts of one entry; used for one after the other. Not thread-safe.</summary>
internal sealed class EntryWriter
{
    private const int LongestNumber = 10;

    private byte[] _bytes = new byte[512];
    private int _length;

    /// <summary>What was written since <see cref="Clear"/>.</summary>
    public ReadOnlySpan<byte> Written => _bytes.AsSpan(0, _length);

    /// <summary>Begins an entry.</summary>
    public void Clear() => _length = 0;

    private Span<byte> Room(int bytes)
    {
        if (_bytes.Length - _length < bytes) Array.Resize(ref _bytes, Math.Max(2 * _bytes.Length, _length + bytes));
        return _bytes.AsSpan(_length);
    }

    /// <summary>A number, in seven bits a byte, the lowest first; a negative one takes ten bytes.</summary>
    public void Number(long value)
    {
        Span<byte> room = Room(LongestNumber);
        int used = 0;
        ulong rest = unchecked((ulong)value);
        for (; rest > 0x7F; rest >>= 7) room[used++] = (byte)(rest | 0x80);
        room[used++] = (byte)rest;
        _length += used;
    }

    /// <summary>A time in ticks, or anything else that is large: eight bytes.</summary>
    public void Long(long value)
    {
        BinaryPrimitives.WriteInt64LittleEndian(Room(sizeof(long)), value);
        _length += sizeof(long);
    }

    /// <summary>Bytes as they are; the reader knows how many.</summary>
    public void Raw(ReadOnlySpan<byte> bytes)
    {
        bytes.CopyTo(Room(bytes.Length));
        _length += bytes.Length;
    }

    /// <summary>Bytes with their number.</summary>
    public void Bytes(ReadOnlySpan<byte> bytes)
    {
        Number(bytes.Length);
        Raw(bytes);
    }

    /// <summary>A text, or none.</summary>
    public void Text(string? text)
    {
        Number(text is null ? 0 : 1L + Encoding.UTF8.GetByteCount(text));
        if (text is not null) _length += Encoding.UTF8.GetBytes(text, Room(Encoding.UTF8.GetMaxByteCount(text.Length)));
    }
}

/// <summary>Reads the parts of one entry in the order in which they were written.</summary>
/// <param name="entry">The entry.</param>
internal ref struct EntryReader(ReadOnlySpan<byte> entry)
{
    private ReadOnlySpan<byte> _rest = entry;

    /// <inheritdoc cref="EntryWriter.Number"/>
    public long Number()
    {
        ulong value = 0;
        for (int i = 0, shift = 0; ; i++, shift += 7)
        {
            value |= (ulong)(_rest[i] & 0x7F) << shift;
            if (_rest[i] > 0x7F) continue;
            _rest = _rest[(i + 1)..];
            return unchecked((long)value);
        }
    }

    /// <inheritdoc cref="EntryWriter.Long"/>
    public long Long() => BinaryPrimitives.ReadInt64LittleEndian(Raw(sizeof(long)));

    /// <inheritdoc cref="EntryWriter.Raw"/>
    public ReadOnlySpan<byte> Raw(int bytes)
    {
        ReadOnlySpan<byte> taken = _rest[..bytes];
        _rest = _rest[bytes..];
        return taken;
    }

    /// <inheritdoc cref="EntryWriter.Bytes"/>
    public ReadOnlySpan<byte> Bytes() => Raw((int)Number());

    /// <inheritdoc cref="EntryWriter.Text"/>
    public string? Text() => Number() is > 0 and long length ? Encoding.UTF8.GetString(Raw((int)length - 1)) : null;
}

/// <summary>The list: entries are added at its end by one thread, and read from anywhere by any number of them, though not while one is
/// added.</summary>
/// <param name="keptChunks">How many chunks stay in memory; what comes before them is on disk.</param>
internal sealed class PackedEntries(int keptChunks)
{
    private const int ChunkBits = 18, ChunkBytes = 1 << ChunkBits, UsuallyKept = 32, ReadAgain = 8;

    /// <summary>A list of which as much stays in memory as suits the budget.</summary>
    public PackedEntries()
        : this((int)MemoryBudget.OfProcess.Suiting(UsuallyKept, UsuallyKept / 4, UsuallyKept * 32))
    {
    }

    // Of each chunk that is on disk, nothing, and where it lies there.
    private readonly List<byte[]?> _chunks = [];
    private readonly List<(long At, int Bytes)> _onDisk = [];
    private readonly List<long> _entries = [];
    private readonly Lock _one = new();
    private readonly Queue<(int Chunk, byte[] Bytes)> _again = new();
    private FileStream? _file;
    private int _used = ChunkBytes;

    /// <summary>How many there are.</summary>
    public int Count => _entries.Count;

    /// <summary>Adds one.</summary>
    public void Add(ReadOnlySpan<byte> entry)
    {
        int needed = sizeof(int) + entry.Length;
        if (_chunks.Count == 0 || _used > ChunkBytes - needed) Begin(needed);
        Span<byte> room = _chunks[^1]!.AsSpan(_used);
        BinaryPrimitives.WriteInt32LittleEndian(room, entry.Length);
        entry.CopyTo(room[sizeof(int)..]);
        _entries.Add(((long)(_chunks.Count - 1) << ChunkBits) + _used);
        _used += needed;
    }

    // An entry that is longer than a chunk has one of its own.
    private void Begin(int needed)
    {
        if (_chunks.Count >= keptChunks && _chunks[_chunks.Count - keptChunks] is { } oldest)
        {
            _file ??= SpillFile.Create(bufferBytes: 0);
            long at = _file.Length;
            RandomAccess.Write(_file.SafeFileHandle, oldest, at);
            _onDisk.Add((at, oldest.Length));
            _chunks[_chunks.Count - keptChunks] = null;
        }
        _chunks.Add(new byte[Math.Max(ChunkBytes, needed)]);
        _used = 0;
    }

    /// <summary>One of them, from 0.</summary>
    public ReadOnlySpan<byte> this[int index]
    {
        get
        {
            int chunk = (int)(_entries[index] >> ChunkBits), at = (int)(_entries[index] & (ChunkBytes - 1));
            ReadOnlySpan<byte> bytes = _chunks[chunk] ?? FromDisk(chunk);
            return bytes.Slice(at + sizeof(int), BinaryPrimitives.ReadInt32LittleEndian(bytes[at..]));
        }
    }

    // Mostly they are read in their order, by a few threads: the last few chunks are what is asked for next.
    private byte[] FromDisk(int chunk)
    {
        lock (_one)
        {
            foreach ((int known, byte[] there) in _again)
                if (known == chunk) return there;
            (long at, int length) = _onDisk[chunk];
            byte[] bytes = new byte[length];
            for (int read = 0, got; read < length; read += got)
                if ((got = RandomAccess.Read(_file!.SafeFileHandle, bytes.AsSpan(read), at + read)) == 0)
                    throw new EndOfStreamException("a file for what does not fit in memory is cut off");
            if (_again.Count == ReadAgain) _again.Dequeue();
            _again.Enqueue((chunk, bytes));
            return bytes;
        }
    }
}
