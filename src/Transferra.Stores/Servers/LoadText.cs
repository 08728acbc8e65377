// LoadText.cs: rows of a batch in the text form that two servers load fastest from. Bytes that are no text travel as hexadecimal digits.
// Why a stream that writes while it is read: the server then works on the first rows while the next ones are written out, and a batch of
// long values need not be in memory a second time.
// Holds: (1) what is read is the same whatever is asked for at a time.
using System.Globalization;
using System.Text;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores.Servers;

/// <summary>Rows as LOAD DATA of MariaDB and COPY of PostgreSQL read them: fields parted by tabs, lines by line feeds, \N for no
/// value. One stream at a time.</summary>
/// <param name="binaryPrefix">What stands before the hexadecimal digits of bytes.</param>
internal sealed class LoadText(string binaryPrefix = "")
{
    private const int AtATime = 1 << 16;

    private byte[] _bytes = new byte[2 * AtATime];
    private Vector[] _vectors = [];
    private int[] _rows = [];
    private int _next, _start, _length;

    /// <summary>Bytes that were read of the last text.</summary>
    public long Written { get; private set; }

    /// <summary>The text of some rows, as it is read.</summary>
    /// <param name="vectors">The columns in their order; unchanged until the stream is read to its end.</param>
    /// <param name="rows">Which rows; not kept.</param>
    public Stream Of(IEnumerable<Vector> vectors, ReadOnlySpan<int> rows)
    {
        (_vectors, _rows) = ([.. vectors], rows.ToArray());
        _next = _start = _length = 0;
        Written = 0;
        return new Text(this);
    }

    private int Read(Span<byte> into)
    {
        if (_start == _length)
        {
            _start = _length = 0;
            for (; _next < _rows.Length && _length < AtATime; _next++) Write(_rows[_next]);
        }
        int some = Math.Min(into.Length, _length - _start);
        _bytes.AsSpan(_start, some).CopyTo(into);
        _start += some;
        Written += some;
        return some;
    }

    private void Write(int row)
    {
        for (int column = 0; column < _vectors.Length; column++)
        {
            if (column > 0) One((byte)'\t');
            Write(_vectors[column], row);
        }
        One((byte)'\n');
    }

    private sealed class Text(LoadText of) : GivenStream
    {
        public override int Read(Span<byte> buffer) => of.Read(buffer);
    }

    private void Write(Vector vector, int row)
    {
        Room(64);
        Span<byte> room = _bytes.AsSpan(_length);
        if (vector.IsNull(row))
        {
            "\\N"u8.CopyTo(room);
            _length += 2;
            return;
        }
        switch (vector)
        {
            case LongVector { Type.Kind: FieldKind.Integer or FieldKind.Boolean } longs:
                longs.Values[row].TryFormat(room, out int digits, default, CultureInfo.InvariantCulture);
                _length += digits;
                break;
            case LongVector { Type.Kind: FieldKind.Date } dates:
                ValueText.WriteDate(dates.Values[row], room);
                _length += 10;
                break;
            case WideVector { Type.Kind: FieldKind.Decimal } wides:
                _length += DecimalText.Format(wides.Values[row], wides.Type.Scale, room);
                break;
            case DoubleVector doubles:
                doubles.Values[row].TryFormat(room, out int written, "R", CultureInfo.InvariantCulture);
                _length += written;
                break;
            case BytesVector { Type.Kind: FieldKind.Binary } bytes:
                ReadOnlySpan<byte> value = bytes[row];
                Room((2 * value.Length) + binaryPrefix.Length);
                _length += Encoding.ASCII.GetBytes(binaryPrefix, _bytes.AsSpan(_length));
                Convert.TryToHexString(value, _bytes.AsSpan(_length), out int hex);
                _length += hex;
                break;
            case BytesVector texts: Escaped(texts[row]); break;
            default: _length += Encoding.ASCII.GetBytes(vector.Show(row), room); break;
        }
    }

    private void Escaped(ReadOnlySpan<byte> text)
    {
        Room(2 * text.Length);
        while (true)
        {
            int at = text.IndexOfAny("\\\t\n\r\0"u8);
            ReadOnlySpan<byte> plain = at < 0 ? text : text[..at];
            plain.CopyTo(_bytes.AsSpan(_length));
            _length += plain.Length;
            if (at < 0) return;
            _bytes[_length++] = (byte)'\\';
            _bytes[_length++] = text[at] switch
            {
                (byte)'\t' => (byte)'t',
                (byte)'\n' => (byte)'n',
                (byte)'\r' => (byte)'r',
                0 => (byte)'0',
                _ => (byte)'\\'
            };
            text = text[(at + 1)..];
        }
    }

    private void One(byte value)
    {
        Room(1);
        _bytes[_length++] = value;
    }

    private void Room(int bytes)
    {
        if (_bytes.Length - _length < bytes) Array.Resize(ref _bytes,
            (int)Math.Min(Array.MaxLength, Math.Max(_length + (long)bytes, 2L * _bytes.Length)));
    }
}
