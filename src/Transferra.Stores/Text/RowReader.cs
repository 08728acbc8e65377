// RowReader.cs: fills batches row by row, for readers that get their records one at a time.
// Holds: (1) a batch exceeds its cap of bytes by at most 63 rows, and a wide first row travels alone; (2) after the end it stays ended.
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Stores.Text;

internal abstract class RowReader : IRecordReader
{
    // Asking every row how many bytes there are would cost more than reading it.
    private const int RowsPerByteCheck = 64;

    private bool _ended;

    /// <summary>Whether the last record was read.</summary>
    protected bool HasEnded => _ended;

    public bool Fill(RecordBatch batch)
    {
        if (_ended) return false;
        try
        {
            int rows = batch.RowCount;
            while (rows < batch.Limits.MaxRows)
            {
                if (!Next())
                {
                    _ended = true;
                    return false;
                }
                ReadRow(batch, rows++);
                if (batch.IsHeavy || (rows % RowsPerByteCheck == 0 && batch.IsFull)) break;
            }
            return true;
        }
        catch (Exception error) when (Stopped(error) is { } told)
        {
            throw told;
        }
    }

    /// <summary>Goes to the next record.</summary>
    protected abstract bool Next();

    /// <summary>Appends a value, or nothing, to each vector of the batch; what cannot be read becomes a fault of this row.</summary>
    protected abstract void ReadRow(RecordBatch batch, int row);

    /// <summary>What to tell of an error that ends the reading; null for one that is not this reader's to explain.</summary>
    protected virtual TransferraException? Stopped(Exception error) => null;

    public abstract void Dispose();
}
