// EngineCheck.cs: the engine's own check of a store, beside the reading of its records where it can be opened twice.
// Why beside: it looks at every page and index on one core, which takes about as long as all our rules on both.
// Holds: (1) Complaints returns only what the engine said to the end; (2) when Dispose returns, nothing of it is under way.
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>The engine's check of one store; begins at once.</summary>
internal sealed class EngineCheck : IDisposable
{
    private readonly IStore? _again;
    private readonly CancellationTokenSource _stop;
    private readonly Task<IReadOnlyList<string>> _complaints;

    /// <summary>Begins it; where the store cannot be opened twice, it is over when this returns.</summary>
    /// <param name="store">The store.</param>
    /// <param name="cancel">Interrupts it, where the engine lets itself be interrupted.</param>
    public EngineCheck(IStore store, CancellationToken cancel)
    {
        _stop = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        _again = store.Again();
        _complaints = _again is null ? Task.FromResult(store.CheckPhysicallyUntil(cancel))
            : Task.Factory.StartNew(() => _again.CheckPhysicallyUntil(_stop.Token), CancellationToken.None, TaskCreationOptions.LongRunning,
                TaskScheduler.Default);
    }

    /// <summary>Whether it is over.</summary>
    public bool IsOver => _complaints.IsCompleted;

    /// <summary>What the engine complains about, when it is over; waits for that.</summary>
    public IReadOnlyList<string> Complaints() => _complaints.GetAwaiter().GetResult();

    /// <inheritdoc/>
    public void Dispose()
    {
        _stop.Cancel();
        ((IAsyncResult)_complaints).AsyncWaitHandle.WaitOne(); // what became of it was told by Complaints, or nobody asked any more
        _again?.Dispose();
        _stop.Dispose();
    }
}
