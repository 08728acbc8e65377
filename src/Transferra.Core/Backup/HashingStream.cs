// HashingStream.cs: passes bytes on to another stream, counting them and digesting the first of them.
using System.Security.Cryptography;

namespace Transferra.Core.Backup;

/// <param name="inner">Where the bytes come from or go to; not disposed.</param>
/// <param name="hashed">How many bytes from the start are digested; all when left out.</param>
internal sealed class HashingStream(Stream inner, long hashed = long.MaxValue) : Stream
{
    private readonly IncrementalHash _hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);

    public long Count { get; private set; }

    public string Digest() => Convert.ToHexStringLower(_hash.GetCurrentHash());

    public override bool CanRead => inner.CanRead;
    public override bool CanSeek => false;
    public override bool CanWrite => inner.CanWrite;
    public override long Length => throw new NotSupportedException();
    public override long Position { get => Count; set => throw new NotSupportedException(); }

    public override int Read(byte[] buffer, int offset, int count) => Read(buffer.AsSpan(offset, count));

    public override int Read(Span<byte> buffer)
    {
        int read = inner.Read(buffer);
        Take(buffer[..read]);
        return read;
    }

    public override void Write(byte[] buffer, int offset, int count) => Write(buffer.AsSpan(offset, count));

    public override void Write(ReadOnlySpan<byte> buffer)
    {
        inner.Write(buffer);
        Take(buffer);
    }

    private void Take(ReadOnlySpan<byte> bytes)
    {
        if (Count < hashed) _hash.AppendData(bytes[..(int)Math.Min(bytes.Length, hashed - Count)]);
        Count += bytes.Length;
    }

    public override void Flush() => inner.Flush();
    public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();
    public override void SetLength(long value) => throw new NotSupportedException();

    protected override void Dispose(bool disposing)
    {
        if (disposing) _hash.Dispose();
        base.Dispose(disposing);
    }
}
