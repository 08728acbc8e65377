// StoreLocks.cs: keeps a second Transferra from the same office, and from the same stores whichever office it works for.
// Why beside each store: two descriptions of one office, or two machines, would otherwise each believe that they are alone.
using System.Diagnostics;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Office;

/// <summary>Locks of an office and its stores; released when disposed, or when the process ends in any way.</summary>
public sealed class StoreLocks : IDisposable
{
    // A server notices only some moments later that the process which held a lock was killed, so that the command given right after
    // it would be refused.
    private static readonly TimeSpan _servedPatience = TimeSpan.FromSeconds(5);

    private readonly List<IDisposable> _held = [];
    private readonly TimeSpan _patience;

    private StoreLocks(TimeSpan patience) => _patience = patience;

    /// <summary>Locks the stores of an office; the office itself is locked already.</summary>
    /// <param name="office">The office.</param>
    /// <param name="stores">Opens stores.</param>
    /// <param name="patience">How long to go on asking a server whose lock is still held; 5 seconds when null.</param>
    /// <exception cref="TransferraException">Another Transferra is at work on one of them.</exception>
    public static StoreLocks Take(OfficeDescription office, IStoreOpener stores, TimeSpan? patience = null)
    {
        var locks = new StoreLocks(patience ?? _servedPatience);
        try
        {
            var folders = new HashSet<string>(StringComparer.Ordinal);
            foreach ((Company company, StoreAddress store) in office.Companies.SelectMany(company =>
                ((StoreAddress?[])[company.OldStore, company.MovesTo]).OfType<StoreAddress>().Select(store => (company, store))))
            {
                if (store.IsOnServer) locks.TakeOnServer(company, store, stores);
                if (store.Folder.Length > 0 && Directory.Exists(store.Folder) && folders.Add(store.Folder)) locks.TakeFolder(company,
                    store);
            }
            return locks;
        }
        catch
        {
            locks.Dispose();
            throw;
        }
    }

    private void TakeFolder(Company company, StoreAddress store)
    {
        FolderLock? taken;
        try { taken = FolderLock.TryTake(store.Folder); }
        // A folder that this user may not even open holds nothing that this user could change; that it cannot be read is told where it is.
        catch (Exception error) when (error is IOException or UnauthorizedAccessException) { return; }
        _held.Add(taken ?? throw Busy(company, $"in the folder {store.Folder}"));
    }

    private void TakeOnServer(Company company, StoreAddress store, IStoreOpener stores)
    {
        IDisposable? taken;
        try
        {
            IStoreServer server = stores.ServerOf(store);
            var asked = Stopwatch.StartNew();
            while ((taken = server.TryLock(store.Path)) is null && asked.Elapsed < _patience) Thread.Sleep(100);
        }
        catch (TransferraException) { return; } // a server that does not answer is told of where something is asked of it
        _held.Add(taken ?? throw Busy(company, $"on {store.Shown}"));
    }

    private static TransferraException Busy(Company company, string where) =>
        new($"another transferra is at work {where}, where the store of {company.Code} is",
        "It may work for another office, or on another machine. Wait for it to end; see who it is with: ps aux | grep transferra");

    /// <inheritdoc/>
    public void Dispose()
    {
        foreach (IDisposable held in _held) held.Dispose();
        _held.Clear();
    }
}
