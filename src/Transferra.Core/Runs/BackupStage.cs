// BackupStage.cs: writes a backup set to every place, reads each back, and restores one into scratch to compare its records.
using Transferra.Core.Backup;
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Matching;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>What a backup came to at one place.</summary>
/// <param name="Path">The set.</param>
/// <param name="Bytes">Its size.</param>
/// <param name="Files">Files in it.</param>
/// <param name="ContentBytes">Their size before packing.</param>
/// <param name="Faults">What the proof found; empty when it is proved.</param>
public sealed record BackupResult(string Path, long Bytes, int Files, long ContentBytes, IReadOnlyList<SetFault> Faults)
{
    /// <summary>Whether it was read back and its records are the same.</summary>
    public bool IsProved => Faults.Count == 0;
}

/// <summary>Backs a company up.</summary>
public static class CompanyBackup
{
    /// <summary>Writes a set to each place of the office and proves it.</summary>
    public static IReadOnlyList<BackupResult> Run(RunContext context, Company company, KitVersion version)
    {
        var results = new List<BackupResult>();
        // The store stays opened for reading while it is copied, so that nobody can change it under the copy.
        StoreAddress address = company.StoreNow(context.Places);
        using IStore store = context.Stores.Open(address, version.TextEncoding);
        if (store.Identity.HeaderFields.TryGetValue(StoreIdentity.WaitingChanges, out string? waiting))
            throw new TransferraException($"changes lie beside the store and not yet in it: {waiting}", "Close the old program on all workstations; it then writes them into the store.");
        version = CustomFields.Of(store, version).In(version);
        IReadOnlyList<TableBaseline> baseline = Baseline.Of(store, version.Tables, context.Observer, context.Cancel);
        foreach (string place in context.Office.BackupFolders)
        {
            context.Volume.CreateFolder(place);
            DateTimeOffset at = DateTimeOffset.UtcNow;
            string path;
            do path = Path.Combine(place, BackupSets.NameOf(company, version.Name, at));
            while (File.Exists(path) && (at = at.AddSeconds(1)) > default(DateTimeOffset));
            BackupSetInfo set = BackupSets.Write(context, company, address, store, version.Name, baseline, path,
                (done, total) => context.Observer.Progress("writing " + Path.GetFileName(path), done, total));
            context.Observer.Progress("proving " + Path.GetFileName(path), 0, 0);
            results.Add(new BackupResult(path, set.Bytes, set.Manifest.Members.Count, set.Manifest.Members.Sum(member => member.Bytes), Prove(context, company, version, set)));
        }
        return results;
    }

    /// <summary>Restores a set into scratch, verifying every byte, and compares its records with those it was made of.</summary>
    public static IReadOnlyList<SetFault> Prove(RunContext context, Company company, KitVersion version, BackupSetInfo set)
    {
        string scratch = set.Path + ".proof";
        context.Volume.Remove(scratch);
        try
        {
            IReadOnlyList<SetFault> faults = BackupSets.Unpack(set.Path, scratch);
            if (faults.Count > 0) return faults;
            using IStore opened = context.Stores.Open(StoreExport.Unpacked(company, set.Manifest.StoreName, scratch), version.TextEncoding);
            return BackupSets.CompareRecords(set.Manifest, Baseline.Of(opened, CustomFields.Of(opened, version).In(version).Tables, context.Observer, context.Cancel));
        }
        finally
        {
            context.Volume.Remove(scratch);
        }
    }
}

/// <summary>No proof of the backup, no upgrade.</summary>
public sealed class BackupStage(CompanyRun on) : Stage(on)
{
    /// <inheritdoc/>
    public override string Name => Stages.Backup;

    /// <inheritdoc/>
    public override StageOutcome Do()
    {
        IReadOnlyList<BackupResult> results = CompanyBackup.Run(On.Context, On.Company, On.From);
        On.SaveResult(Name, results);
        BackupResult? unproved = results.FirstOrDefault(result => !result.IsProved);
        return new StageOutcome(unproved is null, unproved is null ? $"{results.Count} proved: {string.Join(", ", results.Select(result => result.Path))}" : $"not proved: {unproved.Path}: {unproved.Faults[0].What}",
            Facts(("sets", results.Count), ("proved", results.Count(result => result.IsProved)), ("path", results[0].Path)), results);
    }
}
