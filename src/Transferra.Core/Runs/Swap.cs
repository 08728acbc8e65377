// Swap.cs: the change-over: a chain of renames that puts the new in the old's place, and back.
// Holds: (1) nothing is overwritten or removed; (2) after any stop, Forward finishes and Back restores: both look at what is there
//        and do the rest; (3) names are on the disk when either returns.
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>One rename of a swap: of a file, a folder, or a database inside its server.</summary>
public sealed record Move(StoreAddress From, StoreAddress To);

/// <summary>Renames that belong together, in order: each one frees the name that a later one takes, or stands alone.</summary>
internal sealed class Swap(StorePlaces places, IReadOnlyList<Move> moves)
{
    /// <summary>The renames, in order.</summary>
    public IReadOnlyList<Move> Moves => moves;

    /// <summary>How many of the moves are done: those up to the last one whose From is gone and whose To is there.</summary>
    /// <exception cref="TransferraException">What is there fits no state of this swap.</exception>
    public int DoneMoves()
    {
        foreach (StoreAddress place in moves.SelectMany(move => (StoreAddress[])[move.From, move.To]).Where(place => place.IsOnServer)
            .DistinctBy(place => place.Shown)) places.Settle(place);
        foreach (Move move in moves.Where(move => !move.From.IsOnServer)) places.SettleBeside(move.From, move.To);
        // Looked at once: a name on a server is asked for over the network.
        Dictionary<string, bool> found = moves.SelectMany(move => (StoreAddress[])[move.From, move.To]).DistinctBy(place => place.Shown)
            .ToDictionary(place => place.Shown, places.Exists);
        // The state after n moves: of a name that several moves touch, the last of the first n decides whether it is there.
        for (int done = moves.Count; done >= 0; done--)
            if (Fits(done, found)) return done;
        throw new TransferraException("what is on the disk fits no step of the change-over: "
            + $"{string.Join("; ", moves.Select(move => $"{move.From.Shown} -> {move.To.Shown}"))}",
            "Somebody moved a file or renamed a database by hand. Put things back as the journal says, then try again.");
    }

    private bool Fits(int done, Dictionary<string, bool> found)
    {
        var there = new Dictionary<string, bool>();
        for (int i = 0; i < moves.Count; i++)
        {
            if (i < done)
            {
                there[moves[i].From.Shown] = false;
                there[moves[i].To.Shown] = true;
            }
            else
            {
                there.TryAdd(moves[i].From.Shown, true);
                there.TryAdd(moves[i].To.Shown, false);
            }
        }
        return there.All(entry => found[entry.Key] == entry.Value);
    }

    /// <summary>Does the moves that are not done yet.</summary>
    public void Forward()
    {
        for (int i = DoneMoves(); i < moves.Count; i++) places.Rename(moves[i].From, moves[i].To);
    }

    /// <summary>Takes back the moves that are done, last first.</summary>
    public void Back()
    {
        for (int i = DoneMoves() - 1; i >= 0; i--) places.Rename(moves[i].To, moves[i].From);
        ClearEmptyPlaces();
    }

    /// <summary>Removes places that a run made on a server for what was to come there, and that hold nothing, as a server that moves
    /// tables has them.</summary>
    public void ClearEmptyPlaces()
    {
        foreach (StoreAddress place in moves.Select(move => move.To))
            if (place.IsOnServer && place.Name.StartsWith(StoreAddress.RunPrefix, StringComparison.Ordinal)
                && !places.Exists(place)) places.Remove(place);
    }
}
