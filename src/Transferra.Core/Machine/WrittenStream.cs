// WrittenStream.cs: what all streams have in common that are only written to.
namespace Transferra.Core.Machine;

/// <summary>A stream that takes what is written and gives nothing back.</summary>
public abstract class WrittenStream : Stream
{
    private long _length;

    /// <summary>Takes some bytes.</summary>
    /// <param name="bytes">The bytes.</param>
    /// <param name="position">How many came before.</param>
    protected abstract void Take(ReadOnlySpan<byte> bytes, long position);

    /// <inheritdoc/>
    public override bool CanRead => false;

    /// <inheritdoc/>
    public override bool CanSeek => false;

    /// <inheritdoc/>
    public override bool CanWrite => true;

    /// <inheritdoc/>
    public override long Length => _length;

    /// <inheritdoc/>
    public override long Position { get => _length; set => throw new NotSupportedException(); }

    /// <inheritdoc/>
    public override void Write(byte[] buffer, int offset, int count) => Write(buffer.AsSpan(offset, count));

    /// <inheritdoc/>
    public override void Write(ReadOnlySpan<byte> buffer)
    {
        Take(buffer, _length);
        _length += buffer.Length;
    }

    /// <inheritdoc/>
    public override void Flush() { }

    /// <inheritdoc/>
    public override int Read(byte[] buffer, int offset, int count) => throw new NotSupportedException();

    /// <inheritdoc/>
    public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();

    /// <inheritdoc/>
    public override void SetLength(long value) => throw new NotSupportedException();
}
