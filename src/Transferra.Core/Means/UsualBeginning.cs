// UsualBeginning.cs: what is meant when a hop file names no beginning: a copy where the engine stays the same, otherwise an empty store.
using Transferra.Core.Records;

namespace Transferra.Core.Means;

/// <summary>Begins with a copy where that is possible.</summary>
internal sealed class UsualBeginning : IHopBeginning
{
    private static readonly CopyBeginning Copy = new();
    private static readonly EmptyBeginning Empty = new();

    /// <inheritdoc/>
    public string Name => "usual";

    /// <inheritdoc/>
    public bool Copies(StoreAddress from, StoreAddress to) => CopyBeginning.Hindrance(from, to) is null;

    /// <inheritdoc/>
    public BuildMark Begin(HopWork work) =>
        work.Hop.Correspondence.IsOnCopy || !work.Hop.Means.GoesByMaps ? Copy.Begin(work) : Empty.Begin(work);
}
