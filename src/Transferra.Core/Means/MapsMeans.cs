// MapsMeans.cs: our own engine converts, by the maps of the correspondence.
using Transferra.Core.Conversion;
using Transferra.Core.Records;

namespace Transferra.Core.Means;

/// <summary>Converts by maps.</summary>
internal sealed class MapsMeans : IHopMeans
{
    /// <inheritdoc/>
    public string Name => "maps";

    /// <inheritdoc/>
    public ConversionResult Convert(HopWork work, BuildMark from)
    {
        using IStore source = work.OpenSource();
        using IStoreBuilder builder = work.Stores.Continue(work.Target, work.Hop.To.Tables, from, work.Hop.To.TextEncoding,
            work.Keeper.KeysFirst);
        var pass = new ConversionPass(builder, work.Hop.To, work.Settings, work.Keeper, work.Observer, work.Cancel)
        {
            Made = from.Tables.Keys.Concat(from.Copy?.Kept ?? [])
        };
        pass.Take(source, work.Hop.Correspondence);
        ConversionResult result = pass.Complete(work.Hop.Correspondence);
        // On a copy the engine itself keeps the links.
        IReadOnlyList<string> notLinked = from.Copy is null ? work.Hop.Correspondence.NotLinked : [];
        return result with { Remarks = [.. from.Copy?.NotBrought ?? [], .. notLinked, .. result.Remarks] };
    }
}
