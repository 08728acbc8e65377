// IRecordReader.cs: reads one table of a store, batch by batch.
namespace Transferra.Core.Records;

/// <summary>Records of one table, in order.</summary>
public interface IRecordReader : IDisposable
{
    /// <summary>Appends rows until the batch is full or the table ends.</summary>
    /// <returns>False when the table has ended.</returns>
    bool Fill(RecordBatch batch);
}
