// LineReader.cs: lines of a file as bytes, with their numbers; empty ones are passed over.
// Holds: (1) memory is bounded by the longest line; (2) a byte order mark and a carriage return before the line feed belong to no line.
using Transferra.Core.Machine;

namespace Transferra.Stores.JsonLines;

internal sealed class LineReader(string path) : IDisposable
{
    private readonly FileStream _file = PlainFile.Open(path, 0);
    private byte[] _buffer = new byte[1 << 16];
    private int _start, _end, _lineStart, _lineEnd;
    private bool _atEnd, _begun;

    /// <summary>The present line without its end; valid until the next call of Next.</summary>
    public ReadOnlySpan<byte> Line => _buffer.AsSpan(_lineStart, _lineEnd - _lineStart);

    /// <summary>Its number, from 1.</summary>
    public long Number { get; private set; }

    /// <summary>Goes to the next line that is not empty.</summary>
    /// <returns>False at the end of the file.</returns>
    public bool Next()
    {
        while (true)
        {
            int at = _buffer.AsSpan(_start, _end - _start).IndexOf((byte)'\n');
            if (at < 0 && !_atEnd)
            {
                Refill();
                continue;
            }
            if (at < 0 && _start == _end) return false;
            (_lineStart, _lineEnd) = (_start, at < 0 ? _end : _start + at);
            _start = at < 0 ? _end : _lineEnd + 1;
            Number++;
            if (_lineEnd > _lineStart && _buffer[_lineEnd - 1] == '\r') _lineEnd--;
            if (Line.IndexOfAnyExcept((byte)' ', (byte)'\t') >= 0) return true;
        }
    }

    private void Refill()
    {
        _buffer.AsSpan(_start, _end - _start).CopyTo(_buffer);
        (_start, _end) = (0, _end - _start);
        if (_end == _buffer.Length) Array.Resize(ref _buffer, (int)Math.Min(Array.MaxLength, 2L * _buffer.Length));
        int read = _file.Read(_buffer, _end, _buffer.Length - _end);
        _end += read;
        if (read == 0) _atEnd = true;
        if (_begun || _end < 3 && !_atEnd) return;
        _begun = true;
        if (_buffer.AsSpan(0, _end).StartsWith((ReadOnlySpan<byte>)[0xEF, 0xBB, 0xBF])) _start = 3;
    }

    public void Dispose() => _file.Dispose();
}
