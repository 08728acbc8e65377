// SqliteKeyBytes.cs: the values of one key, written so that equal keys are equal bytes and others are not; and the sum of their digests,
// by which the keys of a table and the entries of an index are found to be the same.
// Why a sum: the two come in different orders, and neither need be kept. A sum of digests of 128 bits, and not XOR, by which a key that is
// there twice would cancel.
using System.Buffers.Binary;
using System.IO.Hashing;

namespace Transferra.Stores.Sqlite;

/// <summary>One key after the other; used by one thread at a time.</summary>
internal sealed class SqliteKeyBytes
{
    private enum Mark : byte { Null, Whole, Real, Text, Blob }

    private byte[] _bytes = new byte[256];
    private int _used;

    /// <summary>Begins a key.</summary>
    public void Clear() => _used = 0;

    public void AddNull() => Room(1)[0] = (byte)Mark.Null;

    public void Add(long whole) => AddMarked(Mark.Whole, whole);

    /// <param name="real">Not a whole number.</param>
    public void Add(double real) => AddMarked(Mark.Real, BitConverter.DoubleToInt64Bits(real));

    private void AddMarked(Mark mark, long bits)
    {
        Span<byte> room = Room(1 + sizeof(long));
        room[0] = (byte)mark;
        BinaryPrimitives.WriteInt64LittleEndian(room[1..], bits);
    }

    public void Add(ReadOnlySpan<byte> value, bool isText)
    {
        Span<byte> room = Room(1 + sizeof(int) + value.Length);
        room[0] = (byte)(isText ? Mark.Text : Mark.Blob);
        BinaryPrimitives.WriteInt32LittleEndian(room[1..], value.Length);
        value.CopyTo(room[(1 + sizeof(int))..]);
    }

    private Span<byte> Room(int bytes)
    {
        if (_bytes.Length - _used < bytes) Array.Resize(ref _bytes, Math.Max(2 * _bytes.Length, _used + bytes));
        _used += bytes;
        return _bytes.AsSpan(_used - bytes, bytes);
    }

    /// <summary>The key's digest (XXH3, 128 bits).</summary>
    public UInt128 Digest() => XxHash128.HashToUInt128(_bytes.AsSpan(0, _used));
}
