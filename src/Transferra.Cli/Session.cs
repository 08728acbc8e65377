// Session.cs: one call of the program: its options, its screen, and the answer it owes.
using System.Reflection;
using System.Text.Json;
using Transferra.Cli.Rendering;
using Transferra.Core.Backup;
using Transferra.Core.Checks;
using Transferra.Core.Closing;
using Transferra.Core.Gates;
using Transferra.Core.Kits;
using Transferra.Core.Machine;
using Transferra.Core.Office;
using Transferra.Core.Records;
using Transferra.Core.Runs;
using Transferra.Core.Surveys;
using Transferra.Stores;
using Transferra.Stores.Sftp;

namespace Transferra.Cli;

/// <summary>One call of the program.</summary>
/// <param name="Command">The command's name.</param>
/// <param name="OfficeFolder">Folder of office.yaml.</param>
/// <param name="Json">Whether stdout gets one JSON document instead of words.</param>
/// <param name="Codes">Companies named; empty for all.</param>
/// <param name="Confirmed">Companies confirmed with --yes.</param>
/// <param name="Volume">The disk.</param>
/// <param name="Screen">Where words go.</param>
/// <param name="Cancel">Ctrl-C.</param>
internal sealed record Session(string Command, string OfficeFolder, bool Json, IReadOnlyList<string> Codes,
    IReadOnlyList<string> Confirmed, IVolume Volume,
    Screen Screen, CancellationToken Cancel)
{
    public static string Version { get; } = typeof(Session).Assembly
        .GetCustomAttribute<AssemblyInformationalVersionAttribute>()?.InformationalVersion.Split('+')[0] ?? "0";

    private OfficeDescription? _office;

    /// <summary>The office; that of office.yaml when none is given.</summary>
    public OfficeDescription Office => Given ?? (_office ??= OfficeLoader.Load(OfficeFolder));

    /// <summary>An office of a store that was named on the command line; null for that of office.yaml.</summary>
    public OfficeDescription? Given { get; init; }

    public IStoreOpener Stores { get; } = new StoreOpener();

    public StorePlaces Places => new(Stores, Volume);

    public RunContext Context(IRunObserver observer) => new(Office, Stores, Volume, observer, Version, Cancel)
    {
        Closing = Closing,
        Sets = Sets,
        RowsBetweenMarks = RowsBetweenMarks,
        BetweenMatchMarks = BetweenMatchMarks,
        ProgramVersion = ProgramVersion,
    };

    /// <summary>The version of the program that is installed for a company; null when nothing tells it.</summary>
    private string? ProgramVersion(Company company) => Office.PackageOf(company.Code) is { } package
        ? ProgramVersions.Installed(package, Tools.Of(package.Kit).Commands) : null;

    /// <summary>The report of a run.</summary>
    public RunReport ReportOf(Run run) => RunReport.Of(Office, run, ProgramVersion);

    /// <summary>Set by tests, so that offices of a few records come to marks, too.</summary>
    internal static long RowsBetweenMarks { get; set; } = RunContext.UsualRowsBetweenMarks;

    /// <summary>Set by tests, so that a match of a moment keeps what it has come to.</summary>
    internal static TimeSpan BetweenMatchMarks { get; set; } = RunContext.UsualBetweenMatchMarks;

    private SetPlaces? _sets;

    /// <summary>Whether a place that sets are kept in could not be reached.</summary>
    public bool Unreached { get; set; }

    /// <summary>What the command has changed beside its run, and how to go on when it ends before that begins; null when nothing.</summary>
    public string? Changed { get; set; }

    /// <summary>The places sets are kept in.</summary>
    public SetPlaces Sets => _sets ??= new SetPlaces([.. Office.Backup.Places.Select(place => place.Server is { } server
        ? (ISetPlace)new SftpPlace(server) : new LocalPlace(place.Folder, Volume))],
            new SetSecret(() => Passphrase(Office.Backup.LockedWith)),
        Office.Backup.LockedWith is not null);

    /// <summary>Whether there is an office here.</summary>
    public bool HasOffice => Given is not null || File.Exists(Path.Combine(OfficeFolder, OfficeLoader.FileName));

    /// <summary>Where what is too large for memory is unpacked: where an office keeps such things, otherwise in the present
    /// folder.</summary>
    public string Scratch => HasOffice ? CompanyBackup.Scratch(Office) : Environment.CurrentDirectory;

    private SetPlaces? _bareSets;

    /// <summary>Sets by their paths only, where there is no office.</summary>
    public SetPlaces BareSets => _bareSets ??= new SetPlaces([], new SetSecret(() => Passphrase(null)));

    private const string PassphraseVariable = "TRANSFERRA_PASSPHRASE";

    // Where office.yaml says it is kept; otherwise from the environment; otherwise from who sits there.
    private string? Passphrase(KeyPlace? kept)
    {
        if (kept is not null) return SecretText.Read("passphrase", kept.File, kept.Variable);
        if (Environment.GetEnvironmentVariable(PassphraseVariable) is { Length: > 0 } given) return given;
        return Console.IsInputRedirected ? null : Screen.AskSecret("Passphrase of the locked set: ");
    }

    /// <summary>Keeps a second program from working on the same office until disposed.</summary>
    public IDisposable Lock() => OfficeRuns.Lock(OfficeFolder, Volume);

    /// <summary>The same, and keeps every other Transferra from the office's stores, whichever office it works for.</summary>
    public IDisposable LockStores()
    {
        IDisposable office = Lock();
        try
        {
            return new Both(StoreLocks.Take(Office, Stores), office);
        }
        catch
        {
            office.Dispose();
            throw;
        }
    }

    private sealed record Both(IDisposable Stores, IDisposable Office) : IDisposable
    {
        public void Dispose()
        {
            Stores.Dispose();
            Office.Dispose();
        }
    }

    public Words Words => new(OfficeFolder, Volume);

    public Closings Closings => new(OfficeFolder, Volume);

    public ClosingTools Tools => new(Volume, Stores, Commands, Cancel) { CommandsOfKit = kit => KitTrust.Commands(kit, Words, Commands) };

    /// <summary>What files that other programs make are masked with: as whoever called this program has it.</summary>
    public static uint UsersMask { get; set; }

    // Opening an office again needs no office.yaml; then only our own variables are known to be secret.
    public ICommands Commands => new SystemCommands(OfficeFolder, UsersMask, [PassphraseVariable, .. SecretsOrNone()]);

    private IEnumerable<string> SecretsOrNone()
    {
        try { return Office.SecretVariables; }
        catch (Exception error) when (error is TransferraException or DescriptionException or IOException
            or UnauthorizedAccessException)
        { return []; }
    }

    public OfficeClosing Closing => new(Closings, Tools, new ClosingScreen(Screen));

    public KeptChecks Checks => new(OfficeFolder, Volume);

    public ProofLog Proofs => new(OfficeFolder, Volume);

    /// <summary>Does something for one company, so that whatever goes wrong there does not keep the others from it.</summary>
    /// <param name="code">The company.</param>
    /// <param name="what">What is done.</param>
    /// <param name="action">Does it.</param>
    /// <returns>Why it could not be done; null when it could.</returns>
    public Exception? Attempt(string code, string what, Action action)
    {
        try
        {
            action();
            return null;
        }
        catch (Exception error) when (!(error is OperationCanceledException && Cancel.IsCancellationRequested))
        {
            if (error is not (TransferraException or DescriptionException or IOException
                or UnauthorizedAccessException)) Diagnostics.Write($"{code} {what}", error);
            return error;
        }
    }

    /// <summary>Tells why something could not be done for a company.</summary>
    /// <returns>The same in one line.</returns>
    public string TellFailed(string what, Exception error)
    {
        string words = error is TransferraException ? error.Message : Unforeseen.Words(error);
        Screen.Bad($"{what}: {words}");
        if (error is TransferraException { Next.Length: > 0 } told) Screen.Line(told.Next);
        return words;
    }

    /// <summary>Shows what a run reports.</summary>
    public ScreenObserver Observer() => new(Screen, Diagnostics);

    /// <summary>Where what nobody foresaw is written down.</summary>
    public Diagnostics Diagnostics => new(OfficeFolder, Command);

    /// <summary>The places sets are kept in, as they are known again.</summary>
    public PlaceBook PlaceBook => new(OfficeFolder, Volume);

    /// <summary>By what this office is told apart from others; drawn when it has no identity yet.</summary>
    public OfficeIdentity Identity => OfficeIdentity.Of(OfficeFolder, Volume);

    /// <summary>The same; null when it has none yet.</summary>
    public OfficeIdentity? KnownIdentity => OfficeIdentity.Find(OfficeFolder);

    public OfficeRuns Runs => new(Office, Volume);

    /// <summary>The companies named, or all.</summary>
    /// <exception cref="TransferraException">One is not in office.yaml.</exception>
    public IReadOnlyList<Company> Companies
    {
        get
        {
            Company[] all = [.. Office.Companies];
            if (Codes.Count == 0) return all;
            return [.. Codes.Select(code =>
                all.FirstOrDefault(company => string.Equals(company.Code, code, StringComparison.OrdinalIgnoreCase))
                ?? throw new TransferraException($"there is no company {code} in {OfficeLoader.FileName}",
                    $"The companies are {string.Join(", ", all.Select(company => company.Code))}."))];
        }
    }

    /// <summary>Ends the call: the JSON document when one is wanted, and the exit code.</summary>
    /// <typeparam name="T">The result's type, which <see cref="CliJson"/> knows.</typeparam>
    /// <param name="exitCode">0 to 4.</param>
    /// <param name="result">What the document says.</param>
    public int Answer<T>(int exitCode, T result)
    {
        if (Json)
        {
            var document = new JsonFacts { { "command", Command }, { "exitCode", exitCode }, { "result", result } };
            Screen.Try(() =>
            {
                Console.Out.WriteLine(JsonSerializer.Serialize(document, CliJson.Form.JsonFacts));
                Console.Out.Flush();
            });
        }
        return exitCode;
    }

    /// <summary>The person who is there to be asked; null when nobody is. Whoever confirmed beforehand may have gone home, and the office
    /// would stay closed until morning.</summary>
    public IPersonAsked? Person => Json || Confirmed.Count > 0 || Console.IsInputRedirected ? null : new PersonAsked(Screen, Cancel);

    /// <summary>Asks for each company's code to be typed; true when all were typed or given with --yes.</summary>
    public bool Confirm(IReadOnlyList<string> codes, string what)
    {
        foreach (string code in codes)
        {
            if (Confirmed.Contains(code, StringComparer.OrdinalIgnoreCase)) continue;
            if (Console.IsInputRedirected)
                throw new TransferraException($"{what} {code} has to be confirmed, and nobody is there to type", $"Add --yes {code}.");
            Screen.Prompt($"{what} {code}? Type its code to go on: ");
            if (!string.Equals(Screen.ReadLine(Cancel)?.Trim(), code, StringComparison.Ordinal))
            {
                Screen.Line("That is not the code. Nothing was done.");
                return false;
            }
        }
        return true;
    }
}
