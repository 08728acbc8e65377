// AnyOfficeWalk.cs: random commands on an office that was made up, with kills and disk faults, and what has to be true after each of them.
using System.Text.Json;
using System.Text.RegularExpressions;
using Transferra.Core.Records;
using Transferra.Stores;

namespace Transferra.Cli.Tests;

/// <summary>Something that must never be was.</summary>
internal sealed class BrokenPromiseException(string message) : Exception(message);

/// <summary>One walk.</summary>
internal sealed class AnyOfficeWalk(AnyOffice office, ServedProgram program, Random random)
{
    private readonly List<string> _steps = [];

    /// <summary>How many upgrades, without a fault, went through and how many were tried.</summary>
    public (int Through, int Tried) Upgrades { get; private set; }

    /// <summary>How many sets were held against the stores they are of.</summary>
    public int SetsHeldAgainst { get; private set; }

    private string Path => office.Office.Path;

    private string[] Codes => [.. office.Companies.Select(company => company.Code)];

    private static IEnumerable<string> Yes(IEnumerable<string> codes) => codes.SelectMany(code => (string[])["--yes", code]);

    private T One<T>(params ReadOnlySpan<T> of) => of[random.Next(of.Length)];

    private string[] Some() => [.. Codes.Where(_ => random.Next(3) > 0).DefaultIfEmpty(One<string>(Codes))];

    /// <summary>Goes some steps, then back to where nothing is begun, then upgrades everything.</summary>
    public void Go()
    {
        Step(DiskFault.None, "ready", "--confirm", "one-disk");
        int steps = random.Next(1, 4);
        for (int i = 0; i < steps; i++)
        {
            PlacesComeAndGo();
            string[] command = Command();
            Served served = Step(Fault(command), command);
            // Whoever sees that it stopped does mostly what the last line says.
            if (served.Exit is 3 or Served.Killed && random.Next(3) > 0) Step(random.Next(3) == 0 ? Fault(command) : DiskFault.None,
                One<string[]>(["upgrade", "--resume"], ["undo", .. Yes(Codes)], ["reopen"]));
        }
        PlacesComeBack();
        Settle();
        SetsTellOfTheirStores();
        Served last = Step(DiskFault.None, ["upgrade", .. Yes(Codes)]);
        if (last.Exit != 0) return;
        Served signed = Step(DiskFault.None, "signoff", "--json");
        if (signed.Exit != 0) return;
        JsonElement companies = JsonDocument.Parse(signed.Out).RootElement.GetProperty("result").GetProperty("companies");
        OriginalsStandWhereItSays(companies);
        WeeksLater(companies);
    }

    // Another company's code may begin with this one's and a "_".
    private static string SetsOf(string code) => code + "_odd_v*";

    // Each old store is in its place and is what it was, so it is what any set of it tells.
    private void SetsTellOfTheirStores()
    {
        foreach (AnyCompany company in office.Companies.Where(company => company.Real.Engine != "delimited"))
        {
            string place = company.Real.IsOnServer ? OddOffice.ServerYaml(company.Real) : company.Real.Path;
            foreach (string set in Directory.Exists(System.IO.Path.Combine(Path, "sets"))
                ? Directory.GetFiles(System.IO.Path.Combine(Path, "sets"), SetsOf(company.Code)).Take(1) : [])
            {
                Served match = program.Run(DiskFault.None, Path, office.Roots, "match", "--old", set, "--new", place, "--baseline");
                _steps.Add($"(baseline of {company.Code} -> {match.Exit})");
                SetsHeldAgainst++;
                // Of values that are not what their column is declared for a set records nothing but that they are there, and says so.
                bool isTold = company.Before.ContainsKey("wrong")
                    ? match.Exit == 1 && System.Text.RegularExpressions.Regex.Count(match.Out, @"\bNO\b") == 1
                        && match.Out.Contains("NO: it has cells that cannot be read", StringComparison.Ordinal)
                    : match.Exit == 0 && match.Out.Contains("The same: all records that the set tells of", StringComparison.Ordinal);
                if (!isTold)
                    Break($"nobody touched {company.Code}, and a set of it tells of other records", match);
            }
        }
    }

    // The old data is gone by then, and perhaps its sets as well; what is left still says that nothing was altered.
    private void WeeksLater(JsonElement companies)
    {
        AnyCompany one = office.Companies[random.Next(office.Companies.Count)];
        string code = one.Code, aside = companies.EnumerateArray().Single(company =>
            company.GetProperty("code").GetString() == code).GetProperty("setAside").GetString()!;
        if (Directory.Exists(aside)) Directory.Delete(aside, recursive: true);
        else if (File.Exists(aside)) File.Delete(aside);
        else new StoreOpener().ServerOf(one.Real).Remove(aside.Split(" (")[0]);
        bool withSets = random.Next(2) == 0;
        if (!withSets)
            foreach (string set in Directory.GetFiles(Path, SetsOf(code) + "_run*", SearchOption.AllDirectories)) File.Delete(set);
        _steps.Add($"  (the old data of {code} is gone{(withSets ? "" : ", and its sets as well")})");
        Served match = program.Run(DiskFault.None, Path, office.Roots, "match", code);
        if (match.Exit is not (0 or 1) || match.Out.Contains("NOT ", StringComparison.Ordinal)
            || !match.Out.Contains(withSets ? $"Proved: the new store of {code} " : $"Unaltered for {code}: ", StringComparison.Ordinal))
            Break($"nobody touched {code}, and the match says otherwise", match);
    }

    private string[] Command() => random.Next(22) switch
    {
        0 => ["survey"],
        1 => ["ready"],
        2 or 3 => ["check", .. Some()],
        4 or 5 => ["backup", .. Some()],
        6 => ["sets", "--prove"],
        7 => ["sets", "--tidy", "1"],
        8 => ["sets"],
        9 or 10 => ["convert", One<string>(Codes)],
        11 => ["match", One<string>(Codes)],
        12 => ["close"],
        13 => ["reopen"],
        14 => ["restore", One<string>(Codes), "--to", System.IO.Path.Combine(Path, $"out{_steps.Count}")],
        15 => Restored(One<string>(Codes)),
        16 or 17 => ["undo", .. Yes(Codes)],
        18 => ["upgrade", "--resume"],
        _ => Upgraded(Some()),
    };

    private static string[] Restored(string code) => ["restore", code, "--yes", code];

    private static string[] Upgraded(string[] codes) => ["upgrade", .. codes, .. Yes(codes)];

    private DiskFault Fault(string[] command)
    {
        if (command[0] is "survey" or "match" || random.Next(2) == 0) return DiskFault.None;
        // Mostly among the first operations of a command, now and then far along.
        int at = (int)Math.Pow(2, random.NextDouble() * 7.3);
        return new DiskFault(One("kill", "kill", "fail", "fail-for-good"), random.Next(2) == 0 ? at : -at);
    }

    private void PlacesComeAndGo()
    {
        string there = System.IO.Path.Combine(Path, "elsewhere/more"), gone = System.IO.Path.Combine(Path, "elsewhere/unplugged");
        if (Directory.Exists(there) && random.Next(6) == 0) Directory.Move(there, gone);
        else if (Directory.Exists(gone) && random.Next(2) == 0) PlacesComeBack();
        else return;
        _steps.Add("  (a place went or came)");
    }

    private void PlacesComeBack()
    {
        string there = System.IO.Path.Combine(Path, "elsewhere/more"), gone = System.IO.Path.Combine(Path, "elsewhere/unplugged");
        if (!Directory.Exists(gone)) return;
        if (Directory.Exists(there)) throw new BrokenPromiseException("the place on the disk that was not there was made anew:\n"
            + History());
        Directory.Move(gone, there);
    }

    // From every state there is a command that goes on: at the end nothing is begun, the office is open and each old store in its place.
    private void Settle()
    {
        for (int i = 0; i < 12; i++)
        {
            Served undone = Step(DiskFault.None, ["undo", .. Yes(Codes)]);
            if (undone.Exit == 2 && undone.All.Contains("there is no run to undo", StringComparison.Ordinal)) break;
            if (i == 11) Break("nothing leads back to where nothing is begun", undone);
        }
        Served reopened = Step(DiskFault.None, "reopen");
        if (!IsOpen()) Break("the office does not open", reopened);
        foreach (AnyCompany company in office.Companies)
            if (!IsOriginal(company, company.Real)) Break("after everything was taken back the store of "
                + $"{company.Code} is not what it was", reopened);
        foreach (string root in office.Roots.Where(Directory.Exists))
            if (Directory.EnumerateFileSystemEntries(root, "transferra-2*", SearchOption.AllDirectories)
                .FirstOrDefault() is { } left) Break($"{left} is left", reopened);
    }

    private Served Step(DiskFault fault, params string[] command)
    {
        string before = Data();
        Served served = program.Run(fault, Path, office.Roots, command);
        _steps.Add($"{string.Join(' ', command)}{fault} -> {served.Exit}" + (served.Exit == 0 ? "" : "  | " + string.Join(" / ",
            (served.Err.Length > 0 ? served.Err : served.Out).Split('\n', StringSplitOptions.RemoveEmptyEntries).Take(3))));
        if (served.Violations.Count > 0) Break($"not announced by a journal: {string.Join("; ", served.Violations)}", served);
        if (served.Exit is not (0 or 1 or 2 or 3 or 4 or Served.Killed)) Break("there is no such exit code", served);
        if (Regex.IsMatch(served.All, @"Exception\b|^ +at (Transferra|System|Microsoft)\.",
            RegexOptions.Multiline)) Break("words for programmers", served);
        if (served.Exit == 2 && Data() != before) Break("it says that nothing was done", served);
        if (served.Exit != Served.Killed && served.All.Trim().Length == 0) Break("not a word", served);
        if (served.Exit != Served.Killed && !IsOpen() && !LastWords(served)
            .Any(line => line.Contains("transferra reopen", StringComparison.Ordinal)
            || line.Contains("--resume", StringComparison.Ordinal) || line.Contains("transferra undo", StringComparison.Ordinal)
                || line.Contains("transferra close", StringComparison.Ordinal)))
            Break("the office is closed and the last words do not say how it is opened", served);
        foreach (AnyCompany company in office.Companies.Where(company => !Candidates(company)
            .Any(place => IsOriginal(company, place)))) Break($"the original of {company.Code} is nowhere", served);
        if (command[0] == "upgrade" && fault == DiskFault.None && !command.Contains("--resume")) Upgrades = (Upgrades.Through
            + (served.Exit == 0 ? 1 : 0), Upgrades.Tried + 1);
        if (served.Exit == 0 && command[0] is "upgrade" or "match") ProvedIsEqual(command, served);
        NobodyElseReads(served);
        return served;
    }

    private static IEnumerable<string> LastWords(Served served) => served.All.Split('\n', StringSplitOptions.RemoveEmptyEntries)
        .TakeLast(6);

    private void ProvedIsEqual(string[] command, Served served)
    {
        if (command[0] == "match" && Regex.Match(served.Out, "^new: (.+)$", RegexOptions.Multiline) is { Success: true } named)
        {
            AnyCompany company = office.Companies.Single(company => company.Code == command[1]);
            if (!company.New.IsOnServer && System.IO.Path.Exists(named.Groups[1].Value)) Compare(company,
                company.New with { Path = named.Groups[1].Value }, served);
        }
        else if (command[0] == "upgrade" && !command.Contains("--resume"))
            foreach (AnyCompany company in office.Companies.Where(company => Array.IndexOf(command, company.Code) > 0)) Compare(company,
                company.New, served);
    }

    private void Compare(AnyCompany company, StoreAddress renewed, Served served)
    {
        IReadOnlyList<string> expected = AnyOffice.Expected(company), found = AnyOffice.Found(company, renewed);
        if (expected.SequenceEqual(found)) return;
        Break($"proved, and not equal: {company.Code}\n  expected and not there: "
            + $"{string.Join("\n    ", expected.Except(found).Take(5))}\n  there and not expected: "
            + $"{string.Join("\n    ", found.Except(expected).Take(5))}", served);
    }

    private bool IsOriginal(AnyCompany company, StoreAddress place)
    {
        if (!place.IsOnServer) return System.IO.Path.Exists(place.Path) && Same(AnyOffice.Files(place.Path), company.Bytes);
        try { return Rows(IndependentReader.Read(place)) == Rows(company.Before); }
        catch (System.Data.Common.DbException) { return false; }
    }

    private static bool Same(IReadOnlyDictionary<string, string> a, IReadOnlyDictionary<string, string> b) => a.Count == b.Count
        && a.All(entry => b.GetValueOrDefault(entry.Key) == entry.Value);

    private static string Rows(SortedDictionary<string, (string[] Columns, List<string[]> Rows)> tables) =>
        string.Join('\n', tables.Select(table =>
        $"{table.Key} {string.Join(',', table.Value.Columns)}\n" + string.Join('\n',
            table.Value.Rows.Select(row => string.Join(" | ", row)).Order(StringComparer.Ordinal))));

    // In its place, or in a work folder or under a run's name beside it.
    private static IEnumerable<StoreAddress> Candidates(AnyCompany company)
    {
        yield return company.Real;
        if (company.Real.IsOnServer)
        {
            foreach (string name in new StoreOpener().ServerOf(company.Real).Names(company.Real.Path)
                .Where(name => System.IO.Path.GetFileName(name).StartsWith(StoreAddress.RunPrefix, StringComparison.Ordinal)
                && name.Contains(company.Real.Name[..8], StringComparison.Ordinal))) yield return company.Real with { Path = name };
            yield break;
        }
        foreach (string work in Directory.GetDirectories(company.Real.Folder, "transferra-2*-" + company.Code))
            foreach (string inside in Directory.GetDirectories(work)) yield return company.Real with
            {
                Path =
                System.IO.Path.Combine(inside, company.Real.Name)
            };
    }

    private void OriginalsStandWhereItSays(JsonElement companies)
    {
        foreach (JsonElement signed in companies.EnumerateArray())
        {
            AnyCompany company = office.Companies.Single(company => company.Code == signed.GetProperty("code").GetString());
            string aside = signed.GetProperty("setAside").GetString()!;
            if (!company.Real.IsOnServer && !IsOriginal(company,
                company.Real with { Path = aside })) throw new BrokenPromiseException($"the original of {company.Code} is not at "
                    + $"{aside}, where the sign-off says\n{History()}");
        }
    }

    // Closed between "begun" and "reopened" in the newest journal of a closing.
    private bool IsOpen()
    {
        string closings = System.IO.Path.Combine(Path, "transferra/closings");
        if (!Directory.Exists(closings)) return true;
        return Directory.GetDirectories(closings).All(closing => !File.Exists(System.IO.Path.Combine(closing, "journal.jsonl"))
            || File.ReadLines(System.IO.Path.Combine(closing, "journal.jsonl")).ToArray() is not { Length: > 0 } lines
            || lines[^1].Contains("\"state\":\"reopened\"", StringComparison.Ordinal) || lines[^1].Contains("\"state\":\"given-up\"",
                StringComparison.Ordinal));
    }

    // Names, sizes and times of everything beside the stores; only the name where it is not UTF-8, as .NET cannot open such a file.
    private string Data() => string.Join('\n', office.Roots.Where(Directory.Exists)
        .SelectMany(root => Directory.EnumerateFileSystemEntries(root, "*", SearchOption.AllDirectories))
        .Where(path => !path.EndsWith("-shm", StringComparison.Ordinal) && !path.EndsWith("-wal", StringComparison.Ordinal))
            .Order(StringComparer.Ordinal)
        .Select(path => new FileInfo(path) is { Exists: true } file ? $"{path} {file.Length} {file.LastWriteTimeUtc.Ticks}" : path));

    private void NobodyElseReads(Served served)
    {
        const UnixFileMode others = UnixFileMode.OtherRead | UnixFileMode.OtherWrite | UnixFileMode.OtherExecute;
        // Below a folder that is closed to them nobody comes.
        foreach (string folder in ((string[])["transferra", "sets", "elsewhere/more"]).Select(top => System.IO.Path.Combine(Path, top))
            .Where(Directory.Exists))
            if ((File.GetUnixFileMode(folder) & others) != 0) Break($"others may look into {folder}", served);
        foreach (string work in office.Roots.Where(Directory.Exists).SelectMany(root => Directory.EnumerateDirectories(root,
            "transferra-2*", SearchOption.AllDirectories)))
            if ((File.GetUnixFileMode(work) & others) != 0) Break($"others may look into {work}", served);
        foreach (string made in Directory.EnumerateDirectories(Path, "out*"))
            if ((File.GetUnixFileMode(made) & others) != 0) Break($"others may look into {made}", served);
    }

    /// <summary>The office and what was done to it.</summary>
    public string History() => $"{office}\n  " + string.Join("\n  ", _steps);

    private void Break(string what, Served served) =>
        throw new BrokenPromiseException($"{what}\n{History()}\nwhat the last command "
            + $"said:\n{served.All[^Math.Min(served.All.Length, 1500)..]}");
}
