// ClosedTime.cs: how long the office will be closed, as a range: from earlier runs of the same company when there are any, otherwise from
// what is read and written of it in a moment. An estimate, and said to be one.
using System.Diagnostics;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;

namespace Transferra.Core.Gates;

/// <summary>How long a company will take.</summary>
/// <param name="Company">The company.</param>
/// <param name="Records">Records in its old store.</param>
/// <param name="Shortest">Lower end of the range.</param>
/// <param name="Longest">Upper end.</param>
/// <param name="Basis">What it rests on, in words.</param>
public sealed record ClosedTimeOfCompany(string Company, long Records, TimeSpan Shortest, TimeSpan Longest, string Basis);

/// <summary>Estimates.</summary>
public static class ClosedTime
{
    // How often an upgrade goes over the records: digest, check, backup with its proof, conversion, match of both stores, digests of
    // both, check again.
    private const int Readings = 10, BytesWritten = 4;
    private static readonly TimeSpan Sample = TimeSpan.FromSeconds(1);
    private const double Below = 0.6, Above = 2.0;

    /// <summary>How far from what an earlier run or rehearsal took it may come.</summary>
    public const double BelowKnown = 0.8, AboveKnown = 1.3;

    /// <summary>The range for a company.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="candidate">The company.</param>
    /// <param name="runs">Runs of the office, newest first.</param>
    public static ClosedTimeOfCompany Of(RunContext context, Candidate candidate, IReadOnlyList<Run> runs)
    {
        Company company = candidate.Company;
        // The newest of both is nearest to what there is now.
        if (new[] { Earlier(context, company.Code, runs), Rehearsed(context, company) }.OfType<(string What, DateTimeOffset At,
            TimeSpan Took, long Records)>().Where(known => known.Records > 0).OrderByDescending(known => known.At).FirstOrDefault()
            is { What: not null } earlier)
        {
            TimeSpan expected = earlier.Took * ((double)Math.Max(1, candidate.Survey.Records) / earlier.Records);
            return new ClosedTimeOfCompany(company.Code, candidate.Survey.Records, expected * BelowKnown, expected * AboveKnown,
                $"{earlier.What} took {Words(earlier.Took)}");
        }
        (double perSecond, long sampled) = ReadingRate(context, company, candidate.From!);
        (double written, string how) = WritingRate(context, company);
        TimeSpan guess = TimeSpan.FromSeconds(1 + Readings * candidate.Survey.Records / perSecond
            + (BytesWritten * candidate.Survey.StoreBytes + 2 * candidate.Survey.DocumentBytes) / written);
        return new ClosedTimeOfCompany(company.Code, candidate.Survey.Records, guess * Below, guess * Above,
            FormattableString.Invariant($"read {sampled:#,0} records at {perSecond:#,0}/s, {how}"));
    }

    // The newest run in which the company went through all its stages: the time between their announcements and ends.
    private static (string What, DateTimeOffset At, TimeSpan Took, long Records)? Earlier(RunContext context, string code,
        IReadOnlyList<Run> runs)
    {
        foreach (Run run in runs.Where(run => !run.IsBroken && run.Kind == RunKind.Upgrade.Name && run.Companies.Contains(code)))
        {
            CompanyReport? report = RunReport.Of(context.Office, run).Companies.FirstOrDefault(company => company.Code == code);
            if (report is null || report.Stages.Count == 0 || report.Check is null || report.Stages.Any(stage => stage.Seconds is null)
                || !run.Journal.Entries.Any(entry => entry.Company == code && entry is { Stage: Stages.ChangeOver, State: "done" }))
                continue;
            return ($"the run {run.Id}", run.BegunAt ?? default, TimeSpan.FromSeconds(report.Stages.Sum(stage => stage.Seconds ?? 0)),
                report.Check.Tables.Values.Sum());
        }
        return null;
    }

    // The newest rehearsal in which it came through the same way.
    private static (string What, DateTimeOffset At, TimeSpan Took, long Records)? Rehearsed(RunContext context, Company company)
    {
        foreach (Rehearsal rehearsal in new Rehearsals(context.Office.Folder, context.Volume).List())
            if (rehearsal.Companies.FirstOrDefault(one => one.Company == company.Code && one.To == company.WantedVersion
                && one.Outcome == "through") is { } known)
                return (FormattableString.Invariant($"the rehearsal of {rehearsal.At:yyyy-MM-dd HH:mm} UTC"), rehearsal.At,
                    TimeSpan.FromSeconds(known.Seconds), known.Records);
        return null;
    }

    private static (double PerSecond, long Sampled) ReadingRate(RunContext context, Company company, KitVersion from)
    {
        using IStore store = context.Stores.Open(company.OldStore, from.TextEncoding);
        long rows = 0;
        var clock = Stopwatch.StartNew();
        // The largest tables are what takes the time.
        foreach (TableShape table in store.ReadShape().OrderByDescending(table => store.AboutRows(table.Name)))
        {
            foreach (RecordBatch batch in store.Batches(table, [], context.Cancel))
            {
                rows += batch.RowCount;
                if (clock.Elapsed > Sample) return (rows / clock.Elapsed.TotalSeconds, rows);
            }
        }
        return (Math.Max(1, rows) / Math.Max(0.001, clock.Elapsed.TotalSeconds), rows);
    }

    private const double AssumedRate = 50e6;

    // Bytes a second onto the disk itself.
    private static (double Rate, string How) WritingRate(RunContext context, Company company)
    {
        string folder = company.NewStore.IsOnServer ? context.Office.Folder : company.NewStore.Folder;
        try
        {
            double rate = context.Volume.TryRate(folder);
            return (rate, $"wrote at {Sizes.Of((long)rate)}/s");
        }
        // A full disk or a folder that may not be written is told by the gates; the estimate says what it rests on.
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return (AssumedRate,
            $"assumed {Sizes.Of((long)AssumedRate)}/s of writing, which could not be tried");
        }
    }

    /// <summary>A time in words.</summary>
    public static string Words(TimeSpan time) => time.TotalSeconds < 90
        ? FormattableString.Invariant($"{Math.Max(1, time.TotalSeconds):0} s")
        : time.TotalMinutes < 90 ? FormattableString.Invariant($"{time.TotalMinutes:0} min")
            : FormattableString.Invariant($"{time.TotalHours:0.0} h");
}
