// OldStoreLeft.cs: what is left of a company's old data to match against: the store that was set aside, or the run's backup set, unpacked,
// and of a server's database made a database again for the while.
using Transferra.Core.Backup;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Records;
using Transferra.Core.Runs;

namespace Transferra.Cli.Commands;

/// <summary>The old store, wherever it is. What was unpacked for that goes when it is disposed.</summary>
internal sealed class OldStoreLeft : IDisposable
{
    private NamedPlace? _unpacked;
    private ScratchDatabase? _madeAgain;
    private IDisposable? _alone;

    /// <summary>Where it can be read; null when nothing of it is left.</summary>
    public StoreAddress? Address { get; private set; }

    /// <summary>As a person reads it.</summary>
    public string Shown { get; private set; } = "";

    /// <summary>What might have served and could not be used, and why.</summary>
    public List<string> NotUsed { get; } = [];

    /// <summary>Finds it.</summary>
    /// <param name="session">The call.</param>
    /// <param name="on">The company and its run.</param>
    /// <param name="changedOver">Whether its new store stands in the old one's place.</param>
    public static OldStoreLeft Of(Session session, CompanyRun on, bool changedOver)
    {
        var left = new OldStoreLeft();
        StoreAddress place = changedOver ? on.Aside : on.Company.OldStore;
        if (session.Places.Exists(place)) (left.Address, left.Shown) = (place, place.Shown);
        else
        {
            left.Shown = $"{place.Shown} is not there any more";
            try { left.Unpack(session, on); }
            catch
            {
                left.Dispose();
                throw;
            }
        }
        return left;
    }

    // Each hop needs the store it begins with, but for those that were proved on the way.
    private void Unpack(Session session, CompanyRun on)
    {
        if (!MatchStage.HasStoresBetween(on))
        {
            Shown += ", nor are the stores of the versions between";
            return;
        }
        foreach (BackupResult set in on.LoadResult<List<BackupResult>>(Stages.Backup) ?? [])
        {
            if (!set.IsProved) continue;
            // There is one such database for a company, and whoever else is at work would take it away.
            if (on.Company.OldStore.IsOnServer) _alone ??= session.Lock();
            // Another set under its name would say nothing of what this run did.
            if (set.Seal.Length > 0 && CompanyBackup.SealOf(session.Sets, set.Path) is { } seal && seal != set.Seal)
            {
                NotUsed.Add($"The backup set of the run cannot be used: {set.Path} is not the set that the run made");
                continue;
            }
            try
            {
                _unpacked = NamedPlace.Of(session, set.Path);
                if (StoreAddress.ServerEngines.Contains(_unpacked.Manifest!.Store.Engine)) MakeAgain(session, on, _unpacked);
                else Address = _unpacked.Side.Address;
            }
            catch (TransferraException error)
            {
                NotUsed.Add($"The backup set of the run cannot be used: {error.Message}");
                LetUnpackedGo();
                continue;
            }
            Shown = $"{Shown}; its backup set is: {_unpacked.Shown}"
                + (_madeAgain is null ? "" : $", made a database again for the while: {_madeAgain.Address.Shown}");
            return;
        }
    }

    // Hops, declarations and the engine's own sums need a database, not only its records. It is taken only when it holds what was backed
    // up.
    private void MakeAgain(Session session, CompanyRun on, NamedPlace unpacked)
    {
        SetManifest manifest = unpacked.Manifest!;
        session.Screen.Line("The old database is made again from its backup set, for the while...");
        _madeAgain = ScratchDatabase.TryMake(on.Context, on.Company, manifest, unpacked.Side.Address.Path,
            session.Observer().At("loading"), out string whyNot)
            ?? throw new TransferraException($"no database can be made of it: {whyNot}");
        using IStore store = session.Stores.Open(_madeAgain.Address, manifest.Store.TextEncoding);
        if (BackupSets.CompareRecords(manifest, Baseline.Of(store, manifest.ShapesOf(store, null), session.Observer().At("comparing"),
            session.Cancel)) is [var fault, ..])
            throw new TransferraException($"the database made of it is not what was backed up: {fault.Member}: {fault.What}");
        // A declaration that is missing there is no difference of the new store.
        foreach (string remark in _madeAgain.Remarks) session.Screen.Look("Not brought back from the backup set: " + remark);
        Address = _madeAgain.Address;
    }

    private void LetUnpackedGo()
    {
        _madeAgain?.Dispose();
        _unpacked?.Dispose();
        (_madeAgain, _unpacked) = (null, null);
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        LetUnpackedGo();
        _alone?.Dispose();
        _alone = null;
    }
}
