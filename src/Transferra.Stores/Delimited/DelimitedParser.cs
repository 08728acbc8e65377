// DelimitedParser.cs: splits delimited text into records and fields (RFC 4180 with any separator and quote), keeping line numbers.
// Holds: (1) every byte belongs to exactly one field, separator or line end; (2) a record never exceeds MaxRecordBytes: a quote that
// is never closed is a fault of the record that opened it, and reading goes on at the next line, so that nothing is swallowed silently;
// (3) memory is one buffer and one record, whatever the file's size.
// Why two ways of reading: nearly all records have no quote and are in the buffer as a whole; their fields are found 32 bytes at a time and
// stay where they are. All others are read field by field.
using System.Buffers;
using System.Numerics;
using System.Runtime.CompilerServices;
using System.Runtime.InteropServices;
using System.Runtime.Intrinsics;
using System.Text;

namespace Transferra.Stores.Delimited;

/// <summary>Reads records of one file; fields in UTF-8, or in the form's code page.</summary>
internal sealed class DelimitedParser : IDisposable
{
    /// <summary>Most bytes of one record; a longer one is an unclosed quote in all likelihood.</summary>
    public const int DefaultMaxRecordBytes = 64 << 20;

    private readonly Stream _text;
    private readonly byte _separator, _quote;
    private readonly SearchValues<byte> _special;
    private readonly int _maxRecordBytes;
    private byte[] _buffer = new byte[1 << 16];
    private int _start, _end;
    private bool _ended;
    private byte[] _values = new byte[4096];
    private int _valueBytes;
    private Part[] _fields = new Part[32];
    private int _fieldCount, _recordAt;
    private bool _inBuffer;

    /// <summary>A field: where it ends among the values; or, of a record that is read where it lies, where in the buffer it lies.</summary>
    private readonly record struct Part(int From, int End, bool Quoted);

    /// <param name="file">The file from its first byte on; disposed with this.</param>
    /// <param name="form">How it is written.</param>
    /// <param name="maxRecordBytes">Most bytes of one record.</param>
    public DelimitedParser(Stream file, DelimitedForm form, int maxRecordBytes = DefaultMaxRecordBytes)
    {
        Encoding encoding = SkipMark(file, form.TextEncoding);
        // One-byte code pages keep separators and quotes where ASCII has them, so their fields are decoded one by one, with their faults.
        IsWide = encoding is UnicodeEncoding;
        _text = IsWide ? Encoding.CreateTranscodingStream(file, encoding, new UTF8Encoding(false)) : file;
        (_separator, _quote, _maxRecordBytes) = ((byte)form.Separator, (byte)form.Quote, maxRecordBytes);
        _special = SearchValues.Create([_separator, _quote, (byte)'\n', (byte)'\r']);
    }

    /// <summary>Whether the file is in UTF-16; a field then has the character U+FFFD where its bytes are no text.</summary>
    public bool IsWide { get; }

    /// <summary>Line that the record begins in, from 1.</summary>
    public long Line { get; private set; }

    private long _nextLine = 1;

    /// <summary>Fields of the record.</summary>
    public int FieldCount => _fieldCount;

    /// <summary>What is wrong with the record as a whole; "" when nothing is.</summary>
    public string Fault { get; private set; } = "";

    /// <summary>A field's bytes, unquoted; valid until the next record.</summary>
    [MethodImpl(MethodImplOptions.AggressiveInlining)]
    public ReadOnlySpan<byte> Field(int index)
    {
        ArgumentOutOfRangeException.ThrowIfGreaterThanOrEqual(index, _fieldCount);
        ref readonly Part part = ref _fields[index];
        return _inBuffer ? _buffer.AsSpan(_recordAt + part.From, part.End - part.From) : _values.AsSpan(part.From, part.End - part.From);
    }

    /// <summary>Whether the field stood in quotes.</summary>
    public bool IsQuoted(int index) => _fields[index].Quoted;

    private static Encoding SkipMark(Stream file, Encoding otherwise)
    {
        Span<byte> mark = stackalloc byte[3];
        int read = file.ReadAtLeast(mark, 3, throwOnEndOfStream: false);
        (Encoding encoding, int length) = mark[..read] switch
        {
            [0xEF, 0xBB, 0xBF] => (new UTF8Encoding(false), 3),
            [0xFF, 0xFE, ..] => (new UnicodeEncoding(false, true), 2),
            [0xFE, 0xFF, ..] => (new UnicodeEncoding(true, true), 2),
            _ => (otherwise, 0),
        };
        file.Position = length;
        return encoding;
    }

    /// <summary>Goes to the next record; empty lines are passed over.</summary>
    /// <returns>False when the file has ended.</returns>
    public bool Next()
    {
        while (true)
        {
            Line = _nextLine;
            (_fieldCount, _valueBytes) = (0, 0);
            Fault = "";
            if (!Ensure(0)) return false;
            _inBuffer = ReadPlain();
            if (!_inBuffer) ReadRecord();
            if (_fieldCount > 1 || Fault.Length > 0 || _fields[0].Quoted || _fields[0].End > 0) return true;
        }
    }

    // A record without quotes that is in the buffer with its line end; false, with nothing read, of any other.
    private bool ReadPlain()
    {
        ReadOnlySpan<byte> there = _buffer.AsSpan(_start, _end - _start);
        Vector256<byte> separators = Vector256.Create(_separator), quotes = Vector256.Create(_quote), feeds = Vector256.Create((byte)'\n'),
            returns = Vector256.Create((byte)'\r');
        int from = 0;
        for (int block = 0; block <= there.Length - Vector256<byte>.Count; block += Vector256<byte>.Count)
        {
            Vector256<byte> bytes = Vector256.LoadUnsafe(ref MemoryMarshal.GetReference(there), (nuint)block);
            uint marks = (Vector256.Equals(bytes, separators) | Vector256.Equals(bytes, quotes) | Vector256.Equals(bytes, feeds)
                | Vector256.Equals(bytes, returns)).ExtractMostSignificantBits();
            for (; marks != 0; marks &= marks - 1)
            {
                int at = block + BitOperations.TrailingZeroCount(marks);
                byte mark = there[at];
                // A carriage return at the end of what is there may have its line feed behind it.
                if (mark == _quote || (mark == '\r' && at + 1 == there.Length)) return Nothing();
                AddField(new Part(from, at, false));
                from = at + 1;
                if (mark == _separator) continue;
                if (mark == '\r' && there[at + 1] == '\n') from++;
                _nextLine++;
                _recordAt = _start;
                Consume(from);
                return true;
            }
        }
        return Nothing();

        bool Nothing()
        {
            _fieldCount = 0;
            return false;
        }
    }

    private void AddField(Part field)
    {
        if (_fieldCount == _fields.Length) Array.Resize(ref _fields, _fields.Length * 2);
        _fields[_fieldCount++] = field;
    }

    private void ReadRecord()
    {
        int at = 0; // from _start
        while (true)
        {
            bool quoted = Ensure(at) && _buffer[_start + at] == _quote;
            if (quoted && !ReadQuoted(ref at))
            {
                Reopen();
                return;
            }
            while (true)
            {
                if (!Ensure(at))
                {
                    Close(quoted);
                    Consume(at);
                    return;
                }
                ReadOnlySpan<byte> there = _buffer.AsSpan(_start + at, _end - _start - at);
                int plain = there.IndexOfAny(_special);
                if (plain < 0) plain = there.Length;
                if (quoted && plain > 0 && Fault.Length == 0) Fault = "there is text after a closing quote";
                Add(there[..plain]);
                at += plain;
                if (plain == there.Length) continue;
                byte value = there[plain];
                if (value != _quote) break;
                if (Fault.Length == 0) Fault = quoted ? "there is text after a closing quote"
                    : "there is a quote inside a field that does not begin with one";
                Add([value]);
                at++;
            }
            Close(quoted);
            byte ending = _buffer[_start + at++];
            if (ending == _separator) continue;
            if (ending == '\r' && Ensure(at) && _buffer[_start + at] == '\n') at++;
            _nextLine++;
            Consume(at);
            return;
        }
    }

    // Behind the opening quote up to and with the closing one; false when the file or the room ends first.
    private bool ReadQuoted(ref int at)
    {
        at++;
        while (true)
        {
            if (at > _maxRecordBytes || !Ensure(at)) return false;
            ReadOnlySpan<byte> there = _buffer.AsSpan(_start + at, _end - _start - at);
            int plain = there.IndexOfAny(_quote, (byte)'\n');
            if (plain < 0) plain = there.Length;
            Add(there[..plain]);
            at += plain;
            if (plain == there.Length) continue;
            byte value = there[plain];
            at++;
            if (value == _quote)
            {
                if (!Ensure(at) || _buffer[_start + at] != _quote) return true;
                at++;
            }
            else _nextLine++;
            Add([value]);
        }
    }

    // A quote that is never closed: the record is the rest of its first line, as found, and the lines below it are records of their own.
    private void Reopen()
    {
        Fault = "a quote is opened in this line and never closed";
        _nextLine = Line + 1;
        (_fieldCount, _valueBytes) = (0, 0);
        int at = 0;
        for (; Ensure(at) && _buffer[_start + at] != '\n'; at++) Add([_buffer[_start + at]]);
        Close(quoted: true);
        Consume(Ensure(at) ? at + 1 : at);
    }

    private void Add(ReadOnlySpan<byte> values)
    {
        if (_values.Length - _valueBytes < values.Length) Array.Resize(ref _values,
            Math.Max(_values.Length * 2, _valueBytes + values.Length));
        values.CopyTo(_values.AsSpan(_valueBytes));
        _valueBytes += values.Length;
    }

    private void Close(bool quoted) => AddField(new Part(_fieldCount == 0 ? 0 : _fields[_fieldCount - 1].End, _valueBytes, quoted));

    private void Consume(int bytes) => _start += bytes;

    // Whether there is a byte at an offset from _start; reads on when it is not in the buffer yet.
    private bool Ensure(int at)
    {
        while (_start + at >= _end)
        {
            if (_ended) return false;
            if (_start > 0)
            {
                _buffer.AsSpan(_start, _end - _start).CopyTo(_buffer);
                (_start, _end) = (0, _end - _start);
            }
            if (_end == _buffer.Length) Array.Resize(ref _buffer, _buffer.Length * 2);
            int read = _text.Read(_buffer, _end, _buffer.Length - _end);
            _ended = read == 0;
            _end += read;
        }
        return true;
    }

    public void Dispose() => _text.Dispose();
}
