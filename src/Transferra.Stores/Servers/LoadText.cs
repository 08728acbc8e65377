// LoadText.cs: rows of a batch in the text form that two servers load fastest from. Bytes that are no text travel as hexadecimal digits.
using System.Globalization;
using System.Text;
using Transferra.Core.Records;

namespace Transferra.Stores.Servers;

/// <summary>Rows as LOAD DATA of MariaDB and COPY of PostgreSQL read them: fields parted by tabs, lines by line feeds, \N for no
/// value.</summary>
/// <param name="binaryPrefix">What stands before the hexadecimal digits of bytes.</param>
internal sealed class LoadText(string binaryPrefix = "")
{
    private byte[] _bytes = new byte[1 << 20];

    public int Length { get; private set; }

    public Stream Read() => new MemoryStream(_bytes, 0, Length, writable: false);

    public void Write(IReadOnlyList<Vector> vectors, ReadOnlySpan<int> rows)
    {
        Length = 0;
        foreach (int row in rows)
        {
            for (int column = 0; column < vectors.Count; column++)
            {
                if (column > 0) One((byte)'\t');
                Write(vectors[column], row);
            }
            One((byte)'\n');
        }
    }

    private void Write(Vector vector, int row)
    {
        Room(64);
        Span<byte> room = _bytes.AsSpan(Length);
        if (vector.IsNull(row))
        {
            "\\N"u8.CopyTo(room);
            Length += 2;
            return;
        }
        switch (vector)
        {
            case LongVector { Type.Kind: FieldKind.Integer or FieldKind.Boolean } longs:
                longs.Values[row].TryFormat(room, out int digits, default, CultureInfo.InvariantCulture);
                Length += digits;
                break;
            case LongVector { Type.Kind: FieldKind.Date } dates:
                ValueText.WriteDate(dates.Values[row], room);
                Length += 10;
                break;
            case WideVector { Type.Kind: FieldKind.Decimal } wides:
                Length += DecimalText.Format(wides.Values[row], wides.Type.Scale, room);
                break;
            case DoubleVector doubles:
                doubles.Values[row].TryFormat(room, out int written, "R", CultureInfo.InvariantCulture);
                Length += written;
                break;
            case BytesVector { Type.Kind: FieldKind.Binary } bytes:
                ReadOnlySpan<byte> value = bytes[row];
                Room((2 * value.Length) + binaryPrefix.Length);
                Length += Encoding.ASCII.GetBytes(binaryPrefix, _bytes.AsSpan(Length));
                Convert.TryToHexString(value, _bytes.AsSpan(Length), out int hex);
                Length += hex;
                break;
            case BytesVector texts: Escaped(texts[row]); break;
            default: Length += Encoding.ASCII.GetBytes(vector.Show(row), room); break;
        }
    }

    private void Escaped(ReadOnlySpan<byte> text)
    {
        Room(2 * text.Length);
        while (true)
        {
            int at = text.IndexOfAny("\\\t\n\r\0"u8);
            ReadOnlySpan<byte> plain = at < 0 ? text : text[..at];
            plain.CopyTo(_bytes.AsSpan(Length));
            Length += plain.Length;
            if (at < 0) return;
            _bytes[Length++] = (byte)'\\';
            _bytes[Length++] = text[at] switch
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
        _bytes[Length++] = value;
    }

    private void Room(int bytes)
    {
        if (_bytes.Length - Length < bytes) Array.Resize(ref _bytes,
            (int)Math.Min(Array.MaxLength, Math.Max(Length + (long)bytes, 2L * _bytes.Length)));
    }
}
