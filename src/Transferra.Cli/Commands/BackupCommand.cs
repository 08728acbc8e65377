// BackupCommand.cs: backup: sets in every place, each proved.
using Transferra.Cli.Rendering;
using Transferra.Core.Backup;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Runs;

namespace Transferra.Cli.Commands;

internal static class BackupCommand
{
    /// <summary>What is typed for it.</summary>
    public static void Declare(CommandSet commands)
    {
        commands.Add("backup", "Write backup sets and prove each by reading it back", [commands.Codes], (session, _) => Run(session));
    }

    private sealed record CompanyBackedUp(string Company, IReadOnlyList<BackupResult> Sets)
    {
        public double Seconds { get; init; }

        /// <summary>Why there is no set at all; null when there is one.</summary>
        public string? Failed { get; init; }
    }

    public static int Run(Session session)
    {
        using IDisposable one = session.LockStores();
        var observer = session.Observer();
        RunContext context = session.Context(observer);
        var results = new List<CompanyBackedUp>();
        foreach (Company company in session.Companies)
        {
            session.Screen.Heading($"{company.Code}  backup: a copy that is proved");
            var clock = System.Diagnostics.Stopwatch.StartNew();
            IReadOnlyList<BackupResult> sets = [];
            // A company that cannot be backed up does not keep the others from it.
            Exception? error = session.Attempt(company.Code, "backup", () =>
                sets = CompanyBackup.Run(context with { Observer = observer.At(company.Code + " backup") }, company,
                    Companies.VersionOf(company)));
            if (error is not null && session.Companies.Count == 1) System.Runtime.ExceptionServices.ExceptionDispatchInfo.Throw(error);
            string? failed = error is null ? null : session.TellFailed("NOT backed up", error);
            if (failed is null) Results.Backups(session.Screen, sets);
            results.Add(new CompanyBackedUp(company.Code, sets) { Seconds = clock.Elapsed.TotalSeconds, Failed = failed });
        }
        session.Screen.Heading("How it came out");
        session.Screen.Table(["Company", ">Files", ">Size", ">Set", ">Took", "Places proved"],
            results.Select(result => (IReadOnlyList<string>)
        [
            result.Company, Results.Number(Most(result, set => set.Files)), Sizes.Of(Most(result, set => set.ContentBytes)),
                Sizes.Of(Most(result, set => set.Bytes)),
            Durations.Of(result.Seconds),
                FormattableString.Invariant($"{result.Sets.Count(set => set.IsProved)} of {context.Sets.Places.Count}"),
        ]));
        static long Most(CompanyBackedUp result, Func<BackupResult, long> value) => result.Sets.Select(value).DefaultIfEmpty().Max();
        bool enough = results.All(result => result.Sets.Count(set => set.IsProved) >= session.Office.Backup.Wanted);
        return session.Answer(!enough ? ExitCodes.Unproved
            : results.All(result => result.Sets.All(set => set.IsProved && set.Doubts.Count == 0)) ? ExitCodes.Done : ExitCodes.LookAt,
            results);
    }
}
