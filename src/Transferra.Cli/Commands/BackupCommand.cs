// BackupCommand.cs: backup: sets in every place, each proved.
using Transferra.Cli.Rendering;
using Transferra.Core.Backup;
using Transferra.Core.Kits;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;

namespace Transferra.Cli.Commands;

internal static class BackupCommand
{
    private sealed record CompanyBackedUp(string Company, IReadOnlyList<BackupResult> Sets)
    {
        public double Seconds { get; init; }

        /// <summary>Why there is no set at all; null when there is one.</summary>
        public string? Failed { get; init; }
    }

    public static int Run(Session session)
    {
        using IDisposable one = session.LockStores();
        var observer = new ScreenObserver(session.Screen);
        RunContext context = session.Context(observer);
        (Company Company, KitVersion Version)[] companies = [.. session.Companies.Select(company => (company, Companies.VersionOf(company)))];
        var results = new List<CompanyBackedUp>();
        foreach ((Company company, KitVersion version) in companies)
        {
            session.Screen.Heading($"{company.Code}  backup: a copy that is proved");
            var clock = System.Diagnostics.Stopwatch.StartNew();
            IReadOnlyList<BackupResult> sets;
            try
            {
                sets = CompanyBackup.Run(context with { Observer = observer.At(company.Code + " backup") }, company, version);
            }
            catch (TransferraException error)
            {
                // A company that cannot be backed up does not keep the others from it.
                session.Screen.Bad($"NOT backed up: {error.Message}");
                if (error.Next.Length > 0) session.Screen.Line(error.Next);
                results.Add(new CompanyBackedUp(company.Code, []) { Seconds = clock.Elapsed.TotalSeconds, Failed = error.Message });
                continue;
            }
            Results.Backups(session.Screen, sets);
            results.Add(new CompanyBackedUp(company.Code, sets) { Seconds = clock.Elapsed.TotalSeconds });
        }
        session.Screen.Heading("How it came out");
        session.Screen.Table(["Company", ">Files", ">Size", ">Set", ">Took", "Places proved"], results.Select(result => (IReadOnlyList<string>)
        [
            result.Company, Results.Number(Most(result, set => set.Files)), Sizes.Of(Most(result, set => set.ContentBytes)), Sizes.Of(Most(result, set => set.Bytes)),
            result.Seconds.ToString("0.0 s", System.Globalization.CultureInfo.InvariantCulture),
                FormattableString.Invariant($"{result.Sets.Count(set => set.IsProved)} of {context.Sets.Places.Count}"),
        ]));
        static long Most(CompanyBackedUp result, Func<BackupResult, long> value) => result.Sets.Select(value).DefaultIfEmpty().Max();
        bool enough = results.All(result => result.Sets.Count(set => set.IsProved) >= session.Office.Backup.Wanted);
        return session.Answer(!enough ? ExitCodes.Unproved : results.All(result => result.Sets.All(set => set.IsProved)) ? ExitCodes.Done : ExitCodes.LookAt, results);
    }
}
