// ReadToDamage.cs: reads a damaged table up to where the engine gives up, for engines that have no better way.
using Transferra.Core.Machine;

namespace Transferra.Core.Records;

/// <summary>What is lost of a damaged store.</summary>
/// <param name="Table">The table.</param>
/// <param name="Where">Page, offset or range of records, in words.</param>
/// <param name="Why">The engine's words.</param>
public sealed record LostPart(string Table, string Where, string Why);

/// <summary>Reads until the first complaint, and tells what is lost behind it.</summary>
/// <param name="open">Opens the reader; may complain itself.</param>
/// <param name="table">The table's name.</param>
/// <param name="lost">Receives what is lost.</param>
public sealed class ReadToDamage(Func<IRecordReader> open, string table, ICollection<LostPart> lost) : IRecordReader
{
    private IRecordReader? _reader;
    private long _rows;
    private bool _ended;

    /// <inheritdoc/>
    public bool Fill(RecordBatch batch)
    {
        if (_ended) return false;
        int before = batch.RowCount;
        try
        {
            _reader ??= open();
            bool more = _reader.Fill(batch);
            _rows += batch.RowCount - before;
            return more;
        }
        catch (TransferraException error)
        {
            _ended = true;
            // A record that was read in part is none.
            int whole = batch.Vectors.Min(vector => vector.Count);
            batch.Truncate(whole);
            _rows += whole - before;
            lost.Add(new LostPart(table, FormattableString.Invariant($"everything after record {_rows}"), error.Message));
            return false;
        }
    }

    /// <inheritdoc/>
    public void Dispose() => _reader?.Dispose();
}
