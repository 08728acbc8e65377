// SetsCommand.cs: sets: which backup sets are there, are they still whole, heal those that are not, and which may go?
using System.CommandLine;
using System.Diagnostics;
using System.Globalization;
using Transferra.Cli.Rendering;
using Transferra.Core.Backup;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Runs;
using Transferra.Reports;

namespace Transferra.Cli.Commands;

internal static class SetsCommand
{
    /// <summary>What is typed for it.</summary>
    public static void Declare(CommandSet commands)
    {
        var prove = new Option<bool>("--prove") { Description = "Read every set back and restore it into scratch, the oldest proof first" };
        var heal = new Option<bool>("--heal") { Description = "Prove, and make a damaged set whole again from its copies in other places" };
        var minutes = new Option<int?>("--minutes")
        {
            Description = "With --prove or --heal: as many sets as fit in this many minutes",
            HelpName = "N"
        };
        var tidy = new Option<int?>("--tidy")
        {
            Description = "Remove all but the newest N sets of a company in each place; the last "
            + "proved one always stays",
            HelpName = "N"
        };
        var recovery = new Option<string?>("--recovery-sheet")
        {
            Description = "Write a page to be printed and kept in the safe: where "
            + "the sets are and how to get at them when everything else is gone",
            HelpName = "FILE"
        };
        var newDisk = new Option<string?>("--new-disk")
        {
            Description = "Take the disk that is at this place now into use, "
            + "beside those known there",
            HelpName = "PLACE"
        };
        var inFolder = new Option<string?>("--in")
        {
            Description = "Those in this folder, whether or not there is an office",
            HelpName = "DIR"
        };
        commands.Add("sets", "List the backup sets; prove them again, heal them, remove old ones", [commands.Codes, inFolder, prove, heal,
            minutes, tidy, newDisk,
            recovery, commands.Yes],
            (session, parsed) => parsed.GetValue(inFolder) is { } folder ? InFolder(session, folder, parsed.GetValue(prove),
                parsed.GetValue(minutes), parsed.GetValue(heal) || parsed.GetValue(tidy) is not null
                    || (parsed.GetValue(newDisk) ?? parsed.GetValue(recovery)) is not null)
                : parsed.GetValue(newDisk) is { } disk ? NewDisk(session, disk)
                : parsed.GetValue(recovery) is { } page
            ? RecoverySheet(session, Path.GetFullPath(page)) : parsed.GetValue(tidy) is { } keep ? Tidy(session,
                keep)
            : parsed.GetValue(prove) || parsed.GetValue(heal) ? Prove(session, parsed.GetValue(minutes),
                parsed.GetValue(heal)) : Run(session));
    }

    // As an office that has nothing but this folder; what is known of proofs lies in it.
    private static int InFolder(Session session, string folder, bool proves, int? minutes, bool isMore)
    {
        if (isMore) throw new TransferraException("--in lists and proves; the rest belongs to an office",
            "Leave out --in, in the office's folder.");
        folder = Path.GetFullPath(folder);
        if (!Directory.Exists(folder)) throw new TransferraException($"there is no folder {folder}", "Check its name.");
        session = session with
        {
            OfficeFolder = folder,
            Given = new OfficeDescription(Path.GetFileName(folder), folder, [], BackupPlan.In(folder), 0)
        };
        return proves ? Prove(session, minutes, heals: false) : Run(session);
    }

    internal sealed record SetListed(string Path, string Company, string Package, string DataVersion, DateTimeOffset MadeAt, string MadeBy,
        long Bytes, bool IsLocked)
    {
        public DateTimeOffset? ProvedAt { get; init; }

        public bool? IsGood { get; init; }

        /// <summary>How far the last proof went; null when there was none.</summary>
        public ProofGrade? Grade { get; init; }

        /// <summary>Whether this office made it.</summary>
        public bool IsOurs { get; init; }
    }

    // A set that was proved once and is in no place that can be reached now.
    internal sealed record SetOutOfReach(string Path, DateTimeOffset ProvedAt, bool IsGood, string Why);

    private static ListedSet[] All(Session session) =>
        [.. session.Sets.List((place, why) => session.Screen.Look($"{place.Name} cannot be reached: {why}"))
        .Where(set => session.Codes.Count == 0 || session.Codes.Contains(set.Label.Company, StringComparer.OrdinalIgnoreCase))];

    public static int Run(Session session)
    {
        IReadOnlyDictionary<string, SetProof> proofs = session.Proofs.Last();
        var unreached = new Dictionary<string, string>(StringComparer.Ordinal);
        foreach (ISetPlace place in session.Sets.Places)
            if (ProblemOf(session, place) is { } problem) unreached[place.Name] = problem;
        SetListed[] sets = [.. All(session).Select(set => Listed(session, set, proofs.GetValueOrDefault(set.Path)))];
        if (sets.Length == 0) session.Screen.Line("There are no backup sets in " + string.Join(", ",
            session.Sets.Places.Select(place => place.Name)));
        foreach (IGrouping<string, SetListed> place in sets.GroupBy(set => set.Path[..set.Path.LastIndexOf('/')]))
        {
            // The name tells company, package, version, date and time, and the run.
            session.Screen.Heading(place.Key);
            session.Screen.Table([">Size", "Proved (UTC)", "Set"], place.Select(set => (IReadOnlyList<string>)
                [Sizes.Of(set.Bytes), ProvedWords(set), Path.GetFileName(set.Path) + (set.IsOurs ? "" : " (of another office)")]));
        }
        SetOutOfReach[] away = [.. OutOfReach(session, proofs, [.. sets.Select(set => set.Path)], unreached)];
        foreach (IGrouping<(string Place, string Why), SetOutOfReach> place in away.GroupBy(set => (set.Path[..set.Path.LastIndexOf('/')],
            set.Why)))
        {
            session.Screen.Heading($"Out of reach: {place.Key.Place}");
            session.Screen.Look(place.Key.Why + ".");
            session.Screen.Table(["Proved (UTC)", "Set"],
                place.Select(set => (IReadOnlyList<string>)[set.IsGood ? Time(set.ProvedAt) : "not whole", Path.GetFileName(set.Path)]));
        }
        foreach ((string place, string problem) in unreached.Where(entry =>
            !away.Any(set => set.Why == entry.Value))) session.Screen.Look(problem);
        return session.Answer(ExitCodes.Done, new JsonFacts { { "sets", sets }, { "outOfReach", away } });
    }

    private static string ProvedWords(SetListed set) => set.ProvedAt is not { } at ? "never" : set.IsGood != true ? "not whole"
        : Time(at) + (set.Grade == ProofGrade.ReadBack ? ", read back, not restored" : "");

    private static string? ProblemOf(Session session, ISetPlace place)
    {
        try
        {
            return session.PlaceBook.Problem(place);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return $"{place.Name} cannot be reached: {error.Message}";
        }
    }

    private static IEnumerable<SetOutOfReach> OutOfReach(Session session, IReadOnlyDictionary<string, SetProof> proofs,
        HashSet<string> listed, Dictionary<string, string> unreached)
    {
        foreach (SetProof proof in proofs.Values.Where(proof => !proof.IsRemoval && !listed.Contains(proof.Path))
            .OrderBy(proof => proof.Path, StringComparer.Ordinal))
        {
            string place = proof.Path[..Math.Max(0, proof.Path.LastIndexOf('/'))];
            if (!session.Sets.Places.Any(known => known.Name == place)
                || (session.Codes.Count > 0 && !IsMeant(session, proof.Path))) continue;
            string why = unreached.TryGetValue(place, out string? problem) ? problem
                : proof.Mark is not null && CurrentMark(session, place) is { } mark && mark != proof.Mark
                    ? "it is on another disk that takes its turn there"
                : "not there any more, and not removed by Transferra";
            yield return new SetOutOfReach(proof.Path, proof.At, proof.Faults.Count == 0, why);
        }
    }

    private static string? CurrentMark(Session session, string place)
    {
        try { return session.Sets.Places.FirstOrDefault(known => known.Name == place) is { } found ? PlaceBook.MarkIn(found) : null; }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException) { return null; }
    }

    private static SetListed Listed(Session session, ListedSet set, SetProof? proof) =>
        new(set.Path, set.Label.Company, set.Label.Package, set.Label.DataVersion, set.Label.MadeAt, set.Label.MadeBy, set.Bytes,
            set.IsLocked)
        {
            ProvedAt = proof is { IsRemoval: false } ? proof.At : null,
            IsGood = proof?.IsGood,
            Grade = proof?.Grade,
            IsOurs = set.Label.OfficeId == session.KnownIdentity?.Id,
        };

    private static string Time(DateTimeOffset at) => at.UtcDateTime.ToString("yyyy-MM-dd HH:mm", CultureInfo.InvariantCulture);

    /// <summary>Proves sets again, those first whose proof is the oldest.</summary>
    /// <param name="session">The call.</param>
    /// <param name="minutes">So long at most; null for all. The set that is being proved then is finished.</param>
    /// <param name="heals">Whether those that are not whole are healed from their copies.</param>
    public static int Prove(Session session, int? minutes, bool heals)
    {
        _ = session.Office; // without one, nothing is to be left behind
        using IDisposable one = session.Lock();
        var clock = Stopwatch.StartNew();
        IReadOnlyDictionary<string, SetProof> proofs = session.Proofs.Last();
        // Also files that are named like sets and cannot even be listed: those are the ones that need healing most.
        string[] paths = [.. session.Sets.Places.SelectMany(place => Named(session, place)).Where(path => IsMeant(session, path))
            .OrderBy(path => proofs.TryGetValue(path, out SetProof? proof) ? proof.At : DateTimeOffset.MinValue).ThenBy(path => path,
                StringComparer.Ordinal)];
        var results = new List<SetProof>();
        var healed = new List<HealResult>();
        var notOpened = new List<string>();
        var context = session.Context(session.Observer().At("proving"));
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
        if (seen < paths.Length) session.Screen.Look($"The time is up: {Results.Count(paths.Length - seen, "set")} not looked at; they "
            + "come first the next time.");
        else session.Screen.Line($"{Results.Count(results.Count, "set")} looked at.");
        return session.Answer(results.All(proof => proof.IsGood) && !session.Unreached && notOpened.Count == 0 ? ExitCodes.Done
            : ExitCodes.Unproved,
            new JsonFacts
            {
                { "proofs", results },
                { "healed", healed },
                { "notOpened", notOpened },
                { "notLookedAt", paths[seen..] }
            });
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
        SetProved? proved = null;
        try
        {
            SetLabel label = session.Sets.Read(path).Manifest.Label;
            Company? company = session.Office.Companies.FirstOrDefault(company => company.Code == label.Company);
            proved = CompanyBackup.Prove(context, path, company, company?.Kit.Id == label.Package ? company.Kit.Version(label.DataVersion)
                : null);
            faults = [.. proved.Faults, .. AnotherInItsPlace(session, path, proved.Seal)];
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
        var proof = new SetProof(DateTimeOffset.UtcNow, path, LengthOf(session, path), faults)
        {
            // Of another set in its place, what was proved before stays known.
            Seal = faults.Any(fault => fault.Code == "other-set") ? session.Proofs.Last()[path].Seal : proved?.Seal,
            Mark = CurrentMark(session, path[..path.LastIndexOf('/')]),
            Grade = proved?.Grade,
        };
        session.Proofs.Add(proof);
        if (proof.IsGood) session.Screen.Good("Whole: "
            + path + (proof.Grade != ProofGrade.ReadBack ? ""
                : $" (read back, not restored{(proved!.NotRestored.Length > 0 ? ": " + proved.NotRestored : "")})"));
        else
        {
            session.Screen.Bad($"NOT whole: {path}");
            foreach (SetFault fault in faults.Take(5)) session.Screen.Line(
                $"  {(fault.Member.Length > 0 ? fault.Member + ": " : "")}{fault.What}");
        }
        return proof;
    }

    private static IEnumerable<SetFault> AnotherInItsPlace(Session session, string path, string? seal)
    {
        if (session.Proofs.Last().TryGetValue(path, out SetProof? known) && known is { IsRemoval: false, Seal: { } was }
            && seal is not null && was != seal)
            yield return new SetFault("other-set", SetManifest.FirstMember,
                $"this is not the set that was proved {Time(known.At)} UTC under this name: another has taken its place");
    }

    private static long LengthOf(Session session, string path)
    {
        (ISetPlace place, string name) = session.Sets.Find(path);
        return place.List().FirstOrDefault(file => file.Name == name)?.Bytes ?? 0;
    }

    private static HealResult? Heal(Session session, string path)
    {
        string name = session.Sets.Find(path).Name;
        string[] copies = [.. session.Sets.Places.SelectMany(place => Named(session, place)).Where(copy => copy != path
            && copy.EndsWith("/" + name, StringComparison.Ordinal))];
        if (copies.Length == 0)
        {
            session.Screen.Line("  There is no copy of it in another place, so it cannot be healed. Make a new one: transferra backup");
            return null;
        }
        HealResult result = SetHealing.Heal(session.Volume, session.Sets, path, copies, CompanyBackup.Scratch(session.Office),
            session.Identity);
        if (result.IsHealed) session.Screen.Good($"  Healed from {string.Join(", ", result.From.Where(from => from != path))}; the "
            + $"damaged file is kept as {result.Kept}");
        else session.Screen.Bad($"  Not healed: no copy has {string.Join(", ", result.Missing.Take(5))} whole.");
        return result;
    }

    /// <summary>Writes the page for the safe.</summary>
    public static int RecoverySheet(Session session, string path)
    {
        if (Path.Exists(path)) throw new TransferraException($"{path} is there already",
            "Name another file; an old sheet is better kept with the sets of its time.");
        ListedSet[] newest = [.. All(session).Where(set => set.Label.OfficeId == session.KnownIdentity?.Id)
            .GroupBy(set => (set.Label.Company, set.Path[..set.Path.LastIndexOf('/')]))
            .Select(same => same.MaxBy(set => set.Label.MadeAt)!)];
        if (newest.Length == 0) throw new TransferraException("there are no backup sets to write a sheet of",
            "Make them first: transferra backup");
        var lines = session.Office.Backup.Places.Select(place =>
            new RecoveryPlace(place.Shown, place.Server is null ? $"disk {Disks.Of(place.Folder)} of {Environment.MachineName}"
                : place.Server.Host,
            place.Server?.HostKey ?? "")).ToArray();
        using System.Security.Cryptography.ECDsa key = new OfficeKey(session.Office.Folder, session.Volume).ToSign();
        session.Volume.WriteNew(path, System.Text.Encoding.UTF8.GetBytes(HtmlRecoverySheet.Of(session.Office.Name, lines, newest,
            session.Sets.LocksNewSets, SignedDigests.FingerprintOf(key), Session.Version, DateTimeOffset.UtcNow)));
        session.Screen.Good($"Written: {path}");
        session.Screen.Line(session.Sets.LocksNewSets
            ? "Print it, write the passphrase on it by hand, and keep it in the safe. The passphrase is not in the file."
            : "Print it and keep it in the safe. The sets are not locked: whoever has one can read it.");
        return session.Answer(ExitCodes.Done, new JsonFacts { { "sheet", path } });
    }

    /// <summary>Removes sets that are not needed any more.</summary>
    /// <param name="session">The call.</param>
    /// <param name="keep">How many of a company's newest sets stay in each place.</param>
    public static int Tidy(Session session, int keep)
    {
        if (keep < 1) throw new TransferraException("--tidy keeps at least one set", "Give a number of 1 or more.");
        using IDisposable one = session.Lock();
        RunContext context = session.Context(session.Observer().At("proving"));
        // What stays is proved before anything goes.
        IReadOnlyList<TidyDecision> decisions = SetTidying.Decide(All(session),
            set => ProveOne(session, context, set.Path) is { IsGood: true },
            new TidyRules(context.Identity.Id, session.Runs.List(), keep, session.Office.Backup.KeepEachVersion, DateTimeOffset.UtcNow));
        TidyDecision[] go = [.. decisions.Where(decision => decision.Goes)];
        if (decisions.Count > 0)
            session.Screen.Table(["Company", "Made (UTC)", ">Size", "Becomes", "Because", "Set"],
                decisions.Select(decision => (IReadOnlyList<string>)
                [decision.Set.Label.Company, Time(decision.Set.Label.MadeAt), Sizes.Of(decision.Set.Bytes), decision.Goes ? "removed"
                    : "kept",
                    decision.Because, decision.Set.Path]));
        if (go.Length == 0)
        {
            session.Screen.Line("There is nothing to remove.");
            return session.Answer(ExitCodes.Done, new JsonFacts
            {
                { "removed", Array.Empty<string>() },
                { "kept", decisions.Select(decision => decision.Set.Path) }
            });
        }
        if (!session.Confirm([.. go.Select(decision => decision.Set.Label.Company).Distinct()], "Remove the sets listed above of"))
            return session.Answer(ExitCodes.Refused, new JsonFacts { { "confirmed", false } });
        foreach (TidyDecision decision in go)
        {
            (ISetPlace place, string name) = session.Sets.Find(decision.Set.Path);
            place.Remove(name);
            session.Proofs.Add(new SetProof(DateTimeOffset.UtcNow, decision.Set.Path, decision.Set.Bytes, []) { IsRemoval = true });
        }
        session.Screen.Good($"{Results.Count(go.Length, "set")} removed, {Sizes.Of(go.Sum(decision => decision.Set.Bytes))}.");
        return session.Answer(ExitCodes.Done, new JsonFacts
        {
            { "removed", go.Select(decision => decision.Set.Path) },
            { "kept", decisions.Where(decision => !decision.Goes)
            .Select(decision => decision.Set.Path) }
        });
    }

    /// <summary>sets --new-disk</summary>
    public static int NewDisk(Session session, string name)
    {
        using IDisposable one = session.Lock();
        string full = name.Contains("://", StringComparison.Ordinal) ? name : Path.GetFullPath(name);
        ISetPlace place = session.Sets.Places.FirstOrDefault(place => place.Name == full)
            ?? throw new TransferraException($"{name} is not a place for sets of this office",
                $"The places are {string.Join(", ", session.Sets.Places.Select(place => place.Name))}.");
        if (place.LocalFolder is { } folder && VolumeIdentity.NotMounted(folder) is { } point)
            throw new TransferraException($"the volume of {point} is not mounted, so {name} would be made on the disk below it",
                $"Mount it first: mount {point}");
        place.Prepare();
        string mark = session.PlaceBook.Introduce(place);
        session.Screen.Good($"{place.Name} is known from now on{(place.LocalFolder is { } on ? $", on disk {Disks.Of(on)}" : "")}. Disks "
            + "that were known there stay known, and can take turns.");
        return session.Answer(ExitCodes.Done, new JsonFacts { { "place", place.Name }, { "mark", mark } });
    }
}
