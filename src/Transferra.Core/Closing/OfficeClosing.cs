// OfficeClosing.cs: brings an office to rest, and back to exactly the state it was in.
// C1  What a step found is in the journal, and the journal on the disk, before the step changes anything.
// C2  A step that was off, shut or away before has no line, and is not touched on either way.
// C3  Cut off at any point, close goes on to the proof, and reopen to the state found; both may be called again at any time.
// C4  "closed" is written only after everything was looked at anew: doors, jobs, services, processes, ports, sessions, open files.
// C5  Reopen goes through all steps even when one fails, and the closing is over only when all are proved.
// Order: users are told; doors shut for new ones and jobs off, so that nothing begins; those who are in are waited for; services stop;
// whoever is still in is put out when that is allowed; then the proof.
using System.Globalization;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;

namespace Transferra.Core.Closing;

/// <summary>Somebody who is in.</summary>
/// <param name="Company">In which company's store.</param>
/// <param name="Store">The store.</param>
/// <param name="Session">Who.</param>
/// <param name="Service">The service whose session it is; "" when it is a person's.</param>
public sealed record PersonIn(string Company, StoreAddress Store, StoreSession Session, string Service);

/// <summary>Hears what closing and reopening do.</summary>
public interface IClosingObserver
{
    /// <summary>A step is done or taken back.</summary>
    /// <param name="step">Which.</param>
    /// <param name="words">What is the case now.</param>
    void StepDone(ClosingStep step, string words);

    /// <summary>A step could not be taken back.</summary>
    void StepFailed(ClosingStep step, string what, string next);

    /// <summary>People are waited for.</summary>
    void Waiting(IReadOnlyList<PersonIn> people, TimeSpan left);

    /// <summary>A session is ended.</summary>
    void Ended(PersonIn person);
}

/// <summary>How a closing came out.</summary>
/// <param name="Id">Its name.</param>
/// <param name="IsClosed">Whether everybody is out, proved.</param>
/// <param name="StillIn">Who is not out.</param>
/// <param name="NotAtRest">What else is not at rest, in words.</param>
/// <param name="Steps">What was changed, in words, in order.</param>
public sealed record ClosingOutcome(string Id, bool IsClosed, IReadOnlyList<PersonIn> StillIn, IReadOnlyList<string> NotAtRest,
    IReadOnlyList<string> Steps);

/// <summary>Something that could not be brought back.</summary>
public sealed record NotReopened(string Step, string What, string Next);

/// <summary>Closes and reopens.</summary>
/// <param name="closings">The office's closings.</param>
/// <param name="tools">What steps work with.</param>
/// <param name="observer">Hears what happens.</param>
public sealed class OfficeClosing(Closings closings, ClosingTools tools, IClosingObserver observer)
{
    private static readonly TimeSpan Beat = TimeSpan.FromMilliseconds(500), LastWait = TimeSpan.FromSeconds(10);

    // A server lists a session for a moment after its connection is closed, and longer when it was still sending. Nobody is in then.
    private static readonly TimeSpan Leaving = TimeSpan.FromSeconds(3);

    /// <summary>Who is in the stores of an office.</summary>
    /// <param name="office">The office.</param>
    /// <param name="stores">Opens them.</param>
    public static IReadOnlyList<PersonIn> PeopleIn(OfficeDescription office, IStoreOpener stores)
    {
        var people = new List<PersonIn>();
        (Company Company, StoreAddress Store)[] all = [.. office.Companies.SelectMany(StoresOf)];
        IReadOnlyList<IReadOnlyList<FileHolder>> holders = OpenFiles.HoldersOfEach([.. all.Select(of => of.Store.IsOnServer ? []
            : FilesUnder(stores, of.Store))]);
        foreach (((Company company, StoreAddress store), int at) in all.Select((of, at) => (of, at)))
        {
            IReadOnlyList<StoreSession> sessions = store.IsOnServer ? stores.ServerOf(store).Sessions(store.Path)
                : [.. holders[at].Select(holder => new StoreSession(holder.ProcessId, "", "this machine", holder.Program,
                    FormattableString.Invariant($"process {holder.ProcessId}"), null))];
            people.AddRange(sessions.Select(session => new PersonIn(company.Code, store, session,
                office.Closing.Services.FirstOrDefault(service => IsOf(service, store, session))?.Name ?? "")));
        }
        return people;
    }

    private static bool IsOf(ServicePlan service, StoreAddress store, StoreSession session) => store.IsOnServer
        ? service.ConnectsAs.Contains(session.User, StringComparer.OrdinalIgnoreCase)
        : service.Processes.Select(Processes.Cut).Contains(session.Program, StringComparer.Ordinal);

    private static IReadOnlyList<string> FilesUnder(IStoreOpener stores, StoreAddress store) => Path.Exists(store.Path)
        ? stores.FilesOf(store) : [];

    private static IEnumerable<(Company Company, StoreAddress Store)> StoresOf(Company company) =>
        ((StoreAddress?[])[company.OldStore, company.MovesTo]).OfType<StoreAddress>().Select(store => (company, store));

    /// <summary>Closes an office, or continues that; when it is closed already, proves it and does again what has come undone.</summary>
    /// <param name="office">The office.</param>
    /// <param name="purpose">What for: upgrade, or "" for a person's own.</param>
    /// <param name="tool">Version of this program.</param>
    /// <param name="endsSessions">Whether those who are still in are put out.</param>
    /// <exception cref="TransferraException">A step cannot be done; what was done stands in the journal.</exception>
    /// <exception cref="OperationCanceledException">Stopped by hand.</exception>
    public ClosingOutcome Close(OfficeDescription office, string purpose, string tool, bool endsSessions)
    {
        OfficeClosed? current = closings.Current();
        if (current is { IsReopening: true }) throw new TransferraException("the office is being opened again, and that is not finished",
            "Finish it first: transferra reopen");
        ClosingPlan plan = office.Closing;
        endsSessions |= plan.EndsSessions;
        // Looked at before anything is begun, so that what cannot be told or done is refused with nothing changed.
        IReadOnlyList<ClosingStep> wanted = StepsFor(office, current?.Id ?? "new", current);
        OfficeClosed closed = current is null ? closings.Begin(purpose, tool) : closings.Continue(current);
        List<ClosingStep> steps = [.. closed.Steps];
        steps.AddRange(wanted.Where(step => !closed.Knows(step.Key)).Select(step => step is FirewallStep
            ? FirewallStep.Of(plan.BlockedPorts, closed.Id) : step));

        Do(closed, steps.Where(step => step is TellStep));
        Do(closed, steps.Where(step => step is FolderStep or FirewallStep or StoreStep { EndsSessions: false }));
        Do(closed, steps.Where(step => step is CronFileStep or SwitchStep { IsService: false }));
        IReadOnlyList<PersonIn> people = Await(office, plan.Grace > Leaving ? plan.Grace : Leaving, services: false);
        if (people.Count > 0 && !endsSessions) return Outcome(closed, people, []);
        // In the order of office.yaml, also when the closing was interrupted and goes on.
        var order = plan.Services.Select((service, i) => (service.Name, i)).ToDictionary(entry => entry.Name, entry => entry.i);
        Do(closed, steps.Where(step => step is SwitchStep { IsService: true }).OrderBy(step => order.GetValueOrDefault(step.Name, -1)));
        if (endsSessions) EndAll(office);
        // A service that has just stopped may take a moment to be gone from its server.
        people = Await(office, LastWait, services: true);
        if (people.Count > 0) return Outcome(closed, people, []);
        Do(closed, steps.Where(step => step is StoreStep { EndsSessions: true }));
        List<string> notAtRest = NotAtRest(office, closed);
        people = PeopleIn(office, tools.Stores);
        if (people.Count > 0)
        {
            // Who may come in all the same, as an administrator may, and only looked in is not somebody who stayed.
            people = Await(office, LastWait, services: true);
            notAtRest = NotAtRest(office, closed);
        }
        if (people.Count == 0 && notAtRest.Count == 0) closed.Journal.Append("", OfficeClosed.Stage, "closed");
        return Outcome(closed, people, notAtRest);
    }

    private List<string> NotAtRest(OfficeDescription office, OfficeClosed closed) =>
        [.. closed.Steps.Select(step => step.NotClosed(tools)).OfType<string>(), .. StillOn(office)];

    private static ClosingOutcome Outcome(OfficeClosed closed, IReadOnlyList<PersonIn> people, IReadOnlyList<string> notAtRest) =>
        new(closed.Id, people.Count == 0 && notAtRest.Count == 0, people, notAtRest,
            [.. closed.Steps.Where(step => closed.IsDone(step.Key)).Select(step => step.WhenClosed)]);

    /// <summary>What closing would change now, in order.</summary>
    public IReadOnlyList<ClosingStep> Preview(OfficeDescription office) => StepsFor(office, "new", closings.Current());

    private List<ClosingStep> StepsFor(OfficeDescription office, string id, OfficeClosed? current)
    {
        ClosingPlan plan = office.Closing;
        var steps = new List<ClosingStep>();
        if (plan.Tell.Count > 0)
            steps.Add(TellStep.Of(plan.Tell,
                $"{office.Name}: the books are about to be closed for "
                    + $"maintenance{(plan.Grace > TimeSpan.Zero ? $" in {Words(plan.Grace)}" : "")}. Please save and leave the "
                    + "program.", $"{office.Name}: the books are open again."));
        if (plan.BlockedPorts.Count > 0) steps.Add(FirewallStep.Of(plan.BlockedPorts, id));
        foreach ((Company company, StoreAddress store) in office.Companies.SelectMany(StoresOf))
        {
            if (store.IsOnServer)
            {
                steps.AddRange(tools.Stores.ServerOf(store).Doors(store.Path).Select(door => StoreStep.Of(store, door)));
                continue;
            }
            string door = FolderStep.Of(store, office.Folder);
            if (Path.Exists(door)) steps.Add(FolderOf(door, office.Folder));
            steps.AddRange(company.DocumentFolders.Where(Directory.Exists).Select(folder => FolderOf(folder, office.Folder)));
        }
        foreach (JobPlan job in plan.Jobs)
        {
            // A file that was put away already is known to the closing that did it.
            ClosingStep? step = job.CronFile is { } file ? CronFileStep.Of(file) : KnownSwitch(current, job.Name) ? null
                : SwitchStep.Of(job, tools);
            if (step is not null) steps.Add(step);
        }
        foreach (ServicePlan service in plan.Services.Where(service => !service.StaysUp))
            if (!KnownSwitch(current, service.Name) && SwitchStep.Of(service, tools) is { } step) steps.Add(step);
        return [.. steps.DistinctBy(step => step.Key)];
    }

    private static FolderStep FolderOf(string path, string officeFolder)
    {
        var step = FolderStep.For(path, officeFolder);
        ShutMark.RefuseOthers(step.Home, officeFolder);
        return step;
    }

    private static bool KnownSwitch(OfficeClosed? current, string name) => current is not null
        && (current.Knows($"{UnitStep.KindName} {name}") || current.Knows($"{CommandStep.KindName} {name}"));

    // What had no step because it was off is looked at as well: it may have been started since.
    private IEnumerable<string> StillOn(OfficeDescription office)
    {
        IReadOnlySet<int> listening = Network.ListeningPorts();
        foreach (ServicePlan service in office.Closing.Services)
        {
            if (service.StaysUp) continue;
            foreach (ProcessFound process in Processes.Named(service.Processes))
                yield return $"{service.Name} has the process {process.Name} ({process.Id.ToString(CultureInfo.InvariantCulture)})";
            foreach (int port in service.Ports.Where(listening.Contains)) yield return "port "
                + $"{port.ToString(CultureInfo.InvariantCulture)} of {service.Name} listens";
        }
    }

    private void Do(OfficeClosed closed, IEnumerable<ClosingStep> steps)
    {
        foreach (ClosingStep step in steps)
        {
            tools.Cancel.ThrowIfCancellationRequested();
            bool isDone = closed.IsDone(step.Key);
            if (isDone && (step is TellStep || step.NotClosed(tools) is null)) continue;
            if (!isDone) closed.Journal.Append("", step.Key, "announced", step.Facts);
            step.Close(tools);
            if (step.NotClosed(tools) is { } not)
                throw new TransferraException($"{not}",
                    $"The closing stopped there. Put it right and go on: transferra close. Or open again: transferra reopen");
            if (!isDone) closed.Journal.Append("", step.Key, "done");
            observer.StepDone(step, step.WhenClosed);
        }
    }

    // The services' own sessions end with the services, and are waited for only after those.
    private IReadOnlyList<PersonIn> Await(OfficeDescription office, TimeSpan time, bool services)
    {
        for (long end = Environment.TickCount64 + (long)time.TotalMilliseconds; ;)
        {
            tools.Cancel.ThrowIfCancellationRequested();
            IReadOnlyList<PersonIn> people = [.. PeopleIn(office, tools.Stores).Where(person => services || person.Service.Length == 0)];
            long left = end - Environment.TickCount64;
            if (people.Count == 0 || left <= 0) return people;
            observer.Waiting(people, TimeSpan.FromMilliseconds(left));
            tools.Cancel.WaitHandle.WaitOne(TimeSpan.FromMilliseconds(Math.Min(left, Beat.TotalMilliseconds)));
        }
    }

    private void EndAll(OfficeDescription office)
    {
        foreach (PersonIn person in PeopleIn(office, tools.Stores))
        {
            if (person.Store.IsOnServer) tools.Stores.ServerOf(person.Store).End(person.Store.Path, person.Session);
            else if (!Processes.AskToEnd((int)person.Session.Id)) continue;
            observer.Ended(person);
        }
    }

    private static string Words(TimeSpan time) => time.TotalMinutes >= 2
        ? FormattableString.Invariant($"{time.TotalMinutes:0} minutes") : FormattableString.Invariant($"{time.TotalSeconds:0} seconds");

    /// <summary>Shuts the doors of a store that a run is about to put in place, as an open one would let people in before the office is
    /// open.</summary>
    /// <param name="store">The new store, where it is now; nothing is done when the office is not closed.</param>
    /// <param name="home">Where it is to come to.</param>
    /// <param name="old">What it began as a copy of.</param>
    /// <param name="officeFolder">Folder of office.yaml.</param>
    public void CoverAlso(StoreAddress store, StoreAddress home, StoreAddress old, string officeFolder)
    {
        if (closings.Current() is not { IsReopening: false } current) return;
        OfficeClosed closed = closings.Continue(current);
        IEnumerable<ClosingStep> steps = store.IsOnServer ? tools.Stores.ServerOf(store).DoorsOfCopy(store.Path,
            // What starts by itself was copied as it is now, also to another server.
            home.Path, [.. closed.Steps.OfType<StoreStep>().Where(step => step.IsOf(home) || step.IsOf(old) && step.Door.Kind
                == StoreDoor.Event).Select(step => step.Door)])
            .Select(door => StoreStep.Of(store, door))
            // otherwise the folder around it is shut
            : FolderStep.Of(home, officeFolder) == home.Path ? [FolderStep.Of(store.Path, home.Path, officeFolder)] : [];
        Do(closed, steps.Where(step => !closed.Knows(step.Key)));
    }

    /// <summary>Whether the office is closed, so that a run may do what nobody must see.</summary>
    public bool IsClosed => closings.Current() is { IsReopening: false };

    /// <summary>Whether a service is on now.</summary>
    internal bool IsOn(ServicePlan service) => SwitchStep.IsOn(service.Switch, tools);

    /// <summary>Turns a service on or off while the office is closed.</summary>
    internal void Turn(ServicePlan service, bool on) => SwitchStep.Turn(service, on, tools);

    /// <summary>Whether a folder was shut when the office was closed.</summary>
    internal bool HasShut(string folder) => closings.Current()?.Steps.OfType<FolderStep>().Any(step => step.Home
        == FileIdentity.RealPath(folder)) == true;

    /// <summary>The permissions that a file or folder had before the office was closed, or has when it is not.</summary>
    public UnixFileMode ModeBefore(string path) => closings.Current()?.Steps.OfType<FolderStep>()
        .LastOrDefault(step => step.Home == FileIdentity.RealPath(path))?.Found ?? File.GetUnixFileMode(path);

    /// <summary>Takes back what closing changed, last first.</summary>
    /// <returns>What could not be brought back; empty when the office is as it was.</returns>
    /// <exception cref="TransferraException">The office is not closed.</exception>
    public IReadOnlyList<NotReopened> Reopen()
    {
        OfficeClosed closed = closings.Continue(closings.Current() ?? throw new TransferraException("the office is open",
            "There is nothing to open."));
        if (!closed.IsReopening) closed.Journal.Append("", OfficeClosed.Stage, "reopening");
        var failed = new List<NotReopened>();
        // Doors before services, and people told last, so that a service finds its database open; services in the reverse order of their
        // stop.
        foreach (ClosingStep step in closed.Steps.Reverse()
            .OrderBy(step => step switch
            {
                StoreStep or FolderStep => 0,
                SwitchStep { IsService: true } => 1,
                TellStep => 4,
                FirewallStep => 3,
                _ => 2
            }))
        {
            // That it is open again is not said while something is not.
            if (step is TellStep && failed.Count > 0) continue;
            tools.Cancel.ThrowIfCancellationRequested();
            (string What, string Next)? problem = TakeBack(closed, step);
            if (problem is null) continue;
            failed.Add(new NotReopened(step.Key, problem.Value.What, problem.Value.Next));
            observer.StepFailed(step, problem.Value.What, problem.Value.Next);
        }
        if (failed.Count == 0) closed.Journal.Append("", OfficeClosed.Stage, "reopened");
        return failed;
    }

    private (string What, string Next)? TakeBack(OfficeClosed closed, ClosingStep step)
    {
        const string again = "Put it right, then once more: transferra reopen";
        closed.Journal.Append("", step.Key, "taking-back");
        try
        {
            step.Reopen(tools);
            if (step.NotOpen(tools) is { } not) return (not, again);
        }
        catch (TransferraException error)
        {
            return (error.Message, error.Next.Length > 0 ? $"{error.Next} {again}" : again);
        }
        catch (Exception error) when (error is IOException or UnauthorizedAccessException)
        {
            return (error.Message, again);
        }
        closed.Journal.Append("", step.Key, "taken-back");
        observer.StepDone(step, step.WhenOpen);
        return null;
    }
}
