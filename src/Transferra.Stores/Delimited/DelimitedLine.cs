// DelimitedLine.cs: one row as a line of delimited text.
// Why in bytes: every record of a server's database is written out like this for its backup set, and a text object for each of its values
// took longer than reading them.
using System.Buffers;
using System.Globalization;
using System.Text;
using Transferra.Core.Expressions;
using Transferra.Core.Records;

namespace Transferra.Stores.Delimited;

/// <summary>Writes lines, one at a time. Not thread-safe.</summary>
internal sealed class DelimitedLine
{
    private const int LongestNumber = 64;

    private readonly DelimitedForm _form;
    private readonly Encoding? _encoding; // null for UTF-8, which values are kept in
    private readonly DateTemplate? _dates; // null for ISO dates
    private readonly byte[] _null;
    private readonly SearchValues<byte> _mustQuote;
    private byte[] _bytes = new byte[4096];
    private int _length;

    public DelimitedLine(DelimitedForm form)
    {
        _form = form;
        _encoding = form.Encoding == "utf-8" ? null : EncodingOf(form);
        _dates = form.Dates == DelimitedForm.Standard.Dates ? null : DateTemplate.Parse(form.Dates);
        _null = Encoding.UTF8.GetBytes(form.Null);
        _mustQuote = SearchValues.Create([(byte)form.Separator, (byte)form.Quote, (byte)'\r', (byte)'\n']);
    }

    /// <summary>The encoding that lines are written in; it refuses what it does not have.</summary>
    public static Encoding EncodingOf(DelimitedForm form) => form.Encoding switch
    {
        "utf-8" => new UTF8Encoding(false, true),
        "utf-16" => new UnicodeEncoding(false, true, true),
        _ => TextEncodings.ByName(form.Encoding)
    };

    /// <summary>The line that was written last, with its end.</summary>
    public ReadOnlySpan<byte> Bytes => _bytes.AsSpan(0, _length);

    /// <summary>Writes the names of columns.</summary>
    public void Head(IReadOnlyList<ColumnShape> columns)
    {
        _length = 0;
        for (int i = 0; i < columns.Count; i++)
        {
            if (i > 0) Put([(byte)_form.Separator]);
            int start = _length;
            Put(columns[i].Name);
            QuoteWhereNeeded(start);
        }
        Put("\r\n"u8);
        Encode();
    }

    /// <summary>Writes a row.</summary>
    /// <returns>Why it would not read back as it is; null when it was written.</returns>
    public RowReject? Write(TableOutput output, int row)
    {
        _length = 0;
        for (int i = 0; i < output.Vectors.Count; i++)
        {
            if (i > 0) Put([(byte)_form.Separator]);
            int start = _length;
            if (output.Vectors[i].IsNull(row)) Put(_null);
            else if (Field(output.Vectors[i], row)) QuoteWhereNeeded(start);
            else return Refused(output, row, output.Table.Columns[i].Name, FaultCode.NotADate,
                $"the template {_form.Dates} would not read back as the same day");
        }
        if (_length == 0)
            return Refused(output, row, output.Table.Columns[0].Name, FaultCode.MissingValue,
                "an empty line is not a record; give the store a text for missing values (null)");
        Put("\r\n"u8);
        try
        {
            Encode();
            return null;
        }
        catch (EncoderFallbackException)
        {
            return Refused(output, row, "a text", FaultCode.NotText, $"a character is not in {_form.Encoding}");
        }
    }

    private static RowReject Refused(TableOutput output, int row, string column, FaultCode code, string why) =>
        new(row, code, $"the new table {output.Table.Name} cannot hold {column} exactly: {why}");

    // False when a date cannot be written.
    private bool Field(Vector vector, int row)
    {
        Span<byte> room = Room(LongestNumber);
        switch (vector)
        {
            case BytesVector { Type.Kind: FieldKind.Text } texts: Put(texts[row]); break;
            case BytesVector { Type.Kind: FieldKind.Binary } binary:
                Convert.TryToHexString(binary[row], Room(2 * binary[row].Length), out int digits);
                _length += digits;
                break;
            case LongVector { Type.Kind: FieldKind.Integer } whole:
                whole.Values[row].TryFormat(room, out int written, default, CultureInfo.InvariantCulture);
                _length += written;
                break;
            case LongVector { Type.Kind: FieldKind.Date } dates when !Specials.Is(dates.Values[row]):
                if (_dates is null)
                {
                    ValueText.WriteDate(dates.Values[row], room);
                    _length += 10;
                    break;
                }
                if (_dates.Write(dates.Values[row]) is not { } date) return false;
                Put(date);
                break;
            case WideVector { Type.Kind: FieldKind.Decimal } wides:
                int length = DecimalText.Format(wides.Values[row], wides.Type.Scale, room);
                if (_form.DecimalMark != '.') room[..length].Replace((byte)'.', (byte)_form.DecimalMark);
                _length += length;
                break;
            case DoubleVector doubles:
                doubles.Values[row].TryFormat(room, out int characters, "R", CultureInfo.InvariantCulture);
                _length += characters;
                break;
            default: Put(vector.Show(row)); break;
        }
        return true;
    }

    // Quotes where the text would otherwise be cut, trimmed by careless readers, or taken for a missing value.
    private void QuoteWhereNeeded(int start)
    {
        ReadOnlySpan<byte> text = _bytes.AsSpan(start, _length - start);
        if (text.Length > 0 && text[0] != ' ' && text[^1] != ' ' && !text.SequenceEqual(_null) && text.IndexOfAny(_mustQuote) < 0) return;
        byte quote = (byte)_form.Quote;
        int more = 2 + text.Count(quote), end = _length;
        Room(more);
        _length += more;
        // From the end on, as each byte goes behind where it was.
        int to = _length - 1;
        _bytes[to--] = quote;
        for (int from = end - 1; from >= start; from--)
        {
            _bytes[to--] = _bytes[from];
            if (_bytes[from] == quote) _bytes[to--] = quote;
        }
        _bytes[to] = quote;
    }

    private void Encode()
    {
        if (_encoding is null) return;
        byte[] encoded = _encoding.GetBytes(Encoding.UTF8.GetString(Bytes));
        _length = 0;
        Put(encoded);
    }

    private void Put(string text)
    {
        Room(Encoding.UTF8.GetMaxByteCount(text.Length));
        _length += Encoding.UTF8.GetBytes(text, _bytes.AsSpan(_length));
    }

    private void Put(ReadOnlySpan<byte> bytes)
    {
        bytes.CopyTo(Room(bytes.Length));
        _length += bytes.Length;
    }

    // At least so many bytes behind what is there.
    private Span<byte> Room(int bytes)
    {
        if (_bytes.Length - _length < bytes) Array.Resize(ref _bytes,
            (int)Math.Min(Array.MaxLength, Math.Max(_length + (long)bytes, 2L * _bytes.Length)));
        return _bytes.AsSpan(_length);
    }
}
