// StoreInPlace.cs: what one run, while it is under way, knows of a company's new store in its place.
// Why not in the journal: it is of use only as long as nobody had the time to work with the store.
using Transferra.Core.Office;

namespace Transferra.Core.Runs;

/// <summary>What is known of it.</summary>
internal sealed class StoreInPlace
{
    /// <summary>Its mark when its digest, taken in its place, was that of the store that was made; null where that is not known.</summary>
    public StoreMark? AsMade { get; set; }
}
