// UpgradeRun.cs: takes companies through their stages, one after the other, and takes runs back. Which stages there are is a matter of the
// run's kind (RunKind.cs).
// Holds: (1) every stage is announced in the journal before it begins; (2) a company that stops is taken back to where it was, and the
// others go on, whatever the exception; (3) Resume and Undo need nothing but the journal and what is on the disk, and hold the one
// against the other
//        before they remove or claim anything.
using System.Globalization;
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Means;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Surveys;

namespace Transferra.Core.Runs;

/// <summary>How a company came out of a run.</summary>
/// <param name="Company">The company.</param>
/// <param name="IsThrough">Whether all stages are done.</param>
/// <param name="StoppedAt">The stage it stopped at; "" when it is through.</param>
/// <param name="Reasons">Why it stopped.</param>
public sealed record CompanyOutcome(string Company, bool IsThrough, string StoppedAt, IReadOnlyList<string> Reasons)
{
    /// <summary>Whether it is either through or back where it was. When it is neither, the run stays unfinished, to be resumed, undone or
    /// given up.</summary>
    public bool IsSettled { get; init; } = true;

    /// <summary>Whether it waits for a person to do something, and then goes on.</summary>
    public bool IsWaiting { get; init; }
}

/// <summary>What taking a run back came to.</summary>
/// <param name="Lines">What was done, a line each.</param>
/// <param name="IsWhole">Whether nothing that the run made is left anywhere.</param>
public sealed record UndoResult(IReadOnlyList<string> Lines, bool IsWhole);

/// <summary>Runs companies through stages.</summary>
public sealed class UpgradeRun
{
    private readonly RunContext _context;
    private readonly Run _run;

    private UpgradeRun(RunContext context, Run run) => (_context, _run) = (context, run);

    /// <summary>Begins a run: what stands here is what Resume and Undo will go by.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="kind">What is to be done.</param>
    /// <param name="companies">With the version each has now.</param>
    /// <param name="closing">The closing it is made in; "" for none.</param>
    /// <param name="despiteFaults">Whether companies whose check finds faults are tried all the same, without a change-over.</param>
    /// <param name="keepsBetween">Whether the stores between the hops of a long way stay, though both hops are proved.</param>
    public static Run Begin(RunContext context, RunKind kind, IReadOnlyList<(Company Company, KitVersion From)> companies,
        string closing = "", bool despiteFaults = false, bool keepsBetween = false)
    {
        if (kind.PutsInPlace)
            foreach ((Company company, KitVersion from) in companies) WholeStore.Require(context, company, company.OldStore, from,
                company.WayBetween(from.Name, kind.Target(company, from))?.IsOnCopy == true);
        var facts = new Dictionary<string, string>();
        if (closing.Length > 0) facts["closing"] = closing;
        if (despiteFaults) facts[CheckStage.DespiteFaults] = "yes";
        if (keepsBetween) facts[HopProofs.KeepBetween] = "yes";
        foreach ((string disk, string room) in DiskRoom.Facts(Disks(context, companies.Select(entry => entry.Company)))) facts[disk] = room;
        Func<Company, string?> installed = ProgramVersions.AtOneMoment(context.Office, context.ProgramVersion);
        foreach ((Company company, KitVersion from) in companies)
        {
            facts[$"{company.Code}.from"] = from.Name;
            facts[$"{company.Code}.to"] = kind.Target(company, from);
            facts[$"{company.Code}.store"] = company.OldStore.Shown;
            facts[$"{company.Code}.token"] = WorkFolder.NewToken();
            facts[$"{company.Code}.sha256"] = context.Places.DigestOf(company.OldStore, from.TextEncoding, context.Cancel);
            if (installed(company) is { } program) facts[$"{company.Code}.{RunReport.ProgramFact}"] = program;
            using IStore store = context.Stores.Open(company.OldStore, from.TextEncoding);
            // What the kit does not say of it, so that the run goes by what was there when it began.
            if (CustomFields.Of(store, company.Kit.Version(from.Name) ?? from) is { IsEmpty: false } custom)
                facts[$"{company.Code}.custom"] = custom.Written();
        }
        return new OfficeRuns(context.Office, context.Volume).Begin(kind.Name, [.. companies.Select(entry => entry.Company)], context.Tool,
            facts);
    }

    /// <summary>Does, or continues, a run that was begun.</summary>
    /// <exception cref="OperationCanceledException">Stopped by hand; resumable.</exception>
    public static IReadOnlyList<CompanyOutcome> Execute(RunContext context, Run run)
    {
        var upgrade = new UpgradeRun(context, run);
        CompanyOutcome[] outcomes = [.. run.Companies.Select(upgrade.Company)];
        if (outcomes.All(outcome => outcome.IsSettled))
            run.Journal.Append("", Stages.Run, "ended", outcomes.Select(outcome => KeyValuePair.Create(outcome.Company, outcome.IsThrough
                ? "through" : "stopped at " + outcome.StoppedAt)).Concat(DiskRoom.Facts(Disks(context, context.Office.Companies
                    .Where(company => run.Companies.Contains(company.Code))))).ToDictionary());
        return outcomes;
    }

    // What a run writes on: beside the stores, where the office keeps its runs, and where the sets go.
    private static IEnumerable<string> Disks(RunContext context, IEnumerable<Company> companies) => companies
        .Where(company => !company.OldStore.IsOnServer).Select(company => Path.GetDirectoryName(company.OldStore.Path)!)
        .Prepend(context.Office.Folder).Concat(context.Sets.Places.Select(place => place.LocalFolder).OfType<string>());

    /// <summary>Takes a run back, last stage first.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="run">The run, opened for writing.</param>
    /// <returns>What was done.</returns>
    /// <exception cref="TransferraException">A store is in use, or is not what the journal says; nothing was changed then.</exception>
    public static UndoResult Undo(RunContext context, Run run) => Undo(context, run, run.Companies);

    /// <summary>Takes some companies of a run back; the run is over when all of them are.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="run">The run, opened for writing.</param>
    /// <param name="codes">The companies.</param>
    /// <returns>What was done.</returns>
    /// <exception cref="TransferraException">A store is in use, or is not what the journal says; nothing was changed then.</exception>
    public static UndoResult Undo(RunContext context, Run run, IReadOnlyCollection<string> codes)
    {
        var upgrade = new UpgradeRun(context, run);
        (CompanyRun On, IReadOnlyList<Stage> Stages)[] companies = [.. run.Companies.Reverse().Where(codes.Contains).Select(upgrade.On)
            .Select(on => (on, StagesOf(on)))];
        // All is looked at before anything is taken back.
        foreach ((CompanyRun on, IReadOnlyList<Stage> stages) in companies)
        {
            IReadOnlyList<string> holders = context.Places.OpenedBy(on.Company.StoreNow(context.Places));
            if (holders.Count > 0)
                throw new TransferraException($"the store of {on.Company.Code} is open: {holders[0]}",
                    "Close it there, then undo again. Nothing was changed.");
            RefuseDisagreement(on, stages);
        }
        if (run.Companies.All(codes.Contains) && !run.IsUndoing) run.Journal.Append("", Stages.Run, "undoing");
        var lines = new List<string>();
        var failed = new List<string>();
        bool whole = true;
        foreach ((CompanyRun on, IReadOnlyList<Stage> stages) in companies)
        {
            try
            {
                foreach (TakenBack taken in upgrade.TakeBack(on, stages))
                {
                    lines.Add($"{on.Company.Code}: {taken.What}");
                    whole &= taken.IsWhole;
                }
            }
            catch (Exception error) when (!IsFatal(error, context))
            {
                // One company that cannot be taken back does not keep the others from it.
                failed.Add($"{on.Company.Code}: {upgrade.Words(error, on.Company.Code, "taking back")}");
            }
        }
        if (failed.Count > 0) throw new TransferraException(string.Join("\n", failed), "Put that right, then once more: transferra undo");
        if (run.Companies.All(code => codes.Contains(code) || upgrade.IsTakenBack(code))) run.Journal.Append("", Stages.Run, "undone");
        foreach (string left in Backup.Leftovers.Clear(context,
            [.. codes])) context.Observer.Told($"An interrupted backup left something that could not be removed: {left}");
        return new UndoResult(lines, whole);
    }

    private bool IsTakenBack(string code) => StagesOf(On(code)).Where(stage => stage.CanBeTakenBack).All(stage =>
        _run.Journal.Last(code, stage.Name) is null or { State: "taken-back" } || !IsAnnounced(code, stage.Name));

    private bool IsAnnounced(string code, string stage) =>
        _run.Journal.Entries.Any(entry => entry.Company == code && entry.Stage == stage && entry.State == "announced");

    // Stopped by hand it stays as it is, to be resumed; without the journal nothing more is done.
    private static bool IsFatal(Exception error, RunContext context) => error is JournalException || (error is OperationCanceledException
        && context.Cancel.IsCancellationRequested);

    // What is expected to go wrong says itself what to do; anything else is told as what it is, and kept for who mends it.
    private string Words(Exception error, string company, string stage)
    {
        if (error is TransferraException told) return told.Next.Length > 0 ? $"{told.Message}\n{told.Next}" : told.Message;
        if (error is not (IOException or UnauthorizedAccessException)) _context.Observer.Defect(company, stage, error);
        return Unforeseen.Words(error);
    }

    private static void RefuseDisagreement(CompanyRun on, IReadOnlyList<Stage> stages)
    {
        foreach (Stage stage in stages)
            if (stage.Disagreement() is { } what)
                throw new TransferraException($"{on.Company.Code}: {what}",
                    $"Nothing was changed. The journal {on.Run.Journal.FilePath} and the disk do not agree, "
                        + "so nothing is done on its word. "
                    + "To leave everything where it lies, and then bring the company back from a backup set: transferra undo --run "
                    + $"{on.Run.Id} --give-up");
    }

    /// <summary>Ends a run that can neither be finished nor taken back: everything stays where it lies.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="run">The run, opened for writing.</param>
    /// <returns>What lies where, a line each.</returns>
    public static IReadOnlyList<string> GiveUp(RunContext context, Run run)
    {
        var lines = new List<string>();
        foreach (string code in run.Companies)
        {
            CompanyRun on;
            try { on = new UpgradeRun(context, run).On(code); }
            catch (TransferraException error)
            {
                lines.Add($"{code}: {error.Message}");
                continue;
            }
            IEnumerable<(string What, StoreAddress Store)> places = [("the store's place", on.Company.OldStore),
                .. on.Company.MovesTo is { } to ? [("the new store's place", to)] : Array.Empty<(string, StoreAddress)>(),
                ("the original, set aside", on.Aside), .. HopOffice.IsLent(on)
                    ? [("the original, while a copy stands in its "
                        + "place", on.LentAside)] : Array.Empty<(string, StoreAddress)>(), ("the new store, staged", on.FinalStaged)];
            foreach ((string what, StoreAddress store) in places.DistinctBy(place => place.Store.Shown))
                lines.Add($"{code}: {what}: {store.Shown}{(context.Places.Exists(store) ? "" : " (nothing there)")}");
            if (on.Work.IsThere) lines.Add($"{code}: the run's folder, left as it is: {on.Work.FullPath}");
        }
        run.Journal.Append("", Stages.Run, "given-up");
        return lines;
    }

    private static IReadOnlyList<Stage> StagesOf(CompanyRun on) => RunKind.Of(on.Run).Stages(on);

    /// <summary>A company as a run has it.</summary>
    /// <exception cref="TransferraException">office.yaml or the kit no longer know it.</exception>
    public static CompanyRun OnRun(RunContext context, Run run, string code) => new UpgradeRun(context, run).On(code);

    private CompanyRun On(string code)
    {
        const string next = "Put office.yaml and the kit back as they were when the run began.";
        Company company = _context.Office.Companies.FirstOrDefault(company => company.Code == code)
            ?? throw new TransferraException($"the run {_run.Id} is about the company {code}, "
                + $"which is not in {OfficeLoader.FileName} any more", next);
        string from = _run.BegunFact(code, "from") ?? "", to = _run.BegunFact(code, "to") ?? "";
        if (RunKind.Of(_run).IsOfStoreNow)
            company = company with
            {
                OldStore = company.MovesTo?.Shown == _run.BegunFact(code, "store") ? company.MovesTo!
                : company.OldStore,
                MovesTo = null
            };
        if (_run.BegunFact(code, "store") is { } store && store != company.OldStore.Shown)
            throw new TransferraException($"the run {_run.Id} is about the store {store} of {code}, but {OfficeLoader.FileName} now "
                + $"names {company.OldStore.Shown}", next);
        KitVersion version = company.Kit.Version(from)
            ?? throw new TransferraException($"the kit {company.Kit.Id} has no version {from} any more", next);
        CustomFields custom = CustomFields.Read(_run.BegunFact(code, "custom"));
        return new CompanyRun(_context, _run, company, custom.In(version),
            custom.In(company.WayBetween(from, to)
                ?? throw new TransferraException($"the kit {company.Kit.Id} has no way from {from} to {to} any more",
            next)))
        {
            Ahead = company.WayBetween(from, company.WantedVersion) ?? new Way(version, []),
        };
    }

    private CompanyOutcome Company(string code)
    {
        CompanyRun on;
        IReadOnlyList<Stage> stages;
        try
        {
            on = On(code);
            stages = StagesOf(on);
            RefuseDisagreement(on, stages);
        }
        catch (Exception error) when (!IsFatal(error, _context))
        {
            // Nothing is known well enough to go on or to take back; the others go on.
            string reason = Words(error, code, "beginning");
            _context.Observer.StageEnds(code, Stages.Run, "stopped", reason, null);
            return new CompanyOutcome(code, false, Stages.Run, reason.Split('\n')) { IsSettled = false };
        }
        // Stopped before the run was interrupted: only the taking back may be left to do.
        if (_run.Journal.Entries.LastOrDefault(entry => entry.Company == code && entry.State == "stopped") is { } stopped)
            return Stopped(on, stages, stopped.Stage, stopped.Facts.GetValueOrDefault("reason") ?? "");
        foreach (Stage stage in stages)
        {
            _context.Cancel.ThrowIfCancellationRequested();
            if (_run.IsDone(code, stage.Name)) continue;
            _context.Observer.StageBegins(code, stage.Name);
            try
            {
                if (Try(stage) is { } reason) return Stopped(on, stages, stage.Name, reason);
            }
            catch (WaitsForHandException waits)
            {
                _context.Observer.Told($"{code} waits for you. Do this, in this order (to print: {waits.Page}):");
                for (int i = 0; i < waits.Steps.Count; i++) _context.Observer.Told(string.Create(CultureInfo.InvariantCulture,
                    $"  {i + 1}. {waits.Steps[i]}"));
                return new CompanyOutcome(code, false, stage.Name, ["The steps above are to be done by hand."])
                {
                    IsSettled = false,
                    IsWaiting = true
                };
            }
        }
        return new CompanyOutcome(code, true, "", []);
    }

    // Null when the stage is done and proved; otherwise why not.
    private string? Try(Stage stage)
    {
        string code = stage.CompanyCode;
        object? result = null;
        string? reason;
        try
        {
            IReadOnlyList<string> obstacles = stage.Obstacles();
            if (obstacles.Count > 0) reason = string.Join("\n", obstacles);
            else
            {
                _run.Journal.Append(code, stage.Name, "announced", stage.Plan());
                StageOutcome outcome = stage.Do();
                if (outcome.IsGood) outcome = stage.Prove(outcome);
                result = outcome.Result;
                if (outcome.IsGood)
                {
                    _run.Journal.Append(code, stage.Name, "done", outcome.Facts);
                    _context.Observer.StageEnds(code, stage.Name, "done", outcome.Summary, result);
                    return null;
                }
                reason = outcome.Summary;
            }
        }
        catch (Exception error) when (!IsFatal(error, _context) && error is not WaitsForHandException)
        {
            reason = Words(error, code, stage.Name);
        }
        // When even this cannot be written, the disk is gone: the run stays unfinished, to be resumed or undone.
        _run.Journal.Append(code, stage.Name, "stopped", new Dictionary<string, string> { ["reason"] = reason });
        _context.Observer.StageEnds(code, stage.Name, "stopped", reason, result);
        return reason;
    }

    private CompanyOutcome Stopped(CompanyRun on, IReadOnlyList<Stage> stages, string at, string reason)
    {
        try
        {
            TakeBack(on, stages);
        }
        catch (Exception error) when (!IsFatal(error, _context))
        {
            reason = $"{reason}\nIt could not be taken back: {Words(error, on.Company.Code, "taking back")}";
            _context.Observer.StageEnds(on.Company.Code, at, "stopped", reason, null);
            return new CompanyOutcome(on.Company.Code, false, at, reason.Split('\n')) { IsSettled = false };
        }
        return new CompanyOutcome(on.Company.Code, false, at, reason.Split('\n'));
    }

    private List<TakenBack> TakeBack(CompanyRun on, IReadOnlyList<Stage> stages)
    {
        var done = new List<TakenBack>();
        foreach (Stage stage in stages.Reverse().Where(stage => stage.CanBeTakenBack))
        {
            JournalEntry? last = _run.Journal.Last(on.Company.Code, stage.Name);
            if (last is null or { State: "taken-back" }) continue;
            // A stage that stopped at its obstacles has done nothing; what it may have done is known from its announcement.
            if (!IsAnnounced(on.Company.Code, stage.Name)) continue;
            _run.Journal.Append(on.Company.Code, stage.Name, "taking-back");
            TakenBack? taken = stage.TakeBack();
            _run.Journal.Append(on.Company.Code, stage.Name, "taken-back", taken is null ? null : new Dictionary<string,
                string>
            { ["what"] = taken.What });
            if (taken is null) continue;
            done.Add(taken);
            _context.Observer.StageEnds(on.Company.Code, stage.Name, "taken-back", taken.What, null);
        }
        return done;
    }
}
