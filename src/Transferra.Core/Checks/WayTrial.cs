// WayTrial.cs: tries the hops behind the first one, on scratch copies of what the hops before make, so that what the last hop cannot
// convert is known before anybody is sent home. The copies are small files of one engine; nothing of the company or its new store is
// touched.
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Records;

namespace Transferra.Core.Checks;

/// <summary>Where scratch copies are made.</summary>
/// <param name="Stores">Opens and creates them.</param>
/// <param name="Folder">A folder of their own, which whoever gave it removes.</param>
public sealed record TrialScratch(IStoreOpener Stores, string Folder)
{
    /// <summary>How the name of such a folder goes on behind the company's code.</summary>
    internal const string FolderPart = ".trial-";
}

/// <summary>Tries a way.</summary>
internal sealed class WayTrial(IReadOnlyList<Correspondence> way, IReadOnlyDictionary<string, string> settings, TrialTarget target,
    TrialScratch? scratch, FindingCollector findings,
    IProgressObserver observer, CancellationToken cancel)
{
    /// <summary>Tries all hops behind the first one.</summary>
    /// <param name="old">What the first hop begins with; the first hop itself has been tried.</param>
    public void Run(IStore old)
    {
        IStore from = old;
        try
        {
            if (scratch is null) throw new TransferraException("there is no place for scratch copies", "");
            for (int i = 1; i < way.Count; i++)
            {
                IStore made = Make(from, way[i - 1], i);
                if (from != old) from.Dispose();
                from = made;
                string where = $" (on the way from version {way[i].From.Name} to {way[i].To.Name})";
                var heads = new ValueHeads(way[0].From.Name, (_, _, _) => "", where);
                new HopTrial(way[i], from, settings, i == way.Count - 1 ? target : target with { Kit = null }, heads, findings, where)
                    .Run(observer, cancel);
            }
        }
        catch (Exception error) when (error is TransferraException or IOException or UnauthorizedAccessException)
        {
            findings.Add(new FindingHead(FindingKinds.NotChecked, Grade.Warning, "", "way",
                $"the hops behind version {way[0].To.Name} were not tried: {error.Message}",
                "Put that right, then check again; otherwise what they cannot convert shows only when everybody is out."), 1, []);
        }
        finally
        {
            if (from != old) from.Dispose();
        }
    }

    // What cannot be converted has been told; the copy is made of all else, without what an engine would enforce.
    private IStore Make(IStore from, Correspondence hop, int number)
    {
        var address = new StoreAddress("sqlite", Path.Combine(scratch!.Folder, FormattableString.Invariant($"hop-{number}.db")));
        Correspondence bare = hop with
        {
            IsOnCopy = false,
            To = hop.To with
            {
                HeaderFields = new Dictionary<string, string>(),
                Tables = [.. hop.To.Tables.Select(table => table with { Relations = [], Indexes = [] })]
            }
        };
        using (IStoreBuilder builder = scratch.Stores.Create(address, keysFirst: true))
            ConversionPass.Run(from, builder, bare, settings, _ => { }, observer, cancel);
        return scratch.Stores.Open(address);
    }
}
