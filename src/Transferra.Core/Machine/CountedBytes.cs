// CountedBytes.cs: a stream that keeps nothing of what is written to it but how much it was.
namespace Transferra.Core.Machine;

/// <summary>Counts what is written to it.</summary>
internal sealed class CountedBytes : Stream
{
    private long _length;

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
    public override void Write(byte[] buffer, int offset, int count) => _length += count;

    /// <inheritdoc/>
    public override void Write(ReadOnlySpan<byte> buffer) => _length += buffer.Length;

    /// <inheritdoc/>
    public override void Flush() { }

    /// <inheritdoc/>
    public override int Read(byte[] buffer, int offset, int count) => throw new NotSupportedException();

    /// <inheritdoc/>
    public override long Seek(long offset, SeekOrigin origin) => throw new NotSupportedException();

    /// <inheritdoc/>
    public override void SetLength(long value) => throw new NotSupportedException();
}
