// EmptyBeginning.cs: the new store begins empty and is made by us, from the shapes of the new version.
using Transferra.Core.Records;

namespace Transferra.Core.Means;

/// <summary>Begins with an empty store.</summary>
internal sealed class EmptyBeginning : IHopBeginning
{
    /// <inheritdoc/>
    public string Name => "empty";

    /// <inheritdoc/>
    public BuildMark Begin(HopWork work)
    {
        using IStoreBuilder builder = work.Stores.Create(work.Target, work.Hop.To.TextEncoding, work.Keeper.KeysFirst);
        return builder.Mark();
    }
}
