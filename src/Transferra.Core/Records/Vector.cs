// Vector.cs: the values of one column for the rows of one batch, unboxed, with validity bits.
// Why our own and not Arrow's arrays: docs/decisions/record-vectors.md has the measurement.
// Holds: (1) rows are appended in order and never moved; (2) a null row has a defined neutral value, so that kernels may
//        compute over it without looking; (3) Reset keeps the memory for the next batch.
using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;
using System.Runtime.Intrinsics;
using System.Text.Unicode;

namespace Transferra.Core.Records;

/// <summary>One column of a <see cref="RecordBatch"/>, or the result of an expression over one.</summary>
/// <remarks>Not thread-safe. Spans handed out are valid until the next Append or Reset.</remarks>
public abstract class Vector(FieldType type)
{
    // Which rows have a value; kept only from the first row on that has none, as in most batches of most columns there is no such row.
    private ulong[] _valid = [];

    /// <summary>What the values are.</summary>
    public FieldType Type { get; } = type;

    /// <summary>Rows so far.</summary>
    public int Count { get; private protected set; }

    /// <summary>Memory in use by values (not by spare room), in bytes.</summary>
    public abstract long ByteCount { get; }

    /// <summary>Whether the row has no value.</summary>
    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public bool IsNull(int row) => HasNull && (_valid[row >> 6] >> (row & 63) & 1) == 0;

    /// <summary>Whether any row has no value, or had none when it was dropped.</summary>
    public bool HasNull { get; private set; }

    /// <summary>Whether any of several vectors has no value in a row.</summary>
    internal static bool IsAnyNull(ReadOnlySpan<Vector> vectors, int row)
    {
        foreach (Vector vector in vectors)
            if (vector.IsNull(row)) return true;
        return false;
    }

    /// <summary>Adds a row without a value.</summary>
    public abstract void AppendNull();

    /// <summary>Adds the value of another vector of the same kind and scale.</summary>
    public abstract void AppendFrom(Vector source, int row);

    /// <summary>Whether two rows hold the same value; two nulls are the same here, as in a record compared with its copy.</summary>
    public abstract bool SameAt(int row, Vector other, int otherRow);

    /// <summary>Compares two rows: no value before any value, numbers by size, texts byte by byte.</summary>
    public int CompareAt(int row, Vector other, int otherRow)
    {
        bool mine = IsNull(row), theirs = other.IsNull(otherRow);
        return mine || theirs ? theirs.CompareTo(mine) : CompareValues(row, other, otherRow);
    }

    private protected abstract int CompareValues(int row, Vector other, int otherRow);

    /// <summary>Writes the row to a file of <see cref="RecordSorter"/>.</summary>
    internal void Write(int row, BinaryWriter writer)
    {
        writer.Write(IsNull(row));
        if (!IsNull(row)) WriteValue(row, writer);
    }

    /// <summary>Adds a row as <see cref="Write"/> wrote it.</summary>
    internal void AppendRead(BinaryReader reader)
    {
        if (reader.ReadBoolean()) AppendNull();
        else AppendValue(reader);
    }

    private protected abstract void WriteValue(int row, BinaryWriter writer);

    private protected abstract void AppendValue(BinaryReader reader);

    /// <summary>Adds the row's value in the canonical form of docs/fingerprints.md.</summary>
    public abstract void Encode(int row, CanonicalWriter writer);

    /// <summary>The value as a person would read it; "" for null.</summary>
    public abstract string Show(int row);

    /// <summary>Drops all rows, keeps the memory.</summary>
    public virtual void Reset()
    {
        Count = 0;
        HasNull = false;
    }

    /// <summary>Drops all rows and the memory: of a store of a thousand tables each may have had its batch.</summary>
    internal void Release()
    {
        Reset();
        _valid = [];
        GiveUp();
    }

    private protected abstract void GiveUp();

    private const int FewestRows = 16;

    private protected static int MoreThan(int count) => Math.Max(FewestRows, count * 2);

    /// <summary>Drops the rows from <paramref name="rows"/> on.</summary>
    public virtual void Truncate(int rows) => Count = rows;

    /// <summary>Makes an empty vector for a type.</summary>
    public static Vector Create(FieldType type) => type.Kind switch
    {
        FieldKind.Integer or FieldKind.Date or FieldKind.Time or FieldKind.Timestamp or FieldKind.Boolean => new LongVector(type),
        FieldKind.Decimal or FieldKind.Uuid => new WideVector(type),
        FieldKind.Text or FieldKind.Binary or FieldKind.Any => new BytesVector(type),
        _ => new DoubleVector(type),
    };

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    private protected void MarkNext(bool valid)
    {
        if (HasNull || !valid) NoteNext(valid);
        Count++;
    }

    private void NoteNext(bool valid)
    {
        if (!HasNull) BeginNulls();
        int word = Count >> 6;
        if (word >= _valid.Length) Array.Resize(ref _valid, Math.Max(1, _valid.Length * 2));
        ulong bit = 1UL << (Count & 63);
        if (valid) _valid[word] |= bit;
        else _valid[word] &= ~bit;
    }

    // All rows until now have a value.
    private void BeginNulls()
    {
        int words = (Count + 63) >> 6;
        if (_valid.Length < words) _valid = new ulong[words];
        _valid.AsSpan(0, words).Fill(ulong.MaxValue);
        HasNull = true;
    }

    /// <summary>Makes all of so many rows ones that have a value.</summary>
    private protected void MarkAll(int rows) => (Count, HasNull) = (rows, false);

    private protected void MarkNull(int row)
    {
        if (!HasNull) BeginNulls();
        _valid[row >> 6] &= ~(1UL << (row & 63));
    }

    private protected bool SameNullness(int row, Vector other, int otherRow, out bool bothNull)
    {
        bool mine = IsNull(row), theirs = other.IsNull(otherRow);
        bothNull = mine && theirs;
        return mine == theirs;
    }
}

/// <summary>Whole numbers, days, microseconds and booleans: anything that a long holds.</summary>
public sealed class LongVector(FieldType type) : Vector(type)
{
    private long[] _values = [];

    /// <inheritdoc/>
    public override long ByteCount => Count * 8L;

    /// <summary>The values; 0 where null.</summary>
    public ReadOnlySpan<long> Values => _values.AsSpan(0, Count);

    /// <summary>Adds a value.</summary>
    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public void Append(long value)
    {
        if (Count == _values.Length) Array.Resize(ref _values, MoreThan(Count));
        _values[Count] = value;
        MarkNext(true);
    }

    /// <summary>Room for the values of so many rows in place of those that there are, none of them missing.</summary>
    /// <returns>To be filled by the caller, whole.</returns>
    internal Span<long> Fill(int rows)
    {
        if (_values.Length < rows) _values = new long[rows];
        MarkAll(rows);
        return _values.AsSpan(0, rows);
    }

    /// <summary>Makes the rows missing that are missing in another vector of as many rows.</summary>
    internal void MissWith(Vector other)
    {
        if (!other.HasNull) return;
        for (int row = 0; row < Count; row++)
        {
            if (!other.IsNull(row)) continue;
            _values[row] = 0;
            MarkNull(row);
        }
    }

    /// <inheritdoc/>
    public override void AppendNull()
    {
        if (Count == _values.Length) Array.Resize(ref _values, MoreThan(Count));
        _values[Count] = 0;
        MarkNext(false);
    }

    /// <inheritdoc/>
    public override void AppendFrom(Vector source, int row)
    {
        if (source.IsNull(row)) AppendNull();
        else Append(((LongVector)source)._values[row]);
    }

    /// <inheritdoc/>
    public override bool SameAt(int row, Vector other, int otherRow) =>
        SameNullness(row, other, otherRow, out bool bothNull) && (bothNull || _values[row] == ((LongVector)other)._values[otherRow]);

    private protected override int CompareValues(int row, Vector other, int otherRow) =>
        _values[row].CompareTo(((LongVector)other)._values[otherRow]);

    private protected override void WriteValue(int row, BinaryWriter writer) => writer.Write(_values[row]);

    private protected override void AppendValue(BinaryReader reader) => Append(reader.ReadInt64());

    /// <inheritdoc/>
    public override void Encode(int row, CanonicalWriter writer)
    {
        if (IsNull(row)) writer.Null();
        else writer.Long(_values[row]);
    }

    private protected override void GiveUp() => _values = [];

    /// <inheritdoc/>
    public override string Show(int row) => IsNull(row) ? "" : ValueText.OfLong(_values[row], Type.Kind);
}

/// <summary>Exact decimals as Int128 in units of 10^-scale, and UUIDs.</summary>
public sealed class WideVector(FieldType type) : Vector(type)
{
    private Int128[] _values = [];

    /// <inheritdoc/>
    public override long ByteCount => Count * 16L;

    /// <summary>The values in units of 10^-<see cref="FieldType.Scale"/>; 0 where null.</summary>
    public ReadOnlySpan<Int128> Values => _values.AsSpan(0, Count);

    /// <inheritdoc cref="LongVector.Fill"/>
    internal Span<Int128> Fill(int rows)
    {
        if (_values.Length < rows) _values = new Int128[rows];
        MarkAll(rows);
        return _values.AsSpan(0, rows);
    }

    /// <summary>Makes one row missing.</summary>
    internal void Miss(int row)
    {
        _values[row] = 0;
        MarkNull(row);
    }

    /// <summary>Adds a value in units of 10^-scale.</summary>
    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public void Append(Int128 value)
    {
        if (Count == _values.Length) Array.Resize(ref _values, MoreThan(Count));
        _values[Count] = value;
        MarkNext(true);
    }

    /// <inheritdoc/>
    public override void AppendNull()
    {
        if (Count == _values.Length) Array.Resize(ref _values, MoreThan(Count));
        _values[Count] = 0;
        MarkNext(false);
    }

    /// <inheritdoc/>
    public override void AppendFrom(Vector source, int row)
    {
        if (source.IsNull(row)) AppendNull();
        else Append(((WideVector)source)._values[row]);
    }

    /// <inheritdoc/>
    public override bool SameAt(int row, Vector other, int otherRow) =>
        SameNullness(row, other, otherRow, out bool bothNull) && (bothNull || _values[row] == ((WideVector)other)._values[otherRow]);

    private protected override int CompareValues(int row, Vector other, int otherRow) =>
        _values[row].CompareTo(((WideVector)other)._values[otherRow]);

    private protected override void WriteValue(int row, BinaryWriter writer)
    {
        writer.Write((ulong)_values[row]);
        writer.Write((long)(_values[row] >> 64));
    }

    private protected override void AppendValue(BinaryReader reader)
    {
        ulong low = reader.ReadUInt64();
        Append(((Int128)reader.ReadInt64() << 64) | low);
    }

    /// <inheritdoc/>
    public override void Encode(int row, CanonicalWriter writer)
    {
        if (IsNull(row)) writer.Null();
        else if (Type.Kind == FieldKind.Uuid) writer.Wide(_values[row]);
        else writer.Decimal(_values[row], Type.Scale);
    }

    private protected override void GiveUp() => _values = [];

    /// <inheritdoc/>
    public override string Show(int row) => IsNull(row) ? ""
        : Type.Kind == FieldKind.Uuid ? ValueText.OfUuid(_values[row]) : DecimalText.Format(_values[row], Type.Scale);
}

/// <summary>Text as UTF-8, and binary values, in one buffer with offsets.</summary>
public sealed class BytesVector(FieldType type) : Vector(type)
{
    private int[] _ends = [];
    private byte[] _bytes = [];

    /// <inheritdoc/>
    public override long ByteCount => Count == 0 ? 0 : _ends[Count - 1] + Count * 4L;

    /// <summary>The row's bytes; empty where null.</summary>
    public ReadOnlySpan<byte> this[int row]
    {
        get
        {
            int start = row == 0 ? 0 : _ends[row - 1];
            return _bytes.AsSpan(start, _ends[row] - start);
        }
    }

    /// <summary>Bytes of all rows.</summary>
    public int Length => Count == 0 ? 0 : _ends[Count - 1];

    /// <summary>The bytes of all rows, one behind the other.</summary>
    public ReadOnlySpan<byte> AllBytes => _bytes.AsSpan(0, Length);

    /// <summary>Where each row's bytes end in the buffer; a row begins where the one before it ends.</summary>
    public ReadOnlySpan<int> Ends => _ends.AsSpan(0, Count);

    /// <summary>Holds the buffer in its place, for an engine that reads the bytes without copying them.</summary>
    /// <returns>Its address; valid until it is disposed. Nothing may be appended meanwhile.</returns>
    public System.Buffers.MemoryHandle Pin() => _bytes.AsMemory().Pin();

    /// <summary>Adds a value, copied. In a column of several kinds it is a text: what an engine without such columns hands over.</summary>
    public void Append(ReadOnlySpan<byte> value)
    {
        if (Type.Kind == FieldKind.Any) AnyValue.Append(this, AnyValue.Text, value);
        else AppendAsIs(value);
    }

    /// <summary>Adds a text, if it is UTF-8; a short one of ASCII is looked at and copied in one go.</summary>
    /// <returns>False when it is not; nothing is added then.</returns>
    public bool TryAppendUtf8(ReadOnlySpan<byte> value)
    {
        int length = value.Length, start = Count == 0 ? 0 : _ends[Count - 1];
        if (Type.Kind != FieldKind.Any && _bytes.Length - start >= length && TryCopyAscii(value, _bytes.AsSpan(start, length)))
        {
            Close(length, valid: true);
            return true;
        }
        if (!Utf8.IsValid(value)) return false;
        Append(value);
        return true;
    }

    // In two halves that overlap.
    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    private static bool TryCopyAscii(ReadOnlySpan<byte> from, Span<byte> into)
    {
        if (from.Length > 2 * Vector128<byte>.Count) return false;
        if (from.Length >= Vector128<byte>.Count)
        {
            Vector128<byte> begin = Vector128.Create(from), end = Vector128.Create(from[^Vector128<byte>.Count..]);
            if (((begin | end) & Vector128.Create((byte)0x80)) != default) return false;
            begin.CopyTo(into);
            end.CopyTo(into[^Vector128<byte>.Count..]);
            return true;
        }
        if (from.Length >= sizeof(ulong))
        {
            ulong begin = MemoryMarshal.Read<ulong>(from), end = MemoryMarshal.Read<ulong>(from[^sizeof(ulong)..]);
            if (((begin | end) & 0x8080808080808080) != 0) return false;
            MemoryMarshal.Write(into, begin);
            MemoryMarshal.Write(into[^sizeof(ulong)..], end);
            return true;
        }
        if (from.Length >= sizeof(uint))
        {
            uint begin = MemoryMarshal.Read<uint>(from), end = MemoryMarshal.Read<uint>(from[^sizeof(uint)..]);
            if (((begin | end) & 0x80808080) != 0) return false;
            MemoryMarshal.Write(into, begin);
            MemoryMarshal.Write(into[^sizeof(uint)..], end);
            return true;
        }
        byte all = 0;
        for (int i = 0; i < from.Length; i++) all |= into[i] = from[i];
        return all < 0x80;
    }

    private void AppendAsIs(ReadOnlySpan<byte> value)
    {
        value.CopyTo(Room(value.Length));
        Added(value.Length);
    }

    /// <summary>Room for the next value, to be filled in place and then confirmed with <see cref="Added"/>.</summary>
    public Span<byte> Room(int most)
    {
        int start = Count == 0 ? 0 : _ends[Count - 1];
        if (_bytes.Length - start < most)
            Array.Resize(ref _bytes, checked((int)Math.Min(Array.MaxLength, Math.Max(Math.Max(start + (long)most, 64),
                _bytes.Length * 2L))));
        return _bytes.AsSpan(start, most);
    }

    /// <summary>Confirms that the next value takes the first <paramref name="length"/> bytes of <see cref="Room"/>.</summary>
    public void Added(int length) => Close(length, valid: true);

    /// <inheritdoc/>
    public override void AppendNull() => Close(0, valid: false);

    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    private void Close(int length, bool valid)
    {
        if (Count == _ends.Length) Array.Resize(ref _ends, MoreThan(Count));
        _ends[Count] = (Count == 0 ? 0 : _ends[Count - 1]) + length;
        MarkNext(valid);
    }

    /// <inheritdoc/>
    public override void AppendFrom(Vector source, int row)
    {
        if (source.IsNull(row)) AppendNull();
        else if (source.Type.Kind == FieldKind.Any) AppendAsIs(((BytesVector)source)[row]);
        else Append(((BytesVector)source)[row]);
    }

    /// <inheritdoc/>
    public override bool SameAt(int row, Vector other, int otherRow) =>
        SameNullness(row, other, otherRow, out bool bothNull) && (bothNull || CompareValues(row, other, otherRow) == 0);

    private protected override int CompareValues(int row, Vector other, int otherRow)
    {
        ReadOnlySpan<byte> mine = this[row], others = ((BytesVector)other)[otherRow];
        return (Type.Kind == FieldKind.Any) == (other.Type.Kind == FieldKind.Any) ? mine.SequenceCompareTo(others)
            : Type.Kind == FieldKind.Any ? AnyValue.CompareToText(mine, others) : -AnyValue.CompareToText(others, mine);
    }

    private protected override void WriteValue(int row, BinaryWriter writer)
    {
        writer.Write(this[row].Length);
        writer.Write(this[row]);
    }

    private protected override void AppendValue(BinaryReader reader)
    {
        int length = reader.ReadInt32();
        reader.BaseStream.ReadExactly(Room(length));
        Added(length);
    }

    /// <inheritdoc/>
    public override void Encode(int row, CanonicalWriter writer)
    {
        if (IsNull(row)) writer.Null();
        else if (Type.Kind != FieldKind.Any) writer.Bytes(this[row]);
        else if (this[row][0] == AnyValue.Text) writer.Bytes(this[row][1..]);
        else writer.Any(this[row]);
    }

    private protected override void GiveUp() => (_ends, _bytes) = ([], []);

    /// <inheritdoc/>
    public override string Show(int row) => IsNull(row) ? ""
        : Type.Kind == FieldKind.Binary ? Convert.ToHexString(this[row]) : Type.Kind == FieldKind.Any ? AnyValue.Show(this[row])
            : System.Text.Encoding.UTF8.GetString(this[row]);
}

/// <summary>IEEE doubles, for the columns whose source is one.</summary>
public sealed class DoubleVector(FieldType type) : Vector(type)
{
    private double[] _values = [];

    /// <inheritdoc/>
    public override long ByteCount => Count * 8L;

    /// <summary>The values; 0 where null.</summary>
    public ReadOnlySpan<double> Values => _values.AsSpan(0, Count);

    /// <summary>Adds a value.</summary>
    public void Append(double value)
    {
        if (Count == _values.Length) Array.Resize(ref _values, MoreThan(Count));
        _values[Count] = value;
        MarkNext(true);
    }

    /// <inheritdoc/>
    public override void AppendNull()
    {
        if (Count == _values.Length) Array.Resize(ref _values, MoreThan(Count));
        _values[Count] = 0;
        MarkNext(false);
    }

    /// <inheritdoc/>
    public override void AppendFrom(Vector source, int row)
    {
        if (source.IsNull(row)) AppendNull();
        else Append(((DoubleVector)source)._values[row]);
    }

    /// <inheritdoc/>
    public override bool SameAt(int row, Vector other, int otherRow) =>
        SameNullness(row, other, otherRow, out bool bothNull) && (bothNull || Bits(row) == ((DoubleVector)other).Bits(otherRow));

    private protected override int CompareValues(int row, Vector other, int otherRow) =>
        _values[row].CompareTo(((DoubleVector)other)._values[otherRow]);

    private protected override void WriteValue(int row, BinaryWriter writer) => writer.Write(_values[row]);

    private protected override void AppendValue(BinaryReader reader) => Append(reader.ReadDouble());

    /// <inheritdoc/>
    public override void Encode(int row, CanonicalWriter writer)
    {
        if (IsNull(row)) writer.Null();
        else writer.Long(Bits(row));
    }

    private protected override void GiveUp() => _values = [];

    /// <inheritdoc/>
    public override string Show(int row) =>
        IsNull(row) ? "" : _values[row].ToString("R", System.Globalization.CultureInfo.InvariantCulture);

    // -0.0 and 0.0 are one number and must give one fingerprint, and so must all NaN.
    private long Bits(int row) => _values[row] == 0 ? 0 : double.IsNaN(_values[row]) ? Specials.NaNBits
        : BitConverter.DoubleToInt64Bits(_values[row]);
}
