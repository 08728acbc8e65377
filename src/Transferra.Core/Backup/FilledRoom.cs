// FilledRoom.cs: room that was left in a set, as a stream, with the digest of what goes there: the manifest of 100,000 documents has 70 MB,
// which nobody needs in memory at once.
using System.Security.Cryptography;
using Transferra.Core.Machine;

namespace Transferra.Core.Backup;

/// <summary>Fills room that was left.</summary>
/// <param name="sink">The set.</param>
/// <param name="at">Where the room is.</param>
/// <param name="room">How much there is; what goes beyond is refused.</param>
internal sealed class FilledRoom(ISetSink sink, long at, long room) : WrittenStream
{
    private readonly IncrementalHash _hash = IncrementalHash.CreateHash(HashAlgorithmName.SHA256);

    /// <summary>SHA-256 of what was filled in: 64 lower-case hexadecimal digits.</summary>
    public string Digest() => Convert.ToHexStringLower(_hash.GetCurrentHash());

    /// <inheritdoc/>
    protected override void Take(ReadOnlySpan<byte> bytes, long position)
    {
        if (position + bytes.Length > room) throw new NotSupportedException("the room is too small");
        sink.Fill(at + position, bytes);
        _hash.AppendData(bytes);
    }

    /// <inheritdoc/>
    protected override void Dispose(bool disposing)
    {
        _hash.Dispose();
        base.Dispose(disposing);
    }
}
