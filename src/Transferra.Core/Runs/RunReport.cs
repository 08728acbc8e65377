// RunReport.cs: everything a run's journal and result files say, put together for the sign-off. Reads only.
using Transferra.Core.Backup;
using Transferra.Core.Checks;
using Transferra.Core.Machine;
using Transferra.Core.Matching;
using Transferra.Core.Mending;
using Transferra.Core.Office;
using Transferra.Core.Surveys;

namespace Transferra.Core.Runs;

/// <summary>A stage as it went.</summary>
/// <param name="Stage">Its name.</param>
/// <param name="State">Its last state in the journal.</param>
/// <param name="Began">When it was announced; null when it never was.</param>
/// <param name="Seconds">How long it took; null while unknown.</param>
/// <param name="Remark">Why it stopped, or what was taken back; "" otherwise.</param>
public sealed record StageReport(string Stage, string State, DateTimeOffset? Began, double? Seconds, string Remark);

/// <summary>A company as it went.</summary>
/// <param name="Code">Its code.</param>
/// <param name="Name">Its name.</param>
/// <param name="Package">Its package.</param>
/// <param name="From">Old data version.</param>
/// <param name="To">New data version.</param>
/// <param name="Outcome">through, stopped, undone or unfinished.</param>
/// <param name="Reasons">Why it stopped.</param>
/// <param name="Stages">In order.</param>
/// <param name="OldStoreSha256">Digest of the old store before anything was done.</param>
/// <param name="SetAside">Where the old store is kept; "" when it is in its place.</param>
/// <param name="Check">The check before.</param>
/// <param name="Backups">The backup sets.</param>
/// <param name="Conversion">The conversion.</param>
/// <param name="Match">The proof.</param>
/// <param name="CheckAgain">The check after.</param>
public sealed record CompanyReport(string Code, string Name, string Package, string From, string To, string Outcome,
    IReadOnlyList<string> Reasons,
    IReadOnlyList<StageReport> Stages,
    string OldStoreSha256, string SetAside, CheckResult? Check, IReadOnlyList<BackupResult>? Backups, ConvertResult? Conversion,
        WayMatched? Match, CheckResult? CheckAgain)
{
    /// <summary>The installed program; null where nothing tells its version.</summary>
    public ProgramMatched? Program { get; init; }

    /// <summary>What was mended; null in runs that do not mend.</summary>
    public MendResult? Mending { get; init; }
}

/// <summary>A run as it went.</summary>
/// <param name="Run">Its name.</param>
/// <param name="Kind">upgrade, convert, mend or restore.</param>
/// <param name="State">ended, undone, undoing or unfinished.</param>
/// <param name="Office">The office.</param>
/// <param name="By">Who began it.</param>
/// <param name="Tool">Version of this program that began it.</param>
/// <param name="BegunAt">When it began.</param>
/// <param name="LastAt">When its last line was written.</param>
/// <param name="JournalPath">Its journal.</param>
/// <param name="JournalLines">How many lines that has.</param>
/// <param name="JournalSha256">Digest of the journal's last line.</param>
/// <param name="Companies">Its companies.</param>
public sealed record RunReport(string Run, string Kind, string State, string Office, string By, string Tool, DateTimeOffset BegunAt,
    DateTimeOffset LastAt,
    string JournalPath, int JournalLines,
    string JournalSha256, IReadOnlyList<CompanyReport> Companies)
{
    /// <summary>What has to be said before the results of a company whose outcome is "undone".</summary>
    public const string TakenBackSince = "This company was taken back afterwards. What follows was recorded before that.";

    /// <summary>Fact of a company when a run begins: the version of its program.</summary>
    internal const string ProgramFact = "program";

    /// <summary>The closing that the run was made in; null when there was none.</summary>
    public ClosingReport? Closing { get; init; }

    /// <summary>The disks it worked on.</summary>
    public IReadOnlyList<DiskRoom> Disks { get => field ?? []; init; }

    /// <summary>Puts a run's report together.</summary>
    /// <param name="office">The office.</param>
    /// <param name="run">The run.</param>
    /// <param name="programNow">Tells the version of the program that is installed for a company now; null where nobody asks.</param>
    public static RunReport Of(OfficeDescription office, Run run, Func<Company, string?>? programNow = null)
    {
        Journal journal = run.Journal;
        if (journal.Damage is { } damage) throw damage;
        if (journal.Entries.Count == 0)
            throw new TransferraException($"the run {run.Id} was interrupted before its first line was written, "
                + "so there is nothing to report", "Nothing was done in it.");
        if (programNow is not null) programNow = ProgramVersions.AtOneMoment(office, programNow);
        JournalEntry begun = journal.Entries[0];
        string state = run.IsUndone ? "undone" : run.IsUndoing ? "undoing" : run.IsGivenUp ? "given up" : run.IsUnfinished ? "unfinished"
            : "ended";
        return new RunReport(run.Id, run.Kind, state, begun.Facts.GetValueOrDefault("office") ?? office.Name,
            begun.Facts.GetValueOrDefault("by") ?? "",
            begun.Facts.GetValueOrDefault("tool") ?? "",
            begun.At, journal.Entries[^1].At, journal.FilePath, journal.Entries.Count, journal.LastDigest,
                [.. run.Companies.Select(code => OfCompany(office, run, code, programNow))])
        {
            Closing = begun.Facts.GetValueOrDefault("closing") is { Length: > 0 } closing ? ClosingReport.Of(office.Folder, closing) : null,
            Disks = DiskRoom.Of(begun.Facts, journal.Entries.LastOrDefault(entry => entry is
            {
                Stage: Runs.Stages.Run,
                State: "ended"
            })?.Facts),
        };
    }

    private static CompanyReport OfCompany(OfficeDescription office, Run run, string code, Func<Company, string?>? programNow)
    {
        Company? company = office.Companies.FirstOrDefault(company => company.Code == code);
        JournalEntry[] entries = [.. run.Journal.Entries.Where(entry => entry.Company == code)];
        StageReport[] stages = [.. entries.GroupBy(entry => entry.Stage).Select(stage => OfStage([.. stage]))];
        JournalEntry? stopped = entries.LastOrDefault(entry => entry.State == "stopped");
        // A company can be undone alone; one that stopped was taken back by the stop.
        string outcome = run.IsUndone ? "undone" : run.IsGivenUp ? "given up" : stopped is not null ? "stopped"
            : stages.Any(stage => stage.State == "taken-back") ? "undone" : run.IsUnfinished ? "unfinished" : "through";
        JournalEntry? changeOver = entries.LastOrDefault(entry => entry is
        {
            Stage: Runs.Stages.ChangeOver,
            State: "done" or "taken-back"
        });
        string folder = Path.Combine(run.Folder, code), to = run.BegunFact(code, "to") ?? "";
        return new CompanyReport(code, company?.Name ?? "", company?.Kit.Title ?? "", run.BegunFact(code, "from") ?? "",
            to, outcome,
            stopped?.Facts.GetValueOrDefault("reason")?.Split('\n') ?? [], stages, run.BegunFact(code, "sha256") ?? "",
                changeOver?.State == "done"
                ? changeOver.Facts.GetValueOrDefault("aside") ?? "" : "",
            Load<CheckResult>(folder, Runs.Stages.Check), Load<List<BackupResult>>(folder, Runs.Stages.Backup),
                Load<ConvertResult>(folder, Runs.Stages.Convert),
            Load<WayMatched>(folder, Runs.Stages.Match), Load<CheckResult>(folder, Runs.Stages.CheckAgain))
        {
            Program = company?.Kit.Version(to) is { } data ? ProgramVersions.Matched(run.BegunFact(code, ProgramFact),
                programNow?.Invoke(company), data) : null,
            Mending = Load<MendResult>(folder, Runs.Stages.Mend),
        };
    }

    private static StageReport OfStage(JournalEntry[] entries)
    {
        JournalEntry last = entries[^1];
        JournalEntry? announced = entries.LastOrDefault(entry => entry.State == "announced"),
            ended = entries.LastOrDefault(entry => entry.State is "done" or "stopped");
        double? seconds = announced is not null && ended is not null && ended.Number > announced.Number
            ? (ended.At - announced.At).TotalSeconds : null;
        string remark = entries.LastOrDefault(entry => entry.State == "stopped")?.Facts.GetValueOrDefault("reason")
            ?? last.Facts.GetValueOrDefault("what") ?? "";
        return new StageReport(last.Stage, last.State, announced?.At, seconds, remark);
    }

    private static T? Load<T>(string folder, string name) =>
        ResultJson.Load(Path.Combine(folder, name + ".json"), ResultJson.Of<T>(RunsJson.Form));
}
