// CompanyBackup.cs: a company's set in every place of the office: packed once, put into each, read back from each.
// Holds: (1) a place that fails does not stop the others; (2) the first place's set is unpacked and its records compared with those it was made of; that the others are the
//        same, byte for byte, is seen by reading them back; (3) members taken from an earlier set are read back, and were unpacked when that one was proved.
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Matching;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;

namespace Transferra.Core.Backup;

/// <summary>What a backup came to at one place.</summary>
/// <param name="Path">The set.</param>
/// <param name="Bytes">Its size.</param>
/// <param name="Files">Files in it.</param>
/// <param name="ContentBytes">Their size before packing.</param>
/// <param name="Faults">What the proof found; empty when it is proved.</param>
public sealed record BackupResult(string Path, long Bytes, int Files, long ContentBytes, IReadOnlyList<SetFault> Faults)
{
    /// <summary>Whether everything is in it, it was read back and its records are the same.</summary>
    public bool IsProved => Faults.Count == 0;

    /// <summary>Files whose packed members were taken from an earlier set, because they are unchanged.</summary>
    public int Reused { get; init; }

    /// <summary>Whether it was seen to be the same, byte for byte, as one that was unpacked and compared; otherwise it was itself.</summary>
    public bool IsCopy { get; init; }

    /// <summary>What of a store on a server is not in it.</summary>
    public IReadOnlyList<string> NotCarried { get; init; } = [];

    /// <summary>What is not in it.</summary>
    public IReadOnlyList<LeftOut> LeftOut { get; init; } = [];
}

/// <summary>Backs a company up.</summary>
public static class CompanyBackup
{
    /// <summary>Writes a set to each place of the office and proves it.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="company">Whose.</param>
    /// <param name="version">Of its data.</param>
    /// <param name="run">The run it is made for; "" for none.</param>
    public static IReadOnlyList<BackupResult> Run(RunContext context, Company company, KitVersion version, string run = "")
    {
        StoreAddress address = company.StoreNow(context.Places);
        string inUse = Path.Combine(Scratch(context.Office), company.Code + ".in-use");
        // What an earlier backup left there when it was broken off.
        if (Directory.Exists(Scratch(context.Office))) BackupSets.ClearLeftovers(new LocalPlace(Scratch(context.Office), context.Volume), company.Code);
        context.Volume.Remove(inUse);
        try
        {
            using IStore store = context.Stores.Open(address, version.TextEncoding);
            if (!store.Identity.HeaderFields.TryGetValue(StoreIdentity.WaitingChanges, out string? waiting)) return Run(context, company, version, run, address, store);
            // Somebody is at work in it. By day that is as it should be; in a run everybody is out, so who is this?
            if (run.Length > 0)
                throw new TransferraException($"changes lie beside the store and not yet in it: {waiting}",
                    "Close the old program on all workstations; it then writes them into the store.");
            context.Observer.Told($"{address.Shown} is in use; the set is of one moment of it.");
            context.Volume.CreateFolder(inUse);
            StoreAddress copy = address with { Path = Path.Combine(inUse, address.Name) };
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
    private static IReadOnlyList<BackupResult> Run(RunContext context, Company company, KitVersion version, string run, StoreAddress address, IStore store)
    {
        version = CustomFields.Of(store, version).In(version);
        IReadOnlyList<string> notCarried = store.NotCarried();
        if (notCarried.Count > 0) context.Observer.Told($"Of {address.Shown} a set does not hold:");
        foreach (string what in notCarried) context.Observer.Told("  - " + what);
        var results = new List<BackupResult>();
        PackedSet? packed = null;
        bool isProvedInDepth = false;
        try
        {
            foreach (ISetPlace place in context.Sets.Places)
            {
                string path = SetPlaces.PathIn(place, company.Code);
                try
                {
                    place.Prepare();
                    BackupSets.ClearLeftovers(place, company.Code);
                    bool isPackedHere = packed is null && place is LocalPlace;
                    packed ??= Pack(context, company, version, address, store, run, place);
                    string name = FreeName(place, packed.Manifest, context.Sets.LocksNewSets);
                    path = SetPlaces.PathIn(place, name);
                    if (isPackedHere) packed.MoveInto((LocalPlace)place, name);
                    else place.Put(packed.Path, name, (done, total) => context.Observer.Bytes("copying to " + place.Name, done, total), context.Cancel);
                    IReadOnlyList<SetFault> faults = Prove(context, version, path, isProvedInDepth, packed.Reused, isJustWritten: true);
                    new ProofLog(context.Office.Folder, context.Volume).Add(new SetProof(DateTimeOffset.UtcNow, path, packed.Bytes, faults));
                    results.Add(new BackupResult(path, packed.Bytes, packed.Manifest.Files, packed.Manifest.ContentBytes,
                        [.. faults, .. NotInIt(packed.Manifest)])
                    {
                        IsCopy = isProvedInDepth,
                        Reused = packed.Reused.Count,
                        LeftOut = packed.Manifest.LeftOut,
                        NotCarried = notCarried
                    });
                    isProvedInDepth |= faults.Count == 0;
                    if (isPackedHere && faults.Count > 0)
                    {
                        // What was not read back as it was written is no source for another place.
                        packed.Dispose();
                        packed = null;
                    }
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

    private static PackedSet Pack(RunContext context, Company company, KitVersion version, StoreAddress address, IStore store, string run, ISetPlace place)
    {
        string folder = place.LocalFolder ?? Scratch(context.Office);
        context.Volume.CreateFolder(folder);
        var order = new PackOrder(company, address, store, version.Name, [.. version.Tables.Select(table => table.Name)], () =>
            Baseline.Of(store, version.Tables, address.IsOnServer ? context.Observer : Silent.Observer, context.Cancel), folder)
        {
            Run = run,
            Earlier = EarlierOf(context, company),
        };
        return BackupSets.Pack(context, order, (done, total) => context.Observer.Bytes("packing", done, total));
    }

    /// <summary>Where an office keeps what is too large for memory and belongs to no place.</summary>
    public static string Scratch(OfficeDescription office) => Path.Combine(office.Folder, "transferra", "scratch");

    // The newest set that is proved and whose file has still the size it had then.
    private static string? EarlierOf(RunContext context, Company company)
    {
        IReadOnlyDictionary<string, SetProof> proofs = new ProofLog(context.Office.Folder, context.Volume).Last();
        foreach (ListedSet set in context.Sets.Places.Where(place => place.LocalFolder is not null).SelectMany(context.Sets.ListIn)
            .Where(set => set.Label.Company == company.Code && set.Label.Package == company.Kit.Id).OrderByDescending(set => set.Label.MadeAt))
            if (proofs.TryGetValue(set.Path, out SetProof? proof) && proof.IsGood && proof.Bytes == set.Bytes && CanBeRead(context.Sets, set.Path)) return set.Path;
        return null;
    }

    private static bool CanBeRead(SetPlaces sets, string path)
    {
        try
        {
            using ISetFile file = sets.Open(path);
            return SetBeginning.ReadLabel(file) is not null;
        }
        catch (Exception error) when (error is TransferraException or InvalidDataException)
        {
            return false; // locked with a passphrase of another time, or damaged since
        }
    }

    private static IEnumerable<SetFault> NotInIt(SetManifest manifest) =>
        manifest.LeftOut.Where(left => !left.IsHarmless).Select(left => new SetFault("left-out", left.Name, left.Why))
            .Concat(manifest.Members.Where(member => member.Changing).Select(member => new SetFault("changing", member.Name, "the file was changed while it was read")));

    private static string FreeName(ISetPlace place, SetManifest manifest, bool isLocked)
    {
        DateTimeOffset at = manifest.Label.MadeAt;
        string name;
        do name = BackupSets.NameOf(manifest.Label, at, isLocked);
        while (place.Has(name) && (at = at.AddSeconds(1)) > default(DateTimeOffset));
        return name;
    }

    /// <summary>Reads a set back, every byte; unpacks it, and compares the records of its store, restored into scratch, with those it was made of.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="version">Of its data.</param>
    /// <param name="path">The set.</param>
    /// <param name="onlyBytes">Whether the same bytes were unpacked and compared before, so that reading them back is enough.</param>
    /// <param name="known">Names of members that were unpacked and compared before.</param>
    /// <param name="isJustWritten">Whether it was written by this program just now, so that nothing of it is in memory but what was read from the disk after that.</param>
    public static IReadOnlyList<SetFault> Prove(RunContext context, KitVersion version, string path, bool onlyBytes = false,
        IReadOnlySet<string>? known = null, bool isJustWritten = false)
    {
        (ISetPlace place, string name) = context.Sets.Find(path);
        string scratch = Path.Combine(place.LocalFolder ?? Scratch(context.Office), name + BackupSets.ProofSuffix);
        context.Volume.Remove(scratch);
        using ISetFile file = context.Sets.OpenWhole(path, Scratch(context.Office), (done, total) => context.Observer.Bytes("fetching back", done, total), context.Cancel);
        if (!isJustWritten) file.ForgetCached();
        void progress(long done, long total) => context.Observer.Bytes("proving", done, total);
        Task<IReadOnlyList<SetFault>>? comparing = null;
        try
        {
            SetBeginning beginning = SetBeginning.Read(file);
            SetManifest manifest = SetPlaces.ManifestIn(beginning, path);
            bool withRecords = !onlyBytes && !manifest.Members.All(member => !BackupSets.IsOfStore(member.Name) || !member.IsFile || known?.Contains(member.Name) == true);
            using var reader = new SetReader(file, onlyBytes ? SetScrutiny.Bytes : SetScrutiny.All, withRecords ? scratch : null, BackupSets.IsOfStore, progress, context.Cancel)
            {
                Beginning = beginning,
                Known = known,
                // The records are read while the documents are still being proved.
                Part = BackupSets.IsOfStore,
                WhenPartIsUnpacked = () => comparing = Task.Run(() => Compare(context, version, manifest, scratch)),
            };
            IReadOnlyList<SetFault> faults = reader.Run();
            return comparing is null ? faults : [.. faults, .. comparing.GetAwaiter().GetResult()];
        }
        finally
        {
            if (comparing is not null) ((IAsyncResult)comparing).AsyncWaitHandle.WaitOne();
            context.Volume.Remove(scratch);
        }
    }

    private static IReadOnlyList<SetFault> Compare(RunContext context, KitVersion version, SetManifest manifest, string scratch)
    {
        using IStore opened = context.Stores.Open(StoreExport.Unpacked(manifest.Store, scratch), version.TextEncoding);
        return BackupSets.CompareRecords(manifest, Baseline.Of(opened, CustomFields.Of(opened, version).In(version).Tables, Silent.Observer, context.Cancel));
    }
}
