// KnownBaselines.cs: the baselines that this process has taken of stores while it read them for something else, each for as long as the
// store's mark tells that nobody wrote to it.
// Why: a check reads every record, and the backup that comes next would read them all again.
// Holds: (1) of a store that was written to after its baselines were taken, or while they were, none is known.
using System.Collections.Concurrent;
using Transferra.Core.Matching;
using Transferra.Core.Records;

namespace Transferra.Core.Office;

/// <summary>Baselines by store. Thread-safe.</summary>
/// <param name="stores">For the stores' marks.</param>
internal sealed class KnownBaselines(IStoreOpener stores)
{
    private readonly ConcurrentDictionary<string, (string Mark, Dictionary<string, TakenBaseline> Tables)> _known =
        new(StringComparer.Ordinal);

    /// <summary>A reading of a store that begins now.</summary>
    public Taking Begin(StoreAddress store) => new(this, store);

    /// <summary>What is known of a store's tables now: null for a table of which nothing is.</summary>
    public Func<TableShape, TableBaseline?> Of(StoreAddress store) =>
        _known.TryGetValue(store.Shown, out (string Mark, Dictionary<string, TakenBaseline> Tables) known)
            && StoreMark.Of(store, stores)?.Text == known.Mark
            ? table => known.Tables.GetValueOrDefault(table.Name) is { } taken && taken.IsOf(table) ? taken.Baseline : null : _ => null;

    /// <summary>A reading in which baselines are taken.</summary>
    internal sealed class Taking(KnownBaselines all, StoreAddress store)
    {
        private readonly MarkedReading _reading = new(store, all.Stores);
        private readonly StoreMark? _before = store.IsOnServer ? StoreMark.Of(store, all.Stores) : null;

        /// <summary>It has ended; what it came to is known from now on, if nobody wrote to the store meanwhile.</summary>
        public void Keep(IReadOnlyList<TakenBaseline> tables)
        {
            if (tables.Count > 0 && Undisturbed() is { } mark) all._known[store.Shown] = (mark.Text,
                tables.ToDictionary(taken => taken.Table.Name, StringComparer.Ordinal));
            else all._known.TryRemove(store.Shown, out _);
        }

        // A server counts its changes, so that no clock is needed.
        private StoreMark? Undisturbed() => !store.IsOnServer ? _reading.WasSettled ? _reading.Undisturbed() : null
            : _before is not null && StoreMark.Of(store, all.Stores)?.Text == _before.Text ? _before : null;
    }

    private IStoreOpener Stores => stores;
}
