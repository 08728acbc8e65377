// SetsCommand.cs: sets: which backup sets are there, are they still whole, heal those that are not, and which may go?
using System.Diagnostics;
using System.Globalization;
using Transferra.Cli.Rendering;
using Transferra.Core.Backup;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Reports;

namespace Transferra.Cli.Commands;

internal static class SetsCommand
{
    private sealed record SetListed(string Path, string Company, string Package, string DataVersion, DateTimeOffset MadeAt, string MadeBy, long Bytes, bool IsLocked)
    {
        public DateTimeOffset? ProvedAt { get; init; }

        public bool? IsGood { get; init; }
    }

    private static ListedSet[] All(Session session) => [.. session.Sets.List((place, why) => session.Screen.Look($"{place.Name} cannot be reached: {why}"))
        .Where(set => session.Codes.Count == 0 || session.Codes.Contains(set.Label.Company, StringComparer.OrdinalIgnoreCase))];

    public static int Run(Session session)
    {
        IReadOnlyDictionary<string, SetProof> proofs = session.Proofs.Last();
        SetListed[] sets = [.. All(session).Select(set => Listed(set, proofs.GetValueOrDefault(set.Path)))];
        if (sets.Length == 0) session.Screen.Line("There are no backup sets in " + string.Join(", ", session.Sets.Places.Select(place => place.Name)));
        foreach (IGrouping<string, SetListed> place in sets.GroupBy(set => set.Path[..set.Path.LastIndexOf('/')]))
        {
            // The name tells company, package, version, date and time, and the run.
            session.Screen.Heading(place.Key);
            session.Screen.Table([">Size", "Proved (UTC)", "Set"], place.Select(set => (IReadOnlyList<string>)
                [Sizes.Of(set.Bytes), set.ProvedAt is not { } at ? "never" : set.IsGood == true ? Time(at) : "not whole", Path.GetFileName(set.Path)]));
        }
        return session.Answer(ExitCodes.Done, sets);
    }

    private static SetListed Listed(ListedSet set, SetProof? proof) =>
        new(set.Path, set.Label.Company, set.Label.Package, set.Label.DataVersion, set.Label.MadeAt, set.Label.MadeBy, set.Bytes, set.IsLocked)
        {
            ProvedAt = proof?.At,
            IsGood = proof?.IsGood,
        };

    private static string Time(DateTimeOffset at) => at.UtcDateTime.ToString("yyyy-MM-dd HH:mm", CultureInfo.InvariantCulture);

    /// <summary>Proves sets again, those first whose proof is the oldest.</summary>
    /// <param name="session">The call.</param>
    /// <param name="minutes">So long at most; null for all. The set that is being proved then is finished.</param>
    /// <param name="heals">Whether those that are not whole are healed from their copies.</param>
    public static int Prove(Session session, int? minutes, bool heals)
    {
        using IDisposable one = session.Lock();
        var clock = Stopwatch.StartNew();
        IReadOnlyDictionary<string, SetProof> proofs = session.Proofs.Last();
        // Also files that are named like sets and cannot even be listed: those are the ones that need healing most.
        string[] paths = [.. session.Sets.Places.SelectMany(place => Named(session, place)).Where(path => IsMeant(session, path))
            .OrderBy(path => proofs.TryGetValue(path, out SetProof? proof) ? proof.At : DateTimeOffset.MinValue).ThenBy(path => path, StringComparer.Ordinal)];
        var results = new List<SetProof>();
        var healed = new List<HealResult>();
        var notOpened = new List<string>();
        var context = session.Context(new ScreenObserver(session.Screen).At("proving"));
        foreach (string path in paths)
        {
            if (minutes is { } most && clock.Elapsed.TotalMinutes >= most) break;
            session.Cancel.ThrowIfCancellationRequested();
            if (ProveOne(session, context, path) is not { } proof)
            {
                notOpened.Add(path);
                continue;
            }
            if (!proof.IsGood && heals && Heal(session, path) is { } result)
            {
                healed.Add(result);
                if (result.IsHealed) proof = ProveOne(session, context, path) ?? proof;
            }
            results.Add(proof);
        }
        int seen = results.Count + notOpened.Count;
        if (seen < paths.Length) session.Screen.Look($"The time is up: {Results.Count(paths.Length - seen, "set")} not looked at; they come first the next time.");
        else session.Screen.Line($"{Results.Count(results.Count, "set")} looked at.");
        return session.Answer(results.All(proof => proof.IsGood) && !session.Unreached && notOpened.Count == 0 ? ExitCodes.Done : ExitCodes.Unproved,
            new { proofs = results, healed, notOpened, notLookedAt = paths[seen..] });
    }

    private static IEnumerable<string> Named(Session session, ISetPlace place)
    {
        try
        {
            return [.. place.List().Where(file => SetPlaces.IsNamedLikeSet(file.Name)).Select(file => SetPlaces.PathIn(place, file.Name))];
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            session.Screen.Bad($"{place.Name} cannot be reached: {error.Message}");
            session.Unreached = true;
            return [];
        }
    }

    private static bool IsMeant(Session session, string path) => session.Codes.Count == 0
        || session.Codes.Any(code => Path.GetFileName(path).StartsWith(code + "_", StringComparison.OrdinalIgnoreCase));

    // Null when the set is locked and cannot be opened, which tells nothing of its state.
    private static SetProof? ProveOne(Session session, RunContext context, string path)
    {
        IReadOnlyList<SetFault> faults;
        try
        {
            SetLabel label = session.Sets.Read(path).Manifest.Label;
            // Of a company that the office or the kit still knows, the records are compared as well.
            Company? company = session.Office.Companies.FirstOrDefault(company => company.Code == label.Company);
            KitVersion? version = company?.Kit.Id == label.Package ? company.Kit.Version(label.DataVersion) : null;
            if (company is not null && version is not null) faults = CompanyBackup.Prove(context, version, path);
            else
            {
                using ISetFile file = session.Sets.OpenWhole(path, CompanyBackup.Scratch(session.Office), (done, total) =>
                    context.Observer.Bytes("fetching", done, total), session.Cancel);
                faults = BackupSets.Verify(file, (done, total) => context.Observer.Bytes("", done, total), session.Cancel);
            }
        }
        catch (SetLockedException error)
        {
            session.Screen.Bad($"Not opened: {path}: {error.Message}");
            session.Screen.Line("  " + error.Next);
            return null;
        }
        catch (Exception error) when (error is TransferraException or IOException or UnauthorizedAccessException)
        {
            faults = [new SetFault("manifest", SetManifest.FirstMember, error.Message)];
        }
        var proof = new SetProof(DateTimeOffset.UtcNow, path, LengthOf(session, path), faults);
        session.Proofs.Add(proof);
        if (proof.IsGood) session.Screen.Good($"Whole: {path}");
        else
        {
            session.Screen.Bad($"NOT whole: {path}");
            foreach (SetFault fault in faults.Take(5)) session.Screen.Line($"  {(fault.Member.Length > 0 ? fault.Member + ": " : "")}{fault.What}");
        }
        return proof;
    }

    private static long LengthOf(Session session, string path)
    {
        (ISetPlace place, string name) = session.Sets.Find(path);
        return place.List().FirstOrDefault(file => file.Name == name)?.Bytes ?? 0;
    }

    private static HealResult? Heal(Session session, string path)
    {
        string name = session.Sets.Find(path).Name;
        string[] copies = [.. session.Sets.Places.SelectMany(place => Named(session, place)).Where(copy => copy != path && copy.EndsWith("/" + name, StringComparison.Ordinal))];
        if (copies.Length == 0)
        {
            session.Screen.Line("  There is no copy of it in another place, so it cannot be healed. Make a new one: transferra backup");
            return null;
        }
        HealResult result = SetHealing.Heal(session.Volume, session.Sets, path, copies, CompanyBackup.Scratch(session.Office));
        if (result.IsHealed) session.Screen.Good($"  Healed from {string.Join(", ", result.From.Where(from => from != path))}; the damaged file is kept as {result.Kept}");
        else session.Screen.Bad($"  Not healed: no copy has {string.Join(", ", result.Missing.Take(5))} whole.");
        return result;
    }

    /// <summary>Writes the page for the safe.</summary>
    public static int RecoverySheet(Session session, string path)
    {
        if (Path.Exists(path)) throw new TransferraException($"{path} is there already", "Name another file; an old sheet is better kept with the sets of its time.");
        ListedSet[] newest = [.. All(session).GroupBy(set => (set.Label.Company, set.Path[..set.Path.LastIndexOf('/')])).Select(same => same.MaxBy(set => set.Label.MadeAt)!)];
        if (newest.Length == 0) throw new TransferraException("there are no backup sets to write a sheet of", "Make them first: transferra backup");
        var lines = session.Office.Backup.Places.Select(place =>
            new RecoveryPlace(place.Shown, place.Server is null ? $"disk {Disks.Of(place.Folder)} of {Environment.MachineName}" : place.Server.Host,
            place.Server?.HostKey ?? "")).ToArray();
        session.Volume.WriteNew(path, System.Text.Encoding.UTF8.GetBytes(HtmlRecoverySheet.Of(session.Office.Name, lines, newest, session.Sets.LocksNewSets,
            Session.Version, DateTimeOffset.UtcNow)));
        session.Screen.Good($"Written: {path}");
        session.Screen.Line(session.Sets.LocksNewSets
            ? "Print it, write the passphrase on it by hand, and keep it in the safe. The passphrase is not in the file."
            : "Print it and keep it in the safe. The sets are not locked: whoever has one can read it.");
        return session.Answer(ExitCodes.Done, new { sheet = path });
    }

    /// <summary>Removes sets that are not needed any more.</summary>
    /// <param name="session">The call.</param>
    /// <param name="keep">How many of a company's newest sets stay in each place.</param>
    public static int Tidy(Session session, int keep)
    {
        if (keep < 1) throw new TransferraException("--tidy keeps one set at least", "Give a number of 1 or more.");
        using IDisposable one = session.Lock();
        IReadOnlyList<TidyDecision> decisions = SetTidying.Decide(All(session), session.Proofs.Last(), session.Runs.List(), keep);
        TidyDecision[] go = [.. decisions.Where(decision => decision.Goes)];
        if (decisions.Count > 0)
            session.Screen.Table(["Company", "Made (UTC)", ">Size", "Becomes", "Because", "Set"], decisions.Select(decision => (IReadOnlyList<string>)
                [decision.Set.Label.Company, Time(decision.Set.Label.MadeAt), Sizes.Of(decision.Set.Bytes), decision.Goes ? "removed" : "kept",
                    decision.Because, decision.Set.Path]));
        if (go.Length == 0)
        {
            session.Screen.Line("There is nothing to remove.");
            return session.Answer(ExitCodes.Done, new { removed = Array.Empty<string>(), kept = decisions.Select(decision => decision.Set.Path) });
        }
        if (!session.Confirm([.. go.Select(decision => decision.Set.Label.Company).Distinct()], "Remove the sets listed above of"))
            return session.Answer(ExitCodes.Refused, new { confirmed = false });
        foreach (TidyDecision decision in go)
        {
            (ISetPlace place, string name) = session.Sets.Find(decision.Set.Path);
            place.Remove(name);
        }
        session.Screen.Good($"{Results.Count(go.Length, "set")} removed, {Sizes.Of(go.Sum(decision => decision.Set.Bytes))}.");
        return session.Answer(ExitCodes.Done, new
        {
            removed = go.Select(decision => decision.Set.Path),
            kept = decisions.Where(decision => !decision.Goes)
            .Select(decision => decision.Set.Path)
        });
    }
}
