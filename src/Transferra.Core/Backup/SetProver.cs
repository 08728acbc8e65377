// SetProver.cs: proves a set: every byte is read back, every member unpacked and compared, and its store restored and compared with the
// records it was made of.
// Why a real restore: that all bytes are there says nothing of whether the engine takes them back. So the set of a store on a server is
// made a database again, on that server or on one that office.yaml names, its declarations and records are compared, and it is removed.
// Where that may not be done, the set is graded "read back, not restored", wherever it is shown.
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Backup;

/// <summary>How far a proof went.</summary>
public enum ProofGrade
{
    /// <summary>Every byte is that of a set that was proved further.</summary>
    SameBytes,
    /// <summary>Every byte was read back and every record compared as it stands in the set, but no engine has taken it back.</summary>
    ReadBack,
    /// <summary>The store was made again from it, and compared.</summary>
    Restored,
}

/// <summary>What a proof came to.</summary>
/// <param name="Faults">What is wrong; empty when nothing is.</param>
/// <param name="Grade">How far it went.</param>
/// <param name="NotRestored">Why the store was not made again; "" when it was, or need not be.</param>
/// <param name="Seal">Digest of the set's beginning; null when that cannot be read.</param>
public sealed record SetProved(IReadOnlyList<SetFault> Faults, ProofGrade Grade, string NotRestored, string? Seal);

/// <summary>Proves sets.</summary>
/// <param name="context">What it works with.</param>
/// <param name="company">Whose set it is; null when the office does not know it any more.</param>
/// <param name="version">Its version, to make sense of records of sets that do not say their types; null when that is not known.</param>
internal sealed class SetProver(BackupContext context, Company? company, KitVersion? version)
{
    /// <summary>Proves a set.</summary>
    /// <param name="path">The set.</param>
    /// <param name="depth">How far to go.</param>
    /// <param name="packed">Where this process has just packed it: members that it took from a set that was proved are only read back, and
    /// the content of the others is compared with what it was while it was packed; the disk's bytes were dropped from memory while it was
    /// written.</param>
    public SetProved Prove(string path, ProofGrade depth, PackedSet? packed = null)
    {
        (ISetPlace place, string name) = context.Sets.Find(path);
        using ISetFile file = context.Sets.OpenWhole(path, CompanyBackup.Scratch(context.Office), (done, total) =>
            context.Observer.Bytes("fetching back", done, total),
            context.Cancel);
        // A locked set is not laid out in plain text in the place that it is locked for.
        string folder = file is LockedSetFile ? CompanyBackup.Scratch(context.Office) : place.LocalFolder
            ?? CompanyBackup.Scratch(context.Office);
        string scratch = Path.Combine(folder, BackupSets.ForAWhile(context.Identity, name, BackupSets.Proving));
        if (packed is null) file.ForgetCached();
        context.Volume.Remove(scratch);
        Task<SetProved>? comparing = null;
        try
        {
            SetBeginning beginning = SetBeginning.Read(file);
            SetManifest manifest = SetPlaces.ManifestIn(beginning, path);
            string seal = beginning.Digest;
            bool withRecords = depth != ProofGrade.SameBytes && HasRecordsToCompare(manifest)
                && manifest.Members.Index().Any(member => BackupSets.IsOfStore(member.Item.Name) && member.Item.IsFile
                    && packed?.IsReused(member.Index) != true);
            if (withRecords) context.Volume.CreateFolder(folder);
            using var reader = new SetReader(file, depth == ProofGrade.SameBytes ? SetScrutiny.Bytes : SetScrutiny.All, withRecords
                ? scratch : null, BackupSets.IsOfStore,
                (done, total) => context.Observer.Bytes("proving", done, total), context.Cancel)
            {
                Beginning = beginning,
                IsKnown = packed is null ? null : packed.IsReused,
                JustPacked = packed?.JustPacked,
                // The records are read while the documents are still being proved.
                Part = BackupSets.IsOfStore,
                WhenPartIsUnpacked = () => comparing = Task.Run(() => Compare(manifest, scratch, depth)),
            };
            IReadOnlyList<SetFault> faults = reader.Run();
            if (BackupSets.JudgeName(name, manifest.Label) is { } misnamed) faults = [.. faults, misnamed];
            if (comparing is null) return new SetProved(faults, depth == ProofGrade.SameBytes || packed is not null ? depth
                : ProofGrade.ReadBack, "", seal);
            SetProved compared = comparing.GetAwaiter().GetResult();
            return compared with { Faults = [.. faults, .. compared.Faults], Seal = seal };
        }
        finally
        {
            if (comparing is not null) ((IAsyncResult)comparing).AsyncWaitHandle.WaitOne();
            context.Volume.Remove(scratch);
        }
    }

    private bool HasRecordsToCompare(SetManifest manifest) => manifest.Tables is not null || version is not null;

    private SetProved Compare(SetManifest manifest, string scratch, ProofGrade depth)
    {
        using (IStore opened = context.Stores.Open(StoreExport.Unpacked(manifest.Store, scratch), manifest.Store.TextEncoding
            ?? version?.TextEncoding))
        {
            IReadOnlyList<SetFault> faults = BackupSets.CompareRecords(manifest,
                Baseline.Of(opened, manifest.ShapesOf(opened, version), Silent.Observer, context.Cancel));
            if (!StoreAddress.ServerEngines.Contains(manifest.Store.Engine)) return new SetProved(faults, ProofGrade.Restored, "", null);
            if (faults.Count > 0 || depth != ProofGrade.Restored) return new SetProved(faults, ProofGrade.ReadBack, "", null);
        }
        string unpacked = Path.Combine(scratch, "store", manifest.Store.Name);
        return TrialRestore.Run(context, company, manifest, unpacked, version);
    }
}
