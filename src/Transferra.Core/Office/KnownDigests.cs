// KnownDigests.cs: the digests of stores that this process has taken, each for as long as the store's mark tells that nobody wrote to it.
// Why: a digest reads all of a store, and between two stages of a run its mark says the same at once. It is not taken over where a
// store's digest is the proof itself, but where a later look at all of its bytes follows.
// Holds: (1) a store that was written to after its digest was taken, or while it was, has no known digest; (2) nor has one on a server or
// on a volume of another machine.
using System.Collections.Concurrent;
using Transferra.Core.Records;

namespace Transferra.Core.Office;

/// <summary>Digests by mark. Thread-safe.</summary>
/// <param name="stores">For the stores' marks.</param>
internal sealed class KnownDigests(IStoreOpener stores)
{
    private readonly ConcurrentDictionary<string, (string Mark, string Digest)> _known = new(StringComparer.Ordinal);

    /// <summary>Takes a digest and keeps it.</summary>
    /// <param name="store">Of which store.</param>
    /// <param name="take">Reads all of it.</param>
    /// <returns>What <paramref name="take"/> gave.</returns>
    public string Taken(StoreAddress store, Func<string> take)
    {
        if (store.IsOnServer) return take();
        var reading = new MarkedReading(store, stores);
        string digest = take();
        if (reading.Undisturbed() is { } mark) _known[store.Path] = (mark.Text, digest);
        else _known.TryRemove(store.Path, out _);
        return digest;
    }

    /// <summary>The digest of a store as it was taken, where nobody wrote to it since; otherwise it is taken now.</summary>
    /// <param name="store">Of which store.</param>
    /// <param name="take">Reads all of it.</param>
    public string KnownOrTaken(StoreAddress store, Func<string> take) =>
        _known.TryGetValue(store.Path, out (string Mark, string Digest) known)
            && StoreMark.Of(store, stores)?.Text == known.Mark ? known.Digest : Taken(store, take);
}
