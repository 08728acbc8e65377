// TrialRestore.cs: makes a database again from a set, on a server, under a name of its own, compares it with what was backed up, and
// removes it.
// Holds: (1) nothing that is on the server is touched; (2) the trial's database goes, whatever happens; one that a kill left goes before
// the next trial.
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Backup;

/// <summary>Restores sets for proof.</summary>
internal static class TrialRestore
{
    private const string Label = "proof";

    /// <summary>Restores an unpacked store, and compares.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="company">Whose set it is; null when that is not known.</param>
    /// <param name="manifest">The set's manifest.</param>
    /// <param name="unpacked">Folder of the unpacked export.</param>
    /// <param name="version">Its version, for sets that do not say their types.</param>
    internal static SetProved Run(BackupContext context, Company? company, SetManifest manifest, string unpacked, KitVersion? version)
    {
        if (PlaceFor(context, company,
            manifest) is not { } trial) return NotDone($"no server of the engine {manifest.Store.Engine} is known here");
        try
        {
            IStoreServer server = context.Stores.ServerOf(trial);
            if (server.Hindrances(null) is [var hindrance, ..]) return NotDone(hindrance);
            server.Remove(trial.Path);
            try
            {
                return new SetProved(Compare(context, manifest, unpacked, trial, version), ProofGrade.Restored, "", null);
            }
            finally
            {
                server.Remove(trial.Path);
            }
        }
        catch (TransferraException error)
        {
            return new SetProved([new SetFault("restore", "", $"it could not be restored into a database: {error.Message}")],
                ProofGrade.ReadBack, error.Message, null);
        }
    }

    private static SetProved NotDone(string why) => new([], ProofGrade.ReadBack, why, null);

    /// <summary>Where a set would be restored for proof: on the server that office.yaml names for that, or on the company's own.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="company">Whose set it is.</param>
    /// <param name="manifest">The set's manifest.</param>
    private static StoreAddress? PlaceFor(BackupContext context, Company? company, SetManifest manifest) =>
        // Firebird's databases are files in a folder of the server's; the others have names.
        ServerFor(context.Office, company, manifest.Store.Engine)?.Beside("", context.Identity.Short, $"{Label}-{manifest.Label.Company}");

    /// <summary>A trial of a company that a kill left on its server; null when there is none.</summary>
    internal static StoreAddress? LeftBy(BackupContext context, Company company)
    {
        StoreAddress now = company.StoreNow(context.Places);
        StoreAddress? trial = now.IsOnServer ? ServerFor(context.Office, company, now.Engine)?.Beside("", context.Identity.Short,
            $"{Label}-{company.Code}") : null;
        return trial is not null && context.Stores.ServerOf(trial).Exists(trial.Path) ? trial : null;
    }

    /// <summary>The address of a store beside which trials are made; null when no server of the engine is known.</summary>
    /// <param name="office">The office.</param>
    /// <param name="company">Whose sets they are.</param>
    /// <param name="engine">The set's engine.</param>
    public static StoreAddress? ServerFor(OfficeDescription office, Company? company, string engine) =>
        office.Backup.ProveOn.FirstOrDefault(server => server.Engine == engine)
        ?? ((StoreAddress?[])[company?.OldStore, company?.MovesTo]).FirstOrDefault(store => store?.Engine == engine && store.IsOnServer);

    private static IReadOnlyList<SetFault> Compare(BackupContext context, SetManifest manifest, string unpacked, StoreAddress trial,
        KitVersion? version)
    {
        ExportedStore description = StoreExport.Describe(unpacked);
        var faults = new List<SetFault>();
        List<string> remarks = [.. StoreExport.Load(unpacked, context.Stores, trial, Silent.Observer, context.Cancel)];
        if (description.Script is { } script) remarks.AddRange(context.Stores.AddRights(trial, script));
        faults.AddRange(remarks.Select(remark => new SetFault("restore", "", $"not brought back: {remark}")));
        using IStore store = context.Stores.Open(trial, manifest.Store.TextEncoding ?? version?.TextEncoding);
        faults.AddRange(BackupSets.CompareRecords(manifest, Baseline.Of(store, manifest.ShapesOf(store, version),
            Silent.Observer, context.Cancel)));
        if (description.Script is not null) faults.AddRange(CompareDeclarations(description.Script, store, unpacked));
        return faults;
    }

    // The engine's own words for everything beside the records, read from the database that was made again.
    private static IEnumerable<SetFault> CompareDeclarations(StoreScript wanted, IStore store, string unpacked)
    {
        string folder = unpacked + ".again";
        Directory.CreateDirectory(folder);
        if (store.ReadScript(folder) is not { } found) yield break;
        Directory.Delete(folder, recursive: true);
        foreach ((string what, IReadOnlyList<string> then, IReadOnlyList<string> now) in ((string, IReadOnlyList<string>,
            IReadOnlyList<string>)[])
            [("", wanted.Before, found.Before), ("", wanted.After, found.After), ("right ", wanted.Rights, found.Rights)])
        {
            var left = now.GroupBy(statement => statement, StringComparer.Ordinal).ToDictionary(same => same.Key, same => same.Count(),
                StringComparer.Ordinal);
            foreach (string statement in then)
                if (left.TryGetValue(statement, out int count) && count > 0) left[statement] = count - 1;
                else yield return new SetFault("declaration", "",
                    $"the {what}declaration is not there after a restore: {FirstLine(statement)}");
            foreach (string statement in left.Where(entry => entry.Value > 0).Select(entry => entry.Key))
                yield return new SetFault("declaration", "",
                    $"the {what}declaration is there only after a restore: {FirstLine(statement)}");
        }
    }

    private static string FirstLine(string statement) => statement.Split('\n')[0] is { Length: > 160 } line ? line[..160] + "..."
        : statement.Split('\n')[0];
}
