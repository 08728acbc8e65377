// TrialRestore.cs: compares a database that was made again from a set (ScratchDatabase.cs) with what was backed up.
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Backup;

/// <summary>Restores sets for proof.</summary>
internal static class TrialRestore
{
    /// <summary>Restores an unpacked store, and compares.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="company">Whose set it is; null when that is not known.</param>
    /// <param name="manifest">The set's manifest.</param>
    /// <param name="unpacked">Folder of the unpacked export.</param>
    /// <param name="version">Its version, for sets that do not say their types.</param>
    internal static SetProved Run(BackupContext context, Company? company, SetManifest manifest, string unpacked, KitVersion? version)
    {
        try
        {
            using ScratchDatabase? made = ScratchDatabase.TryMake(context, company, manifest, unpacked, null, out string whyNot);
            return made is null ? NotDone(whyNot) : new SetProved(Compare(context, manifest, unpacked, made, version),
                ProofGrade.Restored, "", null);
        }
        catch (TransferraException error)
        {
            return new SetProved([new SetFault("restore", "", $"it could not be restored into a database: {error.Message}")],
                ProofGrade.ReadBack, error.Message, null);
        }
    }

    private static SetProved NotDone(string why) => new([], ProofGrade.ReadBack, why, null);

    private static IReadOnlyList<SetFault> Compare(BackupContext context, SetManifest manifest, string unpacked, ScratchDatabase made,
        KitVersion? version)
    {
        List<SetFault> faults = [.. made.Remarks.Select(remark => new SetFault("restore", "", $"not brought back: {remark}"))];
        using IStore store = context.Stores.Open(made.Address, manifest.Store.TextEncoding ?? version?.TextEncoding);
        faults.AddRange(BackupSets.CompareRecords(manifest, Baseline.Of(store, manifest.ShapesOf(store, version),
            Silent.Observer, context.Cancel)));
        if (made.Script is { } script) faults.AddRange(CompareDeclarations(script, store, unpacked));
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
