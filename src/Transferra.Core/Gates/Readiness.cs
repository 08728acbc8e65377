// Readiness.cs: may we go? Every reason why the upgrade may not start, all at once, before anything is written.
using Transferra.Core.Backup;
using Transferra.Core.Closing;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Runs;
using Transferra.Core.Surveys;

namespace Transferra.Core.Gates;

/// <summary>A company that is to be upgraded.</summary>
/// <param name="Company">The company.</param>
/// <param name="From">Its present version; null when it is not told.</param>
/// <param name="Survey">What was found of it.</param>
public sealed record Candidate(Company Company, KitVersion? From, CompanySurvey Survey);

/// <summary>All the gates.</summary>
/// <param name="Gates">In the order of the work; none for companies at the wanted version.</param>
/// <param name="Candidates">Companies that are not at the wanted version.</param>
/// <param name="There">Codes of those that are.</param>
public sealed record ReadinessResult(IReadOnlyList<Gate> Gates, IReadOnlyList<Candidate> Candidates, IReadOnlyList<string> There)
{
    /// <summary>Whether the upgrade may start.</summary>
    public bool MayStart => Gates.All(gate => gate.IsPassed);
}

/// <summary>Asks all the gates.</summary>
public static class Readiness
{
    private const string AdministratorsName = "root";

    /// <summary>The gates of some companies, their packages and the office.</summary>
    /// <param name="context">What it works with.</param>
    /// <param name="companies">The companies.</param>
    /// <param name="words">What people have said.</param>
    /// <param name="commands">Runs commands of kits.</param>
    public static ReadinessResult Of(RunContext context, IReadOnlyList<Company> companies, Words words, ICommands commands)
    {
        var gates = new List<Gate>();
        var candidates = new List<Candidate>();
        var there = new List<string>();
        var room = new Room(context);
        var companyGates = new CompanyGates(context, words, room);
        PackageGates PackageGatesOf(Kit kit) => new((package, confirm, name, question) => companyGates.Spoken("", package, confirm, name,
            question), KitTrust.Commands(kit, words, commands),
            DateOnly.FromDateTime(DateTime.Today));
        foreach (Package package in context.Office.Packages)
        {
            var ofCompanies = new List<Gate>();
            var hops = new List<Hop>();
            foreach (Company company in package.Companies.Where(companies.Contains))
            {
                IReadOnlyList<Gate> asked = companyGates.Of(company, out KitVersion? from, out CompanySurvey survey);
                if (asked.Count == 0) there.Add(company.Code);
                else
                {
                    candidates.Add(new Candidate(company, from, survey));
                    if (from is not null) hops.AddRange(Way.Between(company.Kit, from.Name, company.WantedVersion)?.Hops ?? []);
                }
                ofCompanies.AddRange(asked.Select(gate => gate with { Package = package.Kit.Id }));
            }
            if (ofCompanies.Count > 0) gates.AddRange(PackageGatesOf(package.Kit).Of(package, [.. hops.Distinct()],
                context.Office.Closing.Services));
            gates.AddRange(ofCompanies);
        }
        if (candidates.Count == 0) return new ReadinessResult([], [], there);
        gates.AddRange(room.Gates());
        gates.Add(DiskGate(context, candidates, companyGates));
        gates.AddRange(PlaceGates(context, candidates.Sum(candidate => candidate.Survey.StoreBytes + candidate.Survey.DocumentBytes)));
        gates.Add(ClosingGate(context));
        if (Environment.UserName != AdministratorsName)
            gates.Add(companyGates.Spoken("", "", "office/rights", "rights",
                $"This program runs as {Environment.UserName}, who does not see which files other users have open: has everybody really "
                    + "left when it says so?",
                "Better, run it as root."));
        return new ReadinessResult(gates, candidates, there);
    }

    // A disk that fails takes with it what is on it. Where databases on a server are kept is not known here.
    private static Gate DiskGate(RunContext context, IReadOnlyList<Candidate> candidates, CompanyGates gates)
    {
        const string name = "backup places";
        string[] places = [.. context.Office.Backup.Places.Select(place => Near(context.Office.Folder, place.Shown))], disks =
            [.. context.Office.Backup.Places.Select(place => place.Server is { } server ? "the machine " + server.Host
                : Disks.Of(place.Folder))];
        string[] ofData = [.. candidates.Where(candidate => !candidate.Company.OldStore.IsOnServer)
            .Select(candidate => Disks.Of(candidate.Company.OldStore.Path)).Distinct()];
        if (disks.Concat(ofData).Distinct().Count() > 1)
            return new Gate("", name, GateState.Passed,
                $"{string.Join(", ", places.Select((place, i) => $"{place} on {disks[i]}"))}; not all on the disk of the data");
        // The word holds for these places, not for others that may be named later.
        return gates.Spoken("", "", "office/one-disk", name,
            $"All backup places ({string.Join(", ", places)}) are on one disk ({disks[0]}), and none is known to be apart from the data: "
                + "a disk that fails takes all of it. Is there a copy elsewhere?", "Better, name a place on another "
                + "disk under backup in office.yaml.");
    }

    // As office.yaml would name it.
    private static string Near(string officeFolder, string place) => place.StartsWith(officeFolder + "/", StringComparison.Ordinal)
        ? Path.GetRelativePath(officeFolder, place) : place;

    // A machine that is not reached, or a passphrase that is not there, is better known by day. Folders of this machine are tried with
    // the room they need.
    private static IEnumerable<Gate> PlaceGates(RunContext context, long bytes)
    {
        foreach (ISetPlace place in context.Sets.Places)
        {
            string? problem;
            try { problem = context.PlaceBook.Problem(place); }
            catch (Exception error) when (error is IOException or UnauthorizedAccessException)
            {
                problem = place.LocalFolder is null
                ? null : error.Message;
            }
            if (problem is not null)
                yield return new Gate("", "backup place", GateState.Blocked, problem,
                    $"Or take the place out of backup in {OfficeLoader.FileName}.");
            if (place.LocalFolder is not null || problem is not null) continue;

            Gate gate;
            try
            {
                int there = place.List().Count(file => SetPlaces.IsNamedLikeSet(file.Name));
                long? free = place.FreeBytes();
                // Sets are proved on this machine, so that only they themselves need room there; packed, they are never larger than this.
                string room = free is null ? "it does not report its free space" : $"{Sizes.Of(free.Value)} free, {Sizes.Of(bytes)} needed";
                gate = Gate.If(free is null || free >= bytes, "", "backup place", $"{place.Name} answers; {there} sets are there; {room}",
                    $"Make room there, or name another place in {OfficeLoader.FileName}.");
            }
            catch (Exception error) when (error is IOException or UnauthorizedAccessException or TransferraException)
            {
                gate = new Gate("", "backup place", GateState.Blocked, $"{place.Name}: {error.Message}",
                    "Fix the connection, or take the place out of backup in office.yaml.");
            }
            yield return gate;
        }
        if (!context.Sets.LocksNewSets) yield break;
        Gate locked;
        try
        {
            context.Sets.Secret.CheckForNewSets();
            locked = new Gate("", "passphrase", GateState.Passed,
                "the passphrase that sets are locked with is in hand; without it nobody opens them: is it on paper, too (transferra sets "
                    + "--recovery-sheet FILE)?");
        }
        catch (TransferraException error)
        {
            locked = new Gate("", "passphrase", GateState.Blocked, error.Message, error.Next);
        }
        yield return locked;
    }

    // What closing would do is found out without doing it: a service whose state cannot be told, or a door that this user may not shut,
    // is known now.
    private static Gate ClosingGate(RunContext context)
    {
        const string name = "closing";
        try
        {
            IReadOnlyList<ClosingStep> steps = context.Closing?.Preview(context.Office) ?? [];
            FolderStep? foreign = FileIdentity.EffectiveUser == 0 ? null : steps.OfType<FolderStep>()
                .FirstOrDefault(step => FileIdentity.Of(step.Home)?.Owner != FileIdentity.EffectiveUser);
            if (foreign is not null)
                return new Gate("", name, GateState.Blocked,
                    $"{foreign.Home} belongs to somebody else, and cannot be shut by {Environment.UserName}",
                    "Run as its owner, or as root.");
            int people = OfficeClosing.PeopleIn(context.Office, context.Stores).Count(person => person.Service.Length == 0);
            return new Gate("", name, GateState.Passed,
                $"{steps.Count} {(steps.Count == 1 ? "thing" : "things")} can be shut or "
                    + (people == 0 ? "stopped: " : FormattableString.Invariant(
                        $"stopped; {people} {(people == 1 ? "session" : "sessions")} of people to wait for: "))
                    + "transferra close --show");
        }
        catch (TransferraException error)
        {
            return new Gate("", name, GateState.Blocked, error.Message, error.Next);
        }
    }
}
