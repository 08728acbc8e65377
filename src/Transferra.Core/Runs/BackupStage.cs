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
    /// <summary>Writes a set to each place of the office and proves it. A place that fails does not stop the others.</summary>
    public static IReadOnlyList<BackupResult> Run(RunContext context, Company company, KitVersion version)
    {
        // The store stays opened for reading while it is copied, so that nobody can change it under the copy.
        StoreAddress address = company.StoreNow(context.Places);
        using IStore store = context.Stores.Open(address, version.TextEncoding);
        if (store.Identity.HeaderFields.TryGetValue(StoreIdentity.WaitingChanges, out string? waiting))
            throw new TransferraException($"changes lie beside the store and not yet in it: {waiting}", "Close the old program on all workstations; it then writes them into the store.");
        version = CustomFields.Of(store, version).In(version);
        IReadOnlyList<TableBaseline> baseline = Baseline.Of(store, version.Tables, context.Observer, context.Cancel);
        var results = new List<BackupResult>();
        PackedSet? packed = null;
        try
        {
            foreach (string place in context.Office.BackupFolders)
            {
                string path = Path.Combine(place, BackupSets.NameOf(company, version.Name, packed?.Manifest.MadeAt ?? DateTimeOffset.UtcNow));
                try
                {
                    BackupSets.ClearLeftovers(context.Volume, place, company.Code);
                    context.Volume.CreateFolder(place);
                    // Packed once, in the first place that has room for it, and copied into the others.
                    packed ??= BackupSets.Pack(context, company, address, store, version.Name, baseline, place, (done, total) => context.Observer.Progress("packing for " + place, done, total));
                    path = FreePath(place, company, version.Name, packed.Manifest.MadeAt);
                    context.Observer.Progress("writing " + Path.GetFileName(path), 0, 0);
                    BackupSetInfo set = BackupSets.Put(context.Volume, packed, path);
                    context.Observer.Progress("proving " + Path.GetFileName(path), 0, 0);
                    results.Add(new BackupResult(path, set.Bytes, set.Manifest.Members.Count, set.Manifest.Members.Sum(member => member.Bytes), Prove(context, company, version, set)));
                    new ProofLog(context.Office.Folder, context.Volume).Add(new SetProof(DateTimeOffset.UtcNow, path, set.Bytes, results[^1].Faults));
                }
                catch (Exception error) when (error is IOException or UnauthorizedAccessException)
                {
                    results.Add(new BackupResult(path, 0, 0, 0, [new SetFault("place", "", error.Message)]));
                }
            }
        }
        finally
        {
            packed?.Dispose();
        }
        return results;
    }

    private static string FreePath(string place, Company company, string version, DateTimeOffset at)
    {
        string path;
        do path = Path.Combine(place, BackupSets.NameOf(company, version, at));
        while (File.Exists(path) && (at = at.AddSeconds(1)) > default(DateTimeOffset));
        return path;
    }

    /// <summary>Restores a set into scratch, verifying every byte, and compares its records with those it was made of.</summary>
    public static IReadOnlyList<SetFault> Prove(RunContext context, Company company, KitVersion version, BackupSetInfo set)
    {
        string scratch = set.Path + BackupSets.ProofSuffix;
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
        BackupResult[] proved = [.. results.Where(result => result.IsProved)], unproved = [.. results.Where(result => !result.IsProved)];
        string failed = string.Join("; ", unproved.Select(result => $"{result.Path}: {result.Faults[0].What}"));
        bool isEnough = proved.Length >= On.Context.Office.BackupsWanted;
        return new StageOutcome(isEnough, isEnough ? $"{proved.Length} proved: {string.Join(", ", proved.Select(result => result.Path))}{(failed.Length > 0 ? "; not proved: " + failed : "")}"
            : FormattableString.Invariant($"{proved.Length} of {On.Context.Office.BackupsWanted} wanted sets proved; not proved: {failed}"),
            Facts(("sets", results.Count), ("proved", proved.Length), ("path", proved.Length > 0 ? proved[0].Path : "")), results);
    }
}
