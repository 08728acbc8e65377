// Stage.cs: a step of a company's way. Every stage answers the same four questions: what stops you? do it; prove it; take it back.
// Holds: (1) Do can be called again after it was interrupted at any point; (2) TakeBack leaves everything as before Do, from any point.
using System.Text.Json;
using Transferra.Core.Checks;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;

namespace Transferra.Core.Runs;

/// <summary>What doing or proving a stage came to.</summary>
/// <param name="IsGood">Whether the company may go on.</param>
/// <param name="Summary">One line.</param>
/// <param name="Facts">For the journal.</param>
/// <param name="Result">For those who show it; null when there is nothing to show.</param>
public sealed record StageOutcome(bool IsGood, string Summary, IReadOnlyDictionary<string, string> Facts, object? Result = null);

/// <summary>One company on its way through a run.</summary>
/// <param name="Context">What it works with.</param>
/// <param name="Run">The run.</param>
/// <param name="Company">The company.</param>
/// <param name="From">The data version it had when the run began.</param>
/// <param name="Way">The hops to go.</param>
public sealed record CompanyRun(RunContext Context, Run Run, Company Company, KitVersion From, Way Way)
{
    // Beside the store, on the same volume, so that the change-over is a rename; with the run when the company has no store in files.
    private string WorkPath
    {
        get
        {
            string name = $"{Records.StoreAddress.RunPrefix}{Run.Id}-{Company.Code}";
            return !Company.OldStore.IsOnServer ? Path.Combine(Company.OldStore.Folder, name)
                : !Company.NewStore.IsOnServer ? Path.Combine(Company.NewStore.Folder, name) : Path.Combine(ResultFolder, "work");
        }
    }

    /// <summary>Where the run works for this company.</summary>
    public WorkFolder Work => new(Context.Volume, WorkPath, Run.BegunFact(Company.Code, "token") ?? "",
        [.. Aside.IsOnServer ? (string[])[] : [Aside.Path, LentAside.Path], Path.Combine(WorkPath, PresentFolder)]);

    /// <summary>Folder in the work folder in which a restore sets aside what was there.</summary>
    public const string PresentFolder = "present";

    /// <summary>The staged store of a version.</summary>
    public Records.StoreAddress Staged(string version) => Company.NewStore.Beside(WorkPath, Run.Id, "v" + version);

    /// <summary>Where a copy of a store of the way is made, for the vendor's old program to write it out from.</summary>
    public Records.StoreAddress ForExport(Hop hop) =>
        (hop.From.Name == From.Name ? Company.OldStore : Company.NewStore).Beside(WorkPath, Run.Id, "export-v" + hop.From.Name);

    /// <summary>All places for such copies.</summary>
    public IEnumerable<Records.StoreAddress> ExportCopies => Way.Hops.Where(hop => hop.Means.AroundExport is not null)
        .Select(ForExport);

    /// <summary>The version at the end of the way; the same when no hop is gone, as in mending.</summary>
    public KitVersion To => Way.To;

    /// <summary>The hops that the company is to go in the end, also in a run that does not go them.</summary>
    public Way Ahead { get; init; } = new(From, []);

    /// <summary>The staged store that is to take the old one's place.</summary>
    public Records.StoreAddress FinalStaged => Way.Hops.Count > 0 ? Staged(To.Name) : Company.NewStore.Beside(WorkPath, Run.Id, "mended");

    /// <summary>What is known, while the run is under way, of the new store in its place.</summary>
    internal StoreInPlace InPlace { get; } = new();

    /// <summary>Whether the new store in its place is, byte for byte, the one in which its engine found nothing when it was
    /// made.</summary>
    internal bool IsKnownSound => !Company.NewStore.IsOnServer && Fact(Stages.Convert, ConvertStage.CheckedAsDigested) is 1
        && InPlace.AsMade is { } mark && StoreMark.Of(Company.NewStore, Context.Stores)?.Text == mark.Text;

    /// <summary>Checks a store of the company, with lists of all records in the stage's folder.</summary>
    public CheckResult Check(Records.StoreAddress address, KitVersion version, Way way, string stage, bool isKnownSound = false,
        bool isBeforeBackup = false, Predicate<string>? isCarriedAsItWas = null)
    {
        // As the kit has them, so that custom fields, which this run carries, are told.
        KitVersion known = Company.Kit.Version(version.Name) ?? version;
        Correspondence[] kept = [.. way.Hops.Take(way.Foreseen.Count).Select(hop => (Company.Kit
            .Hops.FirstOrDefault(kept => kept.From.Name == hop.From.Name
            && kept.To.Name == hop.To.Name) ?? hop).Correspondence with { IsOnCopy = hop.Correspondence.IsOnCopy })];
        return CompanyChecks.Run(Context, Company, address, known, kept, Company.Answers, NewListFolder(stage), isKnownSound,
            isBeforeBackup, isCarriedAsItWas);
    }

    /// <summary>Where the old store goes at the change-over.</summary>
    public Records.StoreAddress Aside => Company.OldStore.Beside(WorkPath, Run.Id, "old-v" + From.Name);

    /// <summary>Where the old store stands while a copy of it is converted in its place.</summary>
    public Records.StoreAddress LentAside => Company.OldStore.Beside(WorkPath, Run.Id, "lent-v" + From.Name);

    /// <summary>The digest of one of the company's stores before the hops.</summary>
    public string DigestOfOld(Records.StoreAddress store) => Context.Places.DigestOf(store, From.TextEncoding, Context.Cancel);

    /// <summary>The digest of one of the company's stores after the hops.</summary>
    public string DigestOfNew(Records.StoreAddress store) => Context.Places.DigestOf(store, To.TextEncoding, Context.Cancel);

    /// <summary>Whether the company's old store is what it was when the run began. By its mark, where this process knows its digest: the
    /// change-over reads all of it once more.</summary>
    public bool IsOldUntouched() => Context.Places.DigestByMark(Company.OldStore, From.TextEncoding, Context.Cancel)
        == Run.BegunFact(Company.Code, "sha256");

    /// <summary>Whether a staged store is the one with this digest; by its mark, as <see cref="IsOldUntouched"/>.</summary>
    public bool IsStaged(Records.StoreAddress staged, string digest) =>
        Context.Places.DigestByMark(staged, To.TextEncoding, Context.Cancel) == digest;

    /// <summary>The digests of one of the company's stores before the hops and of one after them, on two cores.</summary>
    public (string Old, string New) DigestsOf(Records.StoreAddress old, Records.StoreAddress renewed) =>
        Together.Do(() => DigestOfOld(old), () => DigestOfNew(renewed));

    /// <summary>The last facts of a stage that was done at some time in this run; null when it never was.</summary>
    public IReadOnlyDictionary<string, string>? FactsOf(string stage) =>
        Run.Journal.Entries.LastOrDefault(entry => entry.Company == Company.Code && entry.Stage == stage && entry.State == "done")?.Facts;

    /// <summary>Removes a store that this run made; fine when it is not there.</summary>
    public void RemoveMade(Records.StoreAddress made)
    {
        if (made.IsOnServer) Context.Places.Remove(made);
        else Work.Remove(made.Path);
    }

    /// <summary>Whether a store that this run made is still what it was when it was proved: people may have worked with it since, and
    /// what they did is nowhere else.</summary>
    /// <param name="made">The store, where it is now.</param>
    /// <param name="maker">The stage that made it.</param>
    public bool IsAsMade(Records.StoreAddress made, string maker)
    {
        string? known = FactsOf(Stages.ChangeOver)?.GetValueOrDefault("new-sha256") ?? FactsOf(maker)?.GetValueOrDefault("sha256");
        // It was never finished, so that nobody can have worked with it.
        return known is null || !Context.Places.Exists(made) || DigestOfNew(made) == known;
    }

    /// <summary>Where this company's results are kept.</summary>
    public string ResultFolder => Path.Combine(Run.Folder, Company.Code);

    /// <summary>Writes a result document in place of an earlier one.</summary>
    /// <typeparam name="T">The result's type, which <see cref="RunsJson"/> knows.</typeparam>
    /// <param name="name">The stage.</param>
    /// <param name="result">The result.</param>
    public void SaveResult<T>(string name, T result)
    {
        Context.Volume.CreateFolder(ResultFolder);
        Context.Volume.Replace(Path.Combine(ResultFolder, name + ".json"), JsonSerializer.SerializeToUtf8Bytes(result,
            ResultJson.Of<T>(RunsJson.Form)));
    }

    /// <summary>A result document; null when there is none that can be read.</summary>
    /// <typeparam name="T">The result's type.</typeparam>
    /// <param name="name">The stage.</param>
    public T? LoadResult<T>(string name) => ResultJson.Load(Path.Combine(ResultFolder, name + ".json"), ResultJson.Of<T>(RunsJson.Form));

    /// <summary>An empty folder for the lists of a stage, in place of an earlier one; only its owner may look into it.</summary>
    public string NewListFolder(string stage)
    {
        string folder = Path.Combine(ResultFolder, stage + "-lists");
        Context.Volume.Remove(folder);
        Context.Volume.CreateFolder(folder);
        Context.Volume.SetMode(folder, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        return folder;
    }

    /// <summary>A number in the facts of a stage that is done; null when it is not done.</summary>
    public long? Fact(string stage, string name) =>
        Run.Journal.Last(Company.Code, stage) is { State: "done" } entry && entry.Facts.TryGetValue(name, out string? text)
            && long.TryParse(text, System.Globalization.CultureInfo.InvariantCulture, out long value) ? value : null;
}

/// <summary>What taking a stage back came to.</summary>
/// <param name="What">What was done, in one line.</param>
/// <param name="IsWhole">Whether nothing of the stage is left anywhere.</param>
public sealed record TakenBack(string What, bool IsWhole = true);

/// <summary>A step of a company's way.</summary>
public abstract class Stage(CompanyRun on)
{
    /// <summary>The company on its way.</summary>
    protected CompanyRun On { get; } = on;

    /// <summary>Code of the company.</summary>
    public string CompanyCode => On.Company.Code;

    /// <summary>One of <see cref="Stages"/>.</summary>
    public abstract string Name { get; }

    /// <summary>Whether it changes something that TakeBack can take back.</summary>
    public virtual bool CanBeTakenBack => false;

    /// <summary>What stops it; empty when nothing does.</summary>
    public virtual IReadOnlyList<string> Obstacles() => [];

    /// <summary>What it is about to do, for the journal's announcement.</summary>
    public virtual IReadOnlyDictionary<string, string> Plan() => new Dictionary<string, string>();

    /// <summary>Does it.</summary>
    public abstract StageOutcome Do();

    /// <summary>Proves, by reading anew, that it is done.</summary>
    public virtual StageOutcome Prove(StageOutcome done) => done;

    /// <summary>What on the disk is not as the journal says of this stage; null when all is. Asked before anything is removed or
    /// claimed.</summary>
    public virtual string? Disagreement() => null;

    /// <summary>Takes it back; null when there was nothing to take back, otherwise what was done, in one line.</summary>
    public virtual TakenBack? TakeBack() => null;

    /// <summary>Facts from name-value pairs; numbers without culture.</summary>
    protected static Dictionary<string, string> Facts(params (string Name, object Value)[] facts) =>
        facts.ToDictionary(fact => fact.Name, fact => Convert.ToString(fact.Value, System.Globalization.CultureInfo.InvariantCulture)
            ?? "");
}
