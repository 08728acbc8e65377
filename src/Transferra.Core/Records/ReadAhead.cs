// ReadAhead.cs: reads a table in one thread while another works on what was read, so that both cores are used.
// Holds: (1) every row is delivered once, in the reader's order, with its faults; (2) memory is bounded by a few batches; (3) when Dispose
// returns, the reading thread has ended, so that the store may be used or closed.
using System.Collections.Concurrent;

namespace Transferra.Core.Records;

/// <summary>Delivers batches that were read ahead.</summary>
internal sealed class ReadAhead : IDisposable
{
    private const int Batches = 3;

    private readonly BlockingCollection<RecordBatch> _free = [], _full = [];
    private readonly CancellationTokenSource _stop;
    private readonly Task _reading;

    /// <summary>Begins to read.</summary>
    /// <param name="fill">Fills an empty batch; returns false when the table has ended, possibly with last rows. Called in another
    /// thread.</param>
    /// <param name="columns">The batch's columns.</param>
    /// <param name="limits">Batch size; null for the usual.</param>
    /// <param name="cancel">Stops between two batches.</param>
    public ReadAhead(Func<RecordBatch, bool> fill, IReadOnlyList<ColumnShape> columns, BatchLimits? limits, CancellationToken cancel)
    {
        for (int i = 0; i < Batches; i++) _free.Add(new RecordBatch(columns, limits), CancellationToken.None);
        _stop = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        _reading = Task.Factory.StartNew(() => Read(fill, _stop.Token), CancellationToken.None, TaskCreationOptions.LongRunning,
            TaskScheduler.Default);
    }

    private void Read(Func<RecordBatch, bool> fill, CancellationToken stop)
    {
        try
        {
            for (bool more = true; more;)
            {
                RecordBatch batch = _free.Take(stop);
                batch.Reset();
                more = fill(batch);
                if (batch.RowCount > 0) _full.Add(batch, stop);
            }
        }
        finally
        {
            _full.CompleteAdding(); // also after an error, so that nobody waits for ever; the error is told by Next
        }
    }

    /// <summary>Puts the next rows into a batch of the same columns, in place of what it has.</summary>
    /// <returns>False when there are none left.</returns>
    public bool Next(RecordBatch into)
    {
        if (!_full.TryTake(out RecordBatch? batch, Timeout.Infinite, _stop.Token))
        {
            _reading.GetAwaiter().GetResult();
            return false;
        }
        into.TakeFrom(batch);
        _free.Add(batch, CancellationToken.None);
        return true;
    }

    /// <summary>Stops reading and waits for it.</summary>
    public void Dispose()
    {
        _stop.Cancel();
        try { _reading.Wait(CancellationToken.None); }
        catch (AggregateException) { /* told by Next, unless nobody asked for more */ }
        _stop.Dispose();
        _free.Dispose();
        _full.Dispose();
    }
}
