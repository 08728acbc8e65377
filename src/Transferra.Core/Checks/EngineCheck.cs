// EngineCheck.cs: the engine's own check of a store, beside the reading of its records where it can be opened twice.
// Why beside: it looks at every page and index on one core, which takes about as long as all our rules on both.
// Holds: (1) Complaints returns only what the engine said to the end; (2) when Dispose returns, nothing of it is under way.
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>The engine's check of one store.</summary>
internal sealed class EngineCheck : IDisposable
{
    private readonly IStore? _again;
    private readonly CancellationTokenSource _stop;
    private readonly Task<IReadOnlyList<string>> _complaints;

    private EngineCheck(IStore? again, CancellationTokenSource stop, Task<IReadOnlyList<string>> complaints) =>
        (_again, _stop, _complaints) = (again, stop, complaints);

    /// <summary>Begins it; where the store cannot be opened twice, it is over when this returns.</summary>
    /// <param name="store">The store.</param>
    /// <param name="cancel">Interrupts it, where the engine lets itself be interrupted.</param>
    public static EngineCheck Begin(IStore store, CancellationToken cancel)
    {
        var stop = CancellationTokenSource.CreateLinkedTokenSource(cancel);
        IStore? again = store.Again();
        return new EngineCheck(again, stop, again is null ? Task.FromResult(store.CheckPhysicallyUntil(cancel))
            : Task.Factory.StartNew(() => again.CheckPhysicallyUntil(stop.Token), CancellationToken.None, TaskCreationOptions.LongRunning,
                TaskScheduler.Default));
    }

    /// <summary>One that need not be made, as the engine has looked through these very bytes already, and found nothing.</summary>
    public static EngineCheck Spared() => new(null, new CancellationTokenSource(), Task.FromResult<IReadOnlyList<string>>([]));

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
