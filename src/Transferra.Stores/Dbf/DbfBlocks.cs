// DbfBlocks.cs: the records of a table as they lie in its file, some hundred at a time.
// Why blocks: a call for each record costs more than reading it, and whoever looks at one field of many records needs no copy of them.
// Holds: (1) every record comes once, in the file's order; (2) nothing is read beyond the last of them.
namespace Transferra.Stores.Dbf;

/// <summary>Reads the records of one table, the first <paramref name="records"/> of them.</summary>
/// <param name="file">The file; disposed with this.</param>
/// <param name="header">Its header.</param>
/// <param name="records">How many to read.</param>
internal sealed class DbfBlocks(FileStream file, DbfHeader header, long records) : IDisposable
{
    private const int BlockBytes = 1 << 17;

    private readonly byte[] _block =
        new byte[(int)Math.Clamp(BlockBytes / header.RecordBytes, 1, Math.Max(records, 1)) * header.RecordBytes];

    /// <summary>Records before the block.</summary>
    public long First { get; private set; }

    /// <summary>Records of the block.</summary>
    public int Count { get; private set; }

    /// <summary>All bytes of the block.</summary>
    public ReadOnlySpan<byte> Bytes => _block.AsSpan(0, Count * header.RecordBytes);

    /// <summary>One record of the block, from its mark on.</summary>
    public ReadOnlySpan<byte> this[int record] => _block.AsSpan(record * header.RecordBytes, header.RecordBytes);

    /// <summary>Reads the next block.</summary>
    /// <returns>False when there is none.</returns>
    /// <exception cref="EndOfStreamException">The file is shorter than its header said.</exception>
    public bool Read()
    {
        First += Count;
        Count = (int)Math.Min(_block.Length / header.RecordBytes, records - First);
        if (Count <= 0) return false;
        if (First == 0) file.Position = header.HeaderBytes;
        file.ReadExactly(_block, 0, Count * header.RecordBytes);
        return true;
    }

    /// <inheritdoc/>
    public void Dispose() => file.Dispose();
}
