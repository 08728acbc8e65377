// CountedBytes.cs: a stream that keeps nothing of what is written to it but how much it was.
namespace Transferra.Core.Machine;

/// <summary>Counts what is written to it.</summary>
internal sealed class CountedBytes : WrittenStream
{
    /// <inheritdoc/>
    protected override void Take(ReadOnlySpan<byte> bytes, long position) { }
}
