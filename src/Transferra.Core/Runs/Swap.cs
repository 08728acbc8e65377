// Swap.cs: the change-over: a chain of renames that puts the new in the old's place, and back.
// Holds: (1) nothing is overwritten or removed; (2) after any stop, Forward finishes and Back restores: both look at what is there
//        and do the rest; (3) names are on the disk when either returns.
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>One rename of a swap.</summary>
public sealed record Move(string From, string To);

/// <summary>Renames that belong together, in order: each one frees the name that a later one takes, or stands alone.</summary>
public sealed class Swap(IVolume volume, IReadOnlyList<Move> moves)
{
    /// <summary>How many of the moves are done: those up to the last one whose From is gone and whose To is there.</summary>
    /// <exception cref="TransferraException">What is there fits no state of this swap.</exception>
    public int DoneMoves()
    {
        // The state after n moves: of a name that several moves touch, the last of the first n decides whether it is there.
        for (int done = moves.Count; done >= 0; done--)
            if (Fits(done)) return done;
        throw new TransferraException($"what is on the disk fits no step of the change-over: {string.Join("; ", moves.Select(move => $"{move.From} -> {move.To}"))}",
            "Somebody moved a file by hand. Put the files back as the journal says, then try again.");
    }

    private bool Fits(int done)
    {
        var there = new Dictionary<string, bool>();
        for (int i = 0; i < moves.Count; i++)
        {
            if (i < done)
            {
                there[moves[i].From] = false;
                there[moves[i].To] = true;
            }
            else
            {
                there.TryAdd(moves[i].From, true);
                there.TryAdd(moves[i].To, false);
            }
        }
        return there.All(entry => volume.Exists(entry.Key) == entry.Value);
    }

    /// <summary>Does the moves that are not done yet.</summary>
    public void Forward()
    {
        for (int i = DoneMoves(); i < moves.Count; i++) Do(moves[i].From, moves[i].To);
    }

    /// <summary>Takes back the moves that are done, last first.</summary>
    public void Back()
    {
        for (int i = DoneMoves() - 1; i >= 0; i--) Do(moves[i].To, moves[i].From);
    }

    private void Do(string from, string to)
    {
        string folder = Path.GetDirectoryName(to)!;
        volume.CreateFolder(folder);
        volume.Rename(from, to);
        volume.FlushFolder(folder);
        volume.FlushFolder(Path.GetDirectoryName(from)!);
    }
}
