// RehearsalRun.cs: the whole upgrade, by the same code, on copies in scratch: an office of its own in a folder of its own, whose companies
// are restored from sets. Nobody has to leave, nothing is closed, and the office stays as it is.
// Holds: (1) nothing is written to a store of the office: its companies' addresses are not in the rehearsal's office; (2) what it made is
//        removed by what it said beforehand it would make, in a folder whose mark says that it is ours; (3) a company that cannot be
//        rehearsed does not keep the others from it.
using System.Globalization;
using System.Text.Json;
using Transferra.Core.Backup;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>How it is wished.</summary>
/// <param name="In">Folder to work in; null for the office's own.</param>
/// <param name="IsFresh">Whether copies are made of the stores as they are now, also where there is a set.</param>
/// <param name="IsKept">Whether what it made stays to be looked at.</param>
/// <param name="DoneByHand">Waits until a person has done what was told; false when nobody does. Null when nobody is there.</param>
public sealed record RehearsalWishes(string? In, bool IsFresh, bool IsKept, Func<bool>? DoneByHand);

/// <summary>Rehearses.</summary>
public sealed class RehearsalRun
{
    private const int MostLongest = 12;

    private readonly RunContext _context;
    private readonly RehearsalMade _made;
    private readonly RunContext _shadow;
    private readonly TimedObserver _timed;

    private RehearsalRun(RunContext context, RehearsalMade made)
    {
        (_context, _made) = (context, made);
        _timed = new TimedObserver(context.Observer);
        OfficeDescription office = ShadowOf(context.Office, made);
        _shadow = new RunContext(office, context.Stores, context.Volume, _timed, context.Tool, context.Cancel)
        {
            Sets = SetPlaces.Local(office.Backup.Folders, context.Volume),
            Originals = context.Originals,
            RowsBetweenMarks = context.RowsBetweenMarks,
            BetweenMatchMarks = context.BetweenMatchMarks,
            IsRehearsal = true
        };
    }

    // The same office, but for where it is.
    private static OfficeDescription ShadowOf(OfficeDescription office, RehearsalMade made) => office with
    {
        Folder = made.Folder,
        Backup = BackupPlan.In(Path.Combine(made.Folder, "sets")) with
        {
            ProveOn = office.Backup.ProveOn,
            Without = office.Backup.Without
        },
        Closing = ClosingPlan.None,
        Packages = [.. office.Packages.Select(package => package with
        {
            Companies = [.. package.Companies.Where(company => made.Companies.Contains(company.Code)).Select(company => company with
            {
                Carry = [],
                WantedVersion = made.Reached.GetValueOrDefault(company.Code) ?? company.WantedVersion,
                OldStore = ScratchOf(company.OldStore, made, company.Code, "rehearsal"),
                MovesTo = company.MovesTo is { } to ? ScratchOf(to, made, company.Code, "rehearsal-new") : null
            })]
        })]
    };

    private static StoreAddress ScratchOf(StoreAddress store, RehearsalMade made, string company, string label) => store.IsOnServer
        ? store.Beside("", made.Id, label) : store with { Path = Path.Combine(made.Folder, "data", company, store.Name) };

    /// <summary>Rehearses the upgrade of some companies.</summary>
    /// <param name="context">The office.</param>
    /// <param name="companies">With the version each has now.</param>
    /// <param name="wishes">How.</param>
    /// <exception cref="OperationCanceledException">Stopped by hand; what it made is removed.</exception>
    public static Rehearsal Run(RunContext context, IReadOnlyList<(Company Company, KitVersion From)> companies, RehearsalWishes wishes)
    {
        var book = new Rehearsals(context.Office.Folder, context.Volume);
        DateTimeOffset now = DateTimeOffset.UtcNow;
        string id;
        do id = now.ToString("yyyyMMdd-HHmmss", CultureInfo.InvariantCulture);
        while ((book.Left().Any(made => made.Id == id) || Path.Exists(book.ResultsOf(id)) || book.List().Any(one => one.Id == id))
            && (now = now.AddSeconds(1)) > default(DateTimeOffset));
        var made = new RehearsalMade(id, Path.Combine(wishes.In ?? book.Folder, "transferra-rehearsal-" + id), WorkFolder.NewToken(),
            [.. companies.Select(entry => entry.Company.Code)], wishes.IsKept)
        {
            Reached = companies.ToDictionary(entry => entry.Company.Code, entry => entry.Company.WayBetween(entry.From.Name,
                entry.Company.WantedVersion)!.Hops.TakeWhile(hop => !hop.Surroundings.IsForTheNight).LastOrDefault()?.To.Name
                ?? entry.Company.WantedVersion)
        };
        book.Announce(made);
        context.Volume.CreateFolder(Path.GetDirectoryName(made.Folder)!);
        context.Volume.MakeFolder(made.Folder);
        context.Volume.WriteNew(Path.Combine(made.Folder, RehearsalMade.MarkName), JsonSerializer.SerializeToUtf8Bytes(made,
            RunsJson.Form.RehearsalMade));
        bool isKept = false;
        try
        {
            var rehearsal = new Rehearsal(id, now, new RehearsalRun(context, made).Go(companies, wishes));
            book.Save(rehearsal);
            isKept = wishes.IsKept;
            return rehearsal;
        }
        finally
        {
            if (!isKept) Remove(context, made);
        }
    }

    // Journal, results and lists, for whoever wants to know more once the copies are gone. By them the databases are known, so that this
    // comes last.
    private static void KeepResults(RunContext context, Rehearsals book, RehearsalMade made)
    {
        string runs = Path.Combine(made.Folder, "transferra", "runs");
        if (!book.List().Any(one => one.Id == made.Id) || !Directory.Exists(runs)
            || Directory.EnumerateDirectories(runs).ToArray() is not [var run]) return;
        string work = Path.Combine(run, "work");
        context.Volume.Remove(work);
        if (FileIdentity.Of(run)?.Device == FileIdentity.Of(book.Folder)?.Device) context.Volume.Rename(run, book.ResultsOf(made.Id));
    }

    private List<RehearsedCompany> Go(IReadOnlyList<(Company Company, KitVersion From)> companies, RehearsalWishes wishes)
    {
        var results = new List<RehearsedCompany>();
        var ready = new List<(Company Real, Company Copy, KitVersion From, RehearsedCompany Begun, string Digest)>();
        foreach ((Company company, KitVersion from) in companies)
        {
            var begun = new RehearsedCompany(company.Code, from.Name,
                _made.Reached.GetValueOrDefault(company.Code) ?? company.WantedVersion, "", null, "not-rehearsed", []);
            try
            {
                Company copy = _shadow.Office.Companies.First(known => known.Code == company.Code);
                if (company.WayBetween(from.Name, company.WantedVersion)?.Hops[0] is { Surroundings.IsForTheNight: true } first)
                    throw new TransferraException($"the conversion to version {first.To.Name} works only on the store's own place, or "
                        + "needs services to be off", "It is left for the night.");
                string digest = _context.Places.DigestOf(company.OldStore, from.TextEncoding, _context.Cancel);
                (string source, DateTimeOffset at) = Bring(company, copy, from, wishes.IsFresh);
                ready.Add((company, copy, from, begun with { Source = source, SourceAt = at }, digest));
            }
            catch (Exception error) when (error is TransferraException or IOException or UnauthorizedAccessException)
            {
                var reasons = new List<string> { error is TransferraException ? error.Message : Unforeseen.Words(error) };
                if (error is TransferraException { Next.Length: > 0 } told) reasons.Add(told.Next);
                if (!wishes.IsFresh) reasons.Add("To rehearse on what is there now: transferra rehearse --fresh");
                _context.Observer.Told($"{company.Code} is not rehearsed: {string.Join(". ", reasons)}");
                results.Add(begun with { Reasons = reasons });
            }
        }
        if (ready.Count == 0) return results;
        Run run = UpgradeRun.Begin(_shadow, RunKind.Upgrade, [.. ready.Select(entry => (entry.Copy, entry.From))], despiteFaults: true);
        IReadOnlyList<CompanyOutcome> outcomes = UpgradeRun.Execute(_shadow, run);
        while (outcomes.Any(outcome => outcome.IsWaiting) && wishes.DoneByHand?.Invoke() == true)
            outcomes = UpgradeRun.Execute(_shadow, run);
        RunReport report = RunReport.Of(_shadow.Office, run);
        foreach ((Company real, Company copy, KitVersion from, RehearsedCompany begun, string digest) in ready)
            results.Add(Result(begun, real.WantedVersion, outcomes.First(outcome => outcome.Company == real.Code),
                report.Companies.First(company => company.Code == real.Code)) with
            {
                IsOriginalAsBefore = _context.Places.DigestOf(real.OldStore, from.TextEncoding, _context.Cancel) == digest,
                Kept = wishes.IsKept ? copy.StoreNow(_shadow.Places).Shown : ""
            });
        return results;
    }

    private RehearsedCompany Result(RehearsedCompany begun, string wanted, CompanyOutcome outcome, CompanyReport report) => begun with
    {
        Outcome = outcome.IsThrough && begun.To == wanted ? "through" : outcome.IsThrough || outcome.IsWaiting ? "waits" : "stopped",
        Reasons = outcome.IsThrough && begun.To != wanted ? [$"from version {begun.To} on it works only on the store's own place, or needs "
            + "services to be off; that is left for the night"] : outcome.IsWaiting ? ["one of its hops is done by hand; from there on "
            + "it is left for the night"] : outcome.Reasons,
        Stages = [.. report.Stages.Where(stage => stage.Seconds is not null).Select(stage => new RehearsedStage(stage.Stage,
            stage.Seconds!.Value))],
        Hops = [.. report.Conversion?.Hops.Select(hop => new RehearsedHop(hop.From, hop.To, hop.Seconds)) ?? []],
        Longest = _timed.Longest(begun.Company, MostLongest),
        Records = report.Check?.Tables.Values.Sum() ?? 0,
        Verdict = report.Match is { } match ? JsonNamingPolicy.KebabCaseLower.ConvertName(match.Verdict.ToString()) : ""
    };

    // Puts a copy of a company's store where the rehearsal has it.
    private (string Source, DateTimeOffset At) Bring(Company company, Company copy, KitVersion from, bool isFresh)
    {
        if (!isFresh && ProvedSet(company, from) is { } set)
        {
            _context.Observer.Told(string.Create(CultureInfo.InvariantCulture,
                $"{company.Code} is rehearsed on what is in {set.Path}, made {set.Label.MadeAt:yyyy-MM-dd HH:mm} UTC."));
            Restore(_context.Sets, set.Path, copy, from);
            return (set.Path, set.Label.MadeAt);
        }
        _context.Observer.Told($"{company.Code} is rehearsed on a copy of what is there now.");
        DateTimeOffset at = DateTimeOffset.UtcNow;
        string folder = Path.Combine(_made.Folder, "snapshot", company.Code); // each place of sets is known by its path
        SetPlaces place = SetPlaces.Local([folder], _context.Volume);
        var taking = new BackupContext(_shadow.Office, _context.Stores, _context.Volume, _context.Observer, _context.Tool,
            _context.Cancel)
        { Sets = place };
        BackupResult taken = CompanyBackup.Run(taking, company with { DocumentFolders = [] }, from)[0];
        if (!taken.IsProved) throw new TransferraException($"a copy of what is there now could not be made: {taken.Faults[0].What}",
            $"See what stands in the way: transferra backup {company.Code}");
        Restore(place, taken.Path, copy, from);
        _context.Volume.Remove(folder);
        return ("", at);
    }

    private ListedSet? ProvedSet(Company company, KitVersion from)
    {
        IReadOnlyDictionary<string, SetProof> proofs = new ProofLog(_context.Office.Folder, _context.Volume).Last();
        return _context.Sets.List((place, why) => _context.Observer.Told($"{place.Name} cannot be reached: {why}"))
            .Where(set => set.Label.OfficeId == _context.Identity.Id && set.Label.Company == company.Code
                && set.Label.Package == company.Kit.Id && set.Label.DataVersion == from.Name
                && proofs.TryGetValue(set.Path, out SetProof? proof) && proof.IsGood && proof.Bytes == set.Bytes)
            .MaxBy(set => set.Label.MadeAt);
    }

    private void Restore(SetPlaces sets, string path, Company copy, KitVersion from)
    {
        SetManifest manifest = sets.Read(path).Manifest;
        if (manifest.Store.Engine != copy.OldStore.Engine)
            throw new TransferraException($"the set {path} holds a store of {manifest.Store.Engine}, and {copy.Code} has one of "
                + copy.OldStore.Engine, $"Make a new one: transferra backup {copy.Code}");
        string unpacked = Path.Combine(_made.Folder, "unpacked");
        _context.Volume.Remove(unpacked);
        using (ISetFile file = sets.OpenWhole(path, CompanyBackup.Scratch(_shadow.Office), (done, total) =>
            _context.Observer.Bytes("fetching", done, total), _context.Cancel))
        {
            IReadOnlyList<SetFault> faults = BackupSets.Unpack(file, unpacked, BackupSets.IsOfStore, (done, total) =>
                _context.Observer.Bytes("unpacking", done, total), cancel: _context.Cancel);
            if (faults.Count > 0) throw new TransferraException($"the set {path} is damaged: {faults[0].Member}: {faults[0].What}",
                "Heal it: transferra sets --heal.");
        }
        string store = Path.Combine(unpacked, "store", manifest.Store.Name);
        if (copy.OldStore.IsOnServer)
            foreach (string remark in StoreExport.Load(store, _context.Stores, copy.OldStore, _context.Observer, _context.Cancel))
                _context.Observer.Told("not brought into the copy: " + remark);
        else
        {
            _context.Volume.CreateFolder(copy.OldStore.Folder);
            _context.Volume.Rename(store, copy.OldStore.Path);
        }
        _context.Volume.Remove(unpacked);
        using IStore opened = _context.Stores.Open(copy.OldStore, from.TextEncoding);
        if (BackupSets.CompareRecords(manifest, Baseline.Of(opened, manifest.ShapesOf(opened, from), _context.Observer,
            _context.Cancel)) is [var fault, ..])
            throw new TransferraException($"what was restored from {path} is not what is in it: {fault.What}",
                "See what is wrong with the set: transferra sets --prove");
    }

    /// <summary>Removes what a rehearsal made; fine when it was interrupted anywhere.</summary>
    /// <param name="context">The office.</param>
    /// <param name="made">What it said it would make.</param>
    /// <returns>Whether all of it is gone.</returns>
    public static bool Remove(RunContext context, RehearsalMade made)
    {
        RunContext free = context with { Cancel = CancellationToken.None };
        var book = new Rehearsals(context.Office.Folder, context.Volume);
        bool isGone = true;
        try
        {
            var rehearsal = new RehearsalRun(free, made);
            foreach (StoreAddress database in rehearsal.Databases()) context.Places.Remove(database);
        }
        catch (Exception error) when (error is TransferraException or IOException or UnauthorizedAccessException)
        {
            isGone = false;
            context.Observer.Told($"What a rehearsal made on a server could not be removed: {error.Message}");
        }
        if (!isGone) return false;
        if (context.Volume.Exists(made.Folder))
        {
            if (!made.IsOurs && Directory.EnumerateFileSystemEntries(made.Folder).Any())
            {
                context.Observer.Told($"{made.Folder} is not what the rehearsal {made.Id} made, and is left as it is.");
                return false;
            }
            KeepResults(context, book, made);
            context.Volume.Remove(made.Folder);
        }
        book.Forget(made);
        return true;
    }

    // On servers, whatever its run may have made; each has a name that only a rehearsal gives.
    private IEnumerable<StoreAddress> Databases()
    {
        var all = new List<StoreAddress>();
        foreach (Company company in _shadow.Office.Companies)
        {
            if (company.OldStore.IsOnServer) all.Add(company.OldStore);
            if (company.MovesTo is { IsOnServer: true } to) all.Add(to);
        }
        foreach (Run run in new OfficeRuns(_shadow.Office, _shadow.Volume).List().Where(run => !run.IsBroken))
            foreach (CompanyRun on in run.Companies.Select(code => UpgradeRun.OnRun(_shadow, run, code)))
                all.AddRange(on.Way.Hops.Select(hop => on.Staged(hop.To.Name)).Append(on.Aside).Where(store => store.IsOnServer));
        return all.DistinctBy(store => store.Shown).Where(store => store.Name.StartsWith(StoreAddress.RunPrefix, StringComparison.Ordinal)
            && _context.Places.Exists(store));
    }
}
