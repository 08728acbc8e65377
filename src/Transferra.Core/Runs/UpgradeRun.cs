// UpgradeRun.cs: takes companies through their stages, one after the other, and takes runs back.
// Holds: (1) every stage is announced in the journal before it begins; (2) a company that stops is taken back to where it was, and the
//        others go on; (3) Resume and Undo need nothing but the journal and what is on the disk.
using Transferra.Core.Conversion;
using Transferra.Core.Kits;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Runs;

/// <summary>How a company came out of a run.</summary>
/// <param name="Company">The company.</param>
/// <param name="IsThrough">Whether all stages are done.</param>
/// <param name="StoppedAt">The stage it stopped at; "" when it is through.</param>
/// <param name="Reasons">Why it stopped.</param>
public sealed record CompanyOutcome(string Company, bool IsThrough, string StoppedAt, IReadOnlyList<string> Reasons);

/// <summary>Runs companies through stages.</summary>
public sealed class UpgradeRun
{
    private readonly RunContext _context;
    private readonly Run _run;

    private UpgradeRun(RunContext context, Run run) => (_context, _run) = (context, run);

    /// <summary>Begins a run: what stands here is what Resume and Undo will go by.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="kind">upgrade, convert or mend.</param>
    /// <param name="companies">With the version each has now.</param>
    /// <param name="closing">The closing it is made in; "" for none.</param>
    public static Run Begin(RunContext context, string kind, IReadOnlyList<(Company Company, KitVersion From)> companies, string closing = "")
    {
        var facts = new Dictionary<string, string>();
        if (closing.Length > 0) facts["closing"] = closing;
        foreach ((Company company, KitVersion from) in companies)
        {
            facts[$"{company.Code}.from"] = from.Name;
            facts[$"{company.Code}.to"] = kind == Stages.Mend ? from.Name : company.WantedVersion;
            facts[$"{company.Code}.store"] = company.OldStore.Shown;
            facts[$"{company.Code}.sha256"] = context.Places.DigestOf(company.OldStore, from.TextEncoding, context.Cancel);
            using IStore store = context.Stores.Open(company.OldStore, from.TextEncoding);
            if (CustomFields.Of(store, from) is { IsEmpty: false } custom) facts[$"{company.Code}.custom"] = custom.Written();
        }
        return new OfficeRuns(context.Office, context.Volume).Begin(kind, [.. companies.Select(entry => entry.Company)], context.Tool, facts);
    }

    /// <summary>Does, or goes on with, a run that was begun.</summary>
    /// <exception cref="OperationCanceledException">Stopped by hand; resumable.</exception>
    public static IReadOnlyList<CompanyOutcome> Execute(RunContext context, Run run)
    {
        var upgrade = new UpgradeRun(context, run);
        CompanyOutcome[] outcomes = [.. run.Companies.Select(upgrade.Company)];
        run.Journal.Append("", Stages.Run, "ended", outcomes.ToDictionary(outcome => outcome.Company, outcome => outcome.IsThrough ? "through" : "stopped at "
            + outcome.StoppedAt));
        return outcomes;
    }

    /// <summary>Takes a run back, last stage first.</summary>
    /// <returns>What was done, a line each.</returns>
    /// <exception cref="TransferraException">A store is in use, or is not what it was.</exception>
    public static IReadOnlyList<string> Undo(RunContext context, Run run)
    {
        var upgrade = new UpgradeRun(context, run);
        CompanyRun[] companies = [.. run.Companies.Reverse().Select(upgrade.On)];
        foreach (CompanyRun on in companies)
        {
            IReadOnlyList<string> holders = context.Places.OpenedBy(on.Company.StoreNow(context.Places));
            if (holders.Count > 0)
                throw new TransferraException($"the store of {on.Company.Code} is open: {holders[0]}", "Close it there, then undo again. Nothing was changed.");
        }
        if (!run.IsUndoing) run.Journal.Append("", Stages.Run, "undoing");
        List<string> lines = [.. companies.SelectMany(on => upgrade.TakeBack(on, StagesOf(on)))];
        run.Journal.Append("", Stages.Run, "undone");
        return lines;
    }

    private static IReadOnlyList<Stage> StagesOf(CompanyRun on) => on.Run.Kind switch
    {
        "convert" => [new ConvertStage(on)],
        "restore" => [new PutBackStage(on)],
        Stages.Mend => [new CheckStage(on), new BackupStage(on), new MendStage(on), new ChangeOverStage(on), new CheckMendedStage(on)],
        _ => [new CheckStage(on), new BackupStage(on), new ConvertStage(on), new MatchStage(on), new ChangeOverStage(on), new CheckAgainStage(on)],
    };

    /// <summary>A company as a run has it.</summary>
    /// <exception cref="TransferraException">office.yaml or the kit no longer know it.</exception>
    public static CompanyRun OnRun(RunContext context, Run run, string code) => new UpgradeRun(context, run).On(code);

    private CompanyRun On(string code)
    {
        const string next = "Put office.yaml and the kit back as they were when the run began.";
        Company company = _context.Office.Companies.FirstOrDefault(company => company.Code == code)
            ?? throw new TransferraException($"the run {_run.Id} is about the company {code}, which is not in {OfficeLoader.FileName} any more", next);
        string from = _run.BegunFact(code, "from") ?? "", to = _run.BegunFact(code, "to") ?? "";
        // What is mended is the store where it is now, which may be the new place of an engine that was changed.
        if (_run.Kind == Stages.Mend)
            company = company with { OldStore = company.MovesTo?.Shown == _run.BegunFact(code, "store") ? company.MovesTo! : company.OldStore, MovesTo = null };
        if (_run.BegunFact(code, "store") is { } store && store != company.OldStore.Shown)
            throw new TransferraException($"the run {_run.Id} is about the store {store} of {code}, but {OfficeLoader.FileName} now names {company.OldStore.Shown}", next);
        KitVersion version = company.Kit.Version(from) ?? throw new TransferraException($"the kit {company.Kit.Id} has no version {from} any more", next);
        CustomFields custom = CustomFields.Read(_run.BegunFact(code, "custom"));
        return new CompanyRun(_context, _run, company, custom.In(version),
            custom.In(company.Kit.WayFrom(from, to) ?? throw new TransferraException($"the kit {company.Kit.Id} has no way from {from} to {to} any more",
            next)))
        {
            Ahead = company.Kit.WayFrom(from, company.WantedVersion)?.FirstOrDefault(),
        };
    }

    private CompanyOutcome Company(string code)
    {
        CompanyRun on = On(code);
        IReadOnlyList<Stage> stages = StagesOf(on);
        // Stopped before the run was broken off: only the taking back may be left to do.
        if (_run.Journal.Entries.LastOrDefault(entry => entry.Company == code && entry.State == "stopped") is { } stopped)
            return Stopped(on, stages, stopped.Stage, stopped.Facts.GetValueOrDefault("reason") ?? "");
        foreach (Stage stage in stages)
        {
            _context.Cancel.ThrowIfCancellationRequested();
            if (_run.IsDone(code, stage.Name)) continue;
            _context.Observer.StageBegins(code, stage.Name);
            if (Try(stage) is { } reason) return Stopped(on, stages, stage.Name, reason);
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
        catch (TransferraException error)
        {
            reason = error.Next.Length > 0 ? $"{error.Message}\n{error.Next}" : error.Message;
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            reason = error.Message;
        }
        // When even this cannot be written, the disk is gone: the run stays unfinished, to be resumed or undone.
        _run.Journal.Append(code, stage.Name, "stopped", new Dictionary<string, string> { ["reason"] = reason });
        _context.Observer.StageEnds(code, stage.Name, "stopped", reason, result);
        return reason;
    }

    private CompanyOutcome Stopped(CompanyRun on, IReadOnlyList<Stage> stages, string at, string reason)
    {
        TakeBack(on, stages);
        return new CompanyOutcome(on.Company.Code, false, at, reason.Split('\n'));
    }

    private List<string> TakeBack(CompanyRun on, IReadOnlyList<Stage> stages)
    {
        var lines = new List<string>();
        foreach (Stage stage in stages.Reverse().Where(stage => stage.CanBeTakenBack))
        {
            JournalEntry? last = _run.Journal.Last(on.Company.Code, stage.Name);
            if (last is null or { State: "taken-back" }) continue;
            // A stage that stopped at its obstacles has done nothing; what it may have done is known from its announcement.
            if (!_run.Journal.Entries.Any(entry => entry.Company == on.Company.Code && entry.Stage == stage.Name && entry.State == "announced")) continue;
            var facts = new Dictionary<string, string>();
            _run.Journal.Append(on.Company.Code, stage.Name, "taking-back");
            string? line = stage.TakeBack();
            if (line is not null) facts["what"] = line;
            _run.Journal.Append(on.Company.Code, stage.Name, "taken-back", facts);
            if (line is null) continue;
            lines.Add($"{on.Company.Code}: {line}");
            _context.Observer.StageEnds(on.Company.Code, stage.Name, "taken-back", line, null);
        }
        return lines;
    }
}
