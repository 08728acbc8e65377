// BackupCommand.cs: backup: sets in every place, each proved.
using Transferra.Cli.Rendering;
using Transferra.Core.Kits;
using Transferra.Core.Office;
using Transferra.Core.Runs;

namespace Transferra.Cli.Commands;

internal static class BackupCommand
{
    private sealed record CompanyBackedUp(string Company, IReadOnlyList<BackupResult> Sets)
    {
        public double Seconds { get; init; }
    }

    public static int Run(Session session)
    {
        using IDisposable one = session.Lock();
        var observer = new ScreenObserver(session.Screen);
        RunContext context = session.Context(observer);
        (Company Company, KitVersion Version)[] companies = [.. session.Companies.Select(company => (company, Companies.VersionOf(company)))];
        var results = new List<CompanyBackedUp>();
        foreach ((Company company, KitVersion version) in companies)
        {
            session.Screen.Heading($"{company.Code}  backup: a copy that is proved");
            var clock = System.Diagnostics.Stopwatch.StartNew();
            IReadOnlyList<BackupResult> sets = CompanyBackup.Run(context with { Observer = observer.At(company.Code + " backup") }, company, version);
            Results.Backups(session.Screen, sets);
            results.Add(new CompanyBackedUp(company.Code, sets) { Seconds = clock.Elapsed.TotalSeconds });
        }
        session.Screen.Heading("How it came out");
        session.Screen.Table(["Company", ">Files", ">Size", ">Set", ">Took", "Places proved"], results.Select(result => (IReadOnlyList<string>)
        [
            result.Company, Results.Number(result.Sets.Max(set => set.Files)), Sizes.Of(result.Sets.Max(set => set.ContentBytes)), Sizes.Of(result.Sets.Max(set => set.Bytes)),
            result.Seconds.ToString("0.0 s", System.Globalization.CultureInfo.InvariantCulture), FormattableString.Invariant($"{result.Sets.Count(set => set.IsProved)} of {result.Sets.Count}"),
        ]));
        bool enough = results.All(result => result.Sets.Count(set => set.IsProved) >= session.Office.BackupsWanted);
        return session.Answer(!enough ? ExitCodes.Unproved : results.All(result => result.Sets.All(set => set.IsProved)) ? ExitCodes.Done : ExitCodes.LookAt, results);
    }
}
