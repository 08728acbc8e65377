// DigestedPart.cs: a part of a set's file as a stream, with the digest of what was read of it: the manifest of 100,000 documents has 70 MB,
// which nobody needs in memory at once.
using System.Security.Cryptography;
using Transferra.Core.Machine;

namespace Transferra.Core.Backup;

/// <summary>Reads a file from its beginning.</summary>
/// <param name="file">The file; not disposed with this.</param>
/// <param name="hash">Takes what was read; not disposed with this.</param>
/// <param name="from">Where to begin.</param>
/// <param name="length">How many bytes.</param>
internal sealed class DigestedPart(ISetFile file, IncrementalHash hash, long from, long length) : GivenStream
{
    private long _read;

    /// <summary>Reads what nobody has read yet, for its digest.</summary>
    /// <returns>Whether all of it was there.</returns>
    public bool ReadRest()
    {
        Span<byte> some = stackalloc byte[4096];
        while (Read(some) > 0) { }
        return _read == length;
    }

    public override int Read(Span<byte> buffer)
    {
        buffer = buffer[..(int)Math.Min(buffer.Length, length - _read)];
        int read = buffer.Length == 0 ? 0 : file.ReadAt(from + _read, buffer);
        hash.AppendData(buffer[..read]);
        _read += read;
        return read;
    }

    public override long Length => length;

    public override long Position { get => _read; set => throw new NotSupportedException(); }
}
