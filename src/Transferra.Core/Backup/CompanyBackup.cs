// CompanyBackup.cs: a company's set in every place of the office: packed once, put into each, read back from each.
// Holds: (1) a place that fails does not stop the others; (2) the first place's set is unpacked and its records compared with those it
// was made of; that the others are the
// same, byte for byte, is seen by reading them back; (3) members taken from an earlier set are read back, and were unpacked when that one
// was proved.
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Backup;

/// <summary>What a backup came to at one place.</summary>
/// <param name="Path">The set.</param>
/// <param name="Bytes">Its size.</param>
/// <param name="Files">Files in it.</param>
/// <param name="ContentBytes">Their size before packing.</param>
/// <param name="Faults">What the proof found; empty when it is proved.</param>
/// <param name="Grade">How far the proof went.</param>
public sealed record BackupResult(string Path, long Bytes, int Files, long ContentBytes, IReadOnlyList<SetFault> Faults,
    ProofGrade Grade = ProofGrade.Restored)
{
    /// <summary>Whether everything is in it, it was read back and its records are the same.</summary>
    public bool IsProved => Faults.Count == 0;

    /// <summary>Files whose packed members were taken from an earlier set, because they are unchanged.</summary>
    public int Reused { get; init; }

    /// <summary>Whether it was seen to be the same, byte for byte, as one that was unpacked and compared; otherwise it was
    /// itself.</summary>
    public bool IsCopy { get; init; }

    /// <summary>Digest of the set's beginning, which holds those of all else in it; "" when it could not be read back.</summary>
    public string Seal { get => field ?? ""; init; }

    /// <summary>Why the store was not made again from it, for proof; "" when it was.</summary>
    public string NotRestored { get => field ?? ""; init; }

    /// <summary>An earlier set that turned out to be damaged when members were taken from it, and what became of it, in words; "" for
    /// none.</summary>
    public string Damaged { get => field ?? ""; init; }

    /// <summary>Where the store contradicts itself; what lies there is in the set all the same, as it is.</summary>
    public IReadOnlyList<string> Doubts { get => field ?? []; init; }

    /// <summary>What of a store on a server is not in it.</summary>
    public IReadOnlyList<string> NotCarried { get => field ?? []; init; }

    /// <summary>What is not in it.</summary>
    public IReadOnlyList<LeftOut> LeftOut { get => field ?? []; init; }
}

/// <summary>Backs a company up.</summary>
public static class CompanyBackup
{
    /// <summary>Ending of the folder with a copy of a store that somebody works with.</summary>
    internal const string InUse = ".in-use";

    /// <summary>Writes a set to each place of the office and proves it.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="company">Whose.</param>
    /// <param name="version">Of its data.</param>
    /// <param name="run">The run it is made for; "" for none.</param>
    public static IReadOnlyList<BackupResult> Run(BackupContext context, Company company, KitVersion version, string run = "")
    {
        StoreAddress address = company.StoreNow(context.Places);
        string inUse = Path.Combine(Scratch(context.Office), company.Code + InUse);
        // What an earlier backup left there when it was interrupted.
        if (Directory.Exists(Scratch(context.Office))) BackupSets.ClearLeftovers(new LocalPlace(Scratch(context.Office), context.Volume),
            context.Identity);
        context.Volume.Remove(inUse);
        try
        {
            using IStore store = context.Stores.Open(address, version.TextEncoding);
            bool waits = store.Identity.HeaderFields.TryGetValue(StoreIdentity.WaitingChanges, out string? waiting);
            // Where somebody has it open, a copy is taken in a moment and worked on: read for as long as a backup takes, it would keep
            // them from saving.
            bool isInUse = waits || (run.Length == 0 && address.Engine == "sqlite" && context.Places.OpenedBy(address).Count > 0);
            if (!isInUse) return Run(context, company, version, run, address, store);
            // Somebody is at work in it. By day that is as it should be; in a run everybody is out, so who is this?
            if (waits && run.Length > 0)
                throw new TransferraException($"changes lie beside the store and not yet in it: {waiting}",
                    "Close the old program on all workstations; it then writes them into the store.");
            context.Observer.Told($"{address.Shown} is in use; the set is of one moment of it.");
            context.Volume.CreateFolder(inUse);
            StoreAddress copy = address with { Path = Path.Combine(inUse, address.Name) };
            if (!waits) store.Dispose();
            context.Stores.Copy(address, copy);
            using IStore copied = context.Stores.Open(copy, version.TextEncoding);
            return Run(context, company, version, run, copy, copied);
        }
        finally
        {
            context.Volume.Remove(inUse);
        }
    }

    // The store stays opened for reading while it is packed, so that nobody can change it under the set.
    private static IReadOnlyList<BackupResult> Run(BackupContext context, Company company, KitVersion version, string run,
        StoreAddress address, IStore store)
    {
        version = CustomFields.Of(store, version).In(version);
        IReadOnlyList<string> notCarried = store.NotCarried();
        if (notCarried.Count > 0) context.Observer.Told($"Of {address.Shown} a set does not hold:");
        foreach (string what in notCarried) context.Observer.Told("  - " + what);
        string[] doubts = [.. store.Doubts.Select(doubt => doubt.What)];
        using var writing = new SetWriting(context, company, version, run, address, store, notCarried);
        return [.. context.Sets.Places.Select(writing.Into).Select(result => result with { Doubts = doubts })];
    }

    // One set on its way into all places.
    private sealed class SetWriting(BackupContext context, Company company, KitVersion version, string run, StoreAddress address,
        IStore store, IReadOnlyList<string> notCarried) : IDisposable
    {
        private PackedSet? _packed;
        private bool _isProvedInDepth;
        private bool _takesNothingFromEarlier;
        private string _damaged = "";

        public BackupResult Into(ISetPlace place)
        {
            string path = SetPlaces.PathIn(place, company.Code);
            try
            {
                string mark = context.PlaceBook.Admit(place);
                BackupSets.ClearLeftovers(place, context.Identity);
                BackupResult result = Write(place, mark);
                // What was taken from an earlier set was not what it should be: that set is damaged, and this one is made without it.
                if (!result.IsProved && result.Reused > 0 && _damaged.Length == 0 && JudgeEarlier() is { } damaged)
                {
                    (_damaged, _takesNothingFromEarlier) = (damaged, true);
                    place.Remove(Path.GetFileName(result.Path));
                    _packed?.Dispose();
                    _packed = null;
                    result = Write(place, mark);
                }
                return result with { Damaged = _damaged };
            }
            catch (Exception error) when (error is IOException or UnauthorizedAccessException)
            {
                return new BackupResult(path, 0, 0, 0, [new SetFault("place", "", error.Message)]);
            }
        }

        private BackupResult Write(ISetPlace place, string mark)
        {
            bool isPackedHere = _packed is null && place is LocalPlace;
            PackedSet packed = _packed ??= Pack(context, company, version, address, store, run, place, _takesNothingFromEarlier);
            string name = FreeName(context, place, packed.Contents.Label), path = SetPlaces.PathIn(place, name);
            if (isPackedHere) packed.MoveInto((LocalPlace)place, name);
            else
                place.Put(packed.Path, name, BackupSets.ForAWhile(context.Identity, name, BackupSets.Writing),
                    (done, total) => context.Observer.Bytes("copying to " + place.Name, done, total), context.Cancel);
            SpentMemory.GiveBackAfter(packed.Contents.Files);
            SetProved proved = new SetProver(context, company, version).Prove(path, _isProvedInDepth ? ProofGrade.SameBytes
                : ProofGrade.Restored, packed);
            context.Proofs.Add(new SetProof(DateTimeOffset.UtcNow, path, packed.Bytes,
                proved.Faults)
            { Seal = proved.Seal, Mark = mark, Grade = proved.Grade });
            var result = new BackupResult(path, packed.Bytes, packed.Contents.Files, packed.Contents.ContentBytes,
                [.. proved.Faults, .. NotInIt(packed.Contents)])
            {
                IsCopy = _isProvedInDepth,
                Grade = proved.Grade,
                Seal = proved.Seal ?? "",
                NotRestored = proved.NotRestored,
                Reused = packed.Reused,
                LeftOut = packed.Contents.LeftOut,
                NotCarried = notCarried,
            };
            _isProvedInDepth |= proved.Faults.Count == 0;
            if (isPackedHere && proved.Faults.Count > 0)
            {
                // What was not read back as it was written is not a source for another place.
                packed.Dispose();
                _packed = null;
            }
            return result;
        }

        // Null when the earlier set is sound, so that what is wrong lies elsewhere.
        private string? JudgeEarlier()
        {
            if (EarlierOf(context, company) is not { } earlier) return null;
            SetProved judged = new SetProver(context, null, null).Prove(earlier, ProofGrade.ReadBack);
            if (judged.Faults.Count == 0) return null;
            (ISetPlace place, string name) = context.Sets.Find(earlier);
            long bytes = place.List().First(file => file.Name == name).Bytes;
            context.Proofs.Add(new SetProof(DateTimeOffset.UtcNow, earlier, bytes, judged.Faults) { Seal = judged.Seal });
            string[] copies = [.. context.Sets.Places.Where(other => other.LocalFolder is not null && other.Has(name))
                .Select(other => SetPlaces.PathIn(other, name))
                .Where(copy => copy != earlier)];
            string what = $"the earlier set {earlier} is damaged "
                + $"({judged.Faults[0].Member}: {judged.Faults[0].What}); nothing was taken from it";
            if (copies.Length == 0) return what + "; there is no copy of it to heal it from";
            HealResult healed = SetHealing.Heal(context.Volume, context.Sets, earlier, copies, Scratch(context.Office), context.Identity);
            return what + (healed.IsHealed ? $"; it was healed from its copy, and the damaged file is kept as {healed.Kept}"
                : "; its copies could not heal it");
        }

        public void Dispose() => _packed?.Dispose();
    }

    private static PackedSet Pack(BackupContext context, Company company, KitVersion version, StoreAddress address, IStore store,
        string run,
        ISetPlace place,
        bool takesNothingFromEarlier)
    {
        string folder = place.LocalFolder ?? Scratch(context.Office);
        context.Volume.CreateFolder(folder);
        var order = new PackOrder(company, address, store, version.Name, version.Tables, () => BaselineOf(context, version, address, store),
            folder)
        {
            Run = run,
            TextEncoding = version.TextEncoding,
            Earlier = takesNothingFromEarlier ? null : EarlierOf(context, company),
        };
        return BackupSets.Pack(context, order, (done, total) => context.Observer.Bytes("packing", done, total));
    }

    // What a check has just recorded of tables need not be read for it. Should it not be of this very store, the proof, which compares the
    // records of the finished set with it, will not come out.
    private static IReadOnlyList<TableBaseline> BaselineOf(BackupContext context, KitVersion version, StoreAddress address, IStore store)
    {
        Func<TableShape, TableBaseline?> known = context.Baselines.Of(address);
        return [.. version.Tables.Select(table => known(table) ?? Baseline.Of(store, table, address.IsOnServer ? context.Observer
            : Silent.Observer, byGroups: true, context.Cancel))];
    }

    /// <summary>Where an office keeps what is too large for memory and belongs to no place.</summary>
    public static string Scratch(OfficeDescription office) => Path.Combine(office.Folder, "transferra", "scratch");

    // The newest set of this office that is proved, and is still the one that was proved then: the same size, the same seal.
    private static string? EarlierOf(BackupContext context, Company company)
    {
        IReadOnlyDictionary<string, SetProof> proofs = context.Proofs.Last();
        // One that has another name than its label says is not proved; and to open those of all others takes long where there are many.
        string begins = BackupSets.BeginningOfName(company.Code, company.Kit.Id);
        foreach (ListedSet set in context.Sets.Places.Where(place => place.LocalFolder is not null)
            .SelectMany(place => context.Sets.ListIn(place, begins))
            .Where(set => set.Label.OfficeId == context.Identity.Id && set.Label.Company == company.Code
                && set.Label.Package == company.Kit.Id)
            .OrderByDescending(set => set.Label.MadeAt))
            if (proofs.TryGetValue(set.Path, out SetProof? proof) && proof.IsGood && proof.Bytes == set.Bytes && proof.Seal is not null
                && SealOf(context.Sets, set.Path) == proof.Seal)
                return set.Path;
        return null;
    }

    /// <summary>The digest of a set's beginning, by which it is known (docs/backup-sets.md, the seal); null when it cannot be
    /// read.</summary>
    public static string? SealOf(SetPlaces sets, string path)
    {
        try
        {
            using ISetFile file = sets.Open(path);
            return SetBeginning.Read(file) is { Manifest: not null } beginning ? beginning.Digest : null;
        }
        catch (Exception error) when (error is TransferraException or InvalidDataException or IOException or UnauthorizedAccessException)
        {
            return null; // locked with a passphrase of another time, or damaged since
        }
    }

    private static IEnumerable<SetFault> NotInIt(PackedContents contents) =>
        contents.LeftOut.Where(left => !left.IsHarmless).Select(left => new SetFault("left-out", left.Name, left.Why))
            .Concat(contents.Changing.Select(name => new SetFault("changing", name, "the file was changed while it was read")));

    // Neither taken nor that of a set on another disk that takes its turn there.
    private static string FreeName(BackupContext context, ISetPlace place, SetLabel label)
    {
        IReadOnlyDictionary<string, SetProof> known = context.Proofs.Last();
        DateTimeOffset at = label.MadeAt;
        string name;
        do name = BackupSets.NameOf(label, at, context.Sets.LocksNewSets);
        while ((place.Has(name) || known.ContainsKey(SetPlaces.PathIn(place, name))) && (at = at.AddSeconds(1)) > default(DateTimeOffset));
        return name;
    }

    /// <summary>Proves a set again: every byte is read back, its store is restored, and its records are compared with those it was made
    /// of.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="path">The set.</param>
    /// <param name="company">Whose it is; null when the office does not know it any more.</param>
    /// <param name="version">Its version; null when the kit does not know it any more.</param>
    public static SetProved Prove(BackupContext context, string path, Company? company, KitVersion? version) =>
        new SetProver(context, company, version).Prove(path, ProofGrade.Restored);
}
