// BackupCommand.cs: backup: sets in every place, each proved.
using System.CommandLine;
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
        var to = new Option<string?>("--to") { Description = "With --store: folder for its sets", HelpName = "DIR" };
        var documents = new Option<string[]>("--documents")
        {
            Description = "With --store: a folder that belongs to it; once for each",
            HelpName = "DIR",
            AllowMultipleArgumentsPerToken = false
        };
        commands.Add("backup", "Write backup sets and prove each by reading it back",
            [commands.Codes, commands.Store, to, documents, commands.Encoding], (session, parsed) =>
            parsed.GetValue(commands.Store) is { } store ? Bare(session, commands, parsed, store, parsed.GetValue(to),
                parsed.GetValue(documents) ?? [])
            : parsed.GetValue(to) is null && parsed.GetValue(documents) is not { Length: > 0 } ? Run(session)
            : throw new TransferraException("--to and --documents belong to --store", "Where the sets of an office go stands in "
                + $"{OfficeLoader.FileName}, under backup."));
    }

    // The folder of the sets is also where the number stands by which they are known again, and what was proved of them.
    private static int Bare(Session session, CommandSet commands, ParseResult parsed, string store, string? to, string[] documents)
    {
        if (to is null) throw new TransferraException("--store needs a folder for its sets", "Name one: --to DIR");
        if (SetPlaces.IsNamedLikeSet(store)) throw new TransferraException($"{store} is a set already", "Copy it as a file; then prove the "
            + "copy: transferra sets --in DIR --prove");
        foreach (string folder in documents.Where(folder => !Directory.Exists(folder)))
            throw new TransferraException($"there is no folder {folder}", "Check its name.");
        string place = Path.GetFullPath(to);
        foreach (string source in documents.Append(store.StartsWith('{') ? "" : store).Where(source => source.Length > 0
            && (place + "/").StartsWith(Path.GetFullPath(source).TrimEnd('/') + "/", StringComparison.Ordinal)))
            throw new TransferraException($"{place} lies in {source}, which is what is backed up", "Name a folder elsewhere, on another "
                + "disk if there is one.");
        session.Volume.CreateFolder(place);
        using BareStore bare = BareStore.Of(session, commands, parsed, place, [.. documents.Select(Path.GetFullPath)])!;
        return Run(bare.Session);
    }

    internal sealed record CompanyBackedUp(string Company, IReadOnlyList<BackupResult> Sets)
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
