// OldStoreLeft.cs: what is left of a company's old data to match against: the store that was set aside, or the run's backup set, unpacked.
using Transferra.Core.Backup;
using Transferra.Core.Machine;
using Transferra.Core.Records;
using Transferra.Core.Runs;

namespace Transferra.Cli.Commands;

/// <summary>The old store, wherever it is. What was unpacked for that goes when it is disposed.</summary>
internal sealed class OldStoreLeft : IDisposable
{
    private NamedPlace? _unpacked;

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
            left.Unpack(session, on);
        }
        return left;
    }

    // A set of a server's database holds its records, and not what the server makes of them; and each hop needs the store it begins with.
    private void Unpack(Session session, CompanyRun on)
    {
        if (on.Company.OldStore.IsOnServer) return;
        if (!on.Way.Hops.SkipLast(1).All(hop => session.Places.Exists(on.Staged(hop.To.Name))))
        {
            Shown += ", nor are the stores of the versions between";
            return;
        }
        foreach (BackupResult set in on.LoadResult<List<BackupResult>>(Stages.Backup) ?? [])
        {
            if (!set.IsProved) continue;
            // Another set under its name would say nothing of what this run did.
            if (set.Seal.Length > 0 && CompanyBackup.SealOf(session.Sets, set.Path) is { } seal && seal != set.Seal)
            {
                NotUsed.Add($"The backup set of the run cannot be used: {set.Path} is not the set that the run made");
                continue;
            }
            try { _unpacked = NamedPlace.Of(session, set.Path); }
            catch (TransferraException error)
            {
                NotUsed.Add($"The backup set of the run cannot be used: {error.Message}");
                continue;
            }
            (Address, Shown) = (_unpacked.Side.Address, $"{Shown}; its backup set is: {_unpacked.Shown}");
            return;
        }
    }

    /// <inheritdoc/>
    public void Dispose() => _unpacked?.Dispose();
}
