// MarkedReading.cs: whether anybody wrote to a store while all of it was read, and whether a later look at its mark would tell it.
// Why not by the machine's clock: the volume may have another one. What counts is that time has gone by between the mark and the end of the
// reading, so that whoever writes after it does so in another tick of the volume's clock. On a volume of another machine nothing can be
// said: what is known of its files there may be some seconds old.
// Holds: (1) a store that was written to after its mark was taken has no undisturbed reading, or another mark afterwards; (2) nor is it
// known again by an earlier mark.
using System.Diagnostics;
using Transferra.Core.Records;

namespace Transferra.Core.Office;

/// <summary>A reading of a store that begins now.</summary>
/// <param name="store">The store.</param>
/// <param name="stores">For those on servers; null where it is on none.</param>
public sealed class MarkedReading(StoreAddress store, IStoreOpener? stores)
{
    private readonly StoreMark? _mark = StoreMark.Of(store, stores);
    private readonly long _began = Stopwatch.GetTimestamp();
    private readonly DateTimeOffset _beganAt = DateTimeOffset.UtcNow;

    /// <summary>Whether the last change before this reading lies so far back that one while it went on must have another time. On a volume
    /// of this machine, which the machine's own clock tells.</summary>
    public bool WasSettled => _mark is { IsLocal: true } && _mark.SettledAt < _beganAt;

    /// <summary>The reading has ended.</summary>
    /// <returns>The store's mark, which any later change alters; null where that cannot be said.</returns>
    public StoreMark? Undisturbed() => _mark is { IsLocal: true } && Stopwatch.GetElapsedTime(_began) > _mark.Tick
        && StoreMark.Of(store, stores)?.Text == _mark.Text ? _mark : null;

    /// <summary>Whether the store is as it was when it had a mark, from the beginning of this reading until now.</summary>
    /// <param name="mark">That of an undisturbed reading.</param>
    public bool IsStill(string mark) => _mark?.Text == mark && StoreMark.Of(store, stores)?.Text == mark;
}
