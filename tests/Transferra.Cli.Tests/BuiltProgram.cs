// BuiltProgram.cs: runs the built program, as an administrator would, and keeps what came back.
// Most commands go to processes that stay between commands (ServedProgram.cs), because starting one takes longer than what these tests
// give it to do; in the soak run, and wherever a test is about the process itself, each command is a process of its own.
using System.Collections.Concurrent;
using System.Diagnostics;
using System.Text.Json;
using Transferra.Tests;

namespace Transferra.Cli.Tests;

/// <summary>What one call of the program came to.</summary>
internal sealed record Called(int ExitCode, string Out, string Err)
{
    /// <summary>What a person saw.</summary>
    public string All => Out + Err;

    /// <summary>The JSON document, which must be all of stdout.</summary>
    public JsonElement Json => JsonDocument.Parse(Out).RootElement;

    public Called Expect(int exitCode)
    {
        Assert.True(exitCode == ExitCode, $"exit code {ExitCode} and not {exitCode}:\n{Out}\n{Err}");
        return this;
    }

    // Long lines are broken at 100 columns; what was said is the same.
    private string Unbroken => string.Join(' ', All.Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries));

    public Called SaysNot(params string[] texts)
    {
        foreach (string text in texts)
            Assert.False(Unbroken.Contains(text, StringComparison.Ordinal), $"\"{text}\" is said in:\n{All}");
        return this;
    }

    public Called Says(params string[] texts)
    {
        string unbroken = Unbroken;
        foreach (string text in texts)
            Assert.True(unbroken.Contains(text, StringComparison.Ordinal) || All.Contains(text, StringComparison.Ordinal),
                $"\"{text}\" is not said in:\n{All}");
        return this;
    }
}

internal static class BuiltProgram
{
    // test.sh has the program compiled ahead of time; run from an editor, the tests take the one that was built with them.
    private static readonly string Folder = Environment.GetEnvironmentVariable("TRANSFERRA_TEST_PROGRAM") ?? AppContext.BaseDirectory;

    // ./test.sh --native has it compiled to native code, and tries that.
    private static readonly string? Native = Environment.GetEnvironmentVariable("TRANSFERRA_TEST_NATIVE");

    private const string Program = "transferra.dll";

    private static string PathOf(string assembly) => Path.Combine(Folder, assembly);

    private static readonly ConcurrentBag<ServedProgram> Waiting = [];

    /// <summary>Runs the program on an office and waits for it.</summary>
    public static Called Run(string office, params string[] arguments)
    {
        if (Seeds.IsSoak || Native is not null) return Wait(Start(PathOf(Program), [.. arguments, "--office", office]));
        return RunServed(office, arguments);
    }

    /// <summary>Runs it in a process that stays, also where others get one each: with as many marks on the way as one that is killed
    /// (<see cref="RunUntil"/>), and so with as many changes counted in a SQLite file.</summary>
    public static Called RunServed(string office, params string[] arguments)
    {
        if (!Waiting.TryTake(out ServedProgram? program)) program = new ServedProgram();
        Served served = program.Run(DiskFault.None, office, [], arguments);
        Waiting.Add(program);
        return new Called(served.Exit, served.Out, served.Err);
    }

    // What the kits of an office were like when the word was last given for them; it is not given twice, as each call takes its time.
    private static readonly ConcurrentDictionary<string, string> Trust = new();

    /// <summary>A command, once the word has been given for what the office's kits run, where it needs one.</summary>
    public static string[] Trusted(string office, string[] arguments)
    {
        if (arguments[0] is "upgrade" or "rehearse" or "convert" && RunsSomething(office) && Trust.GetValueOrDefault(office)
            != KitsOf(office)) Trusting(office, Run(office, "ready", "--confirm", "kit"));
        return arguments;
    }

    /// <summary>Whether a kit of the office runs programs or scripts.</summary>
    public static bool RunsSomething(string office) => KitFiles(office).Any(file => file.EndsWith(".yaml", StringComparison.Ordinal)
        && RunsSomethingSaid(File.ReadAllText(file)));

    /// <summary>Remembers that the word was given, unless it was refused.</summary>
    public static void Trusting(string office, Called ready)
    {
        if (ready.ExitCode != 2) Trust[office] = KitsOf(office);
    }

    private static string KitsOf(string office) => string.Join('|', KitFiles(office).Order(StringComparer.Ordinal).Select(file =>
        $"{file}:{Convert.ToHexString(System.Security.Cryptography.SHA256.HashData(File.ReadAllBytes(file)))}"));

    private static IEnumerable<string> KitFiles(string office) => Directory.EnumerateDirectories(office, "kit*").SelectMany(folder =>
        Directory.EnumerateFiles(folder, "*", Everywhere)).Where(file => new FileInfo(file).Length > 0);

    private static readonly EnumerationOptions Everywhere = new() { RecurseSubdirectories = true, IgnoreInaccessible = true };

    private static bool RunsSomethingSaid(string kit) => ((string[])["scripts:", "program:", "command:"]).Any(word => kit.Contains(word,
        StringComparison.Ordinal));

    /// <summary>Runs it in a process of its own.</summary>
    public static Called RunAlone(string office, params string[] arguments) =>
        Wait(Start(PathOf(Program), [.. Trusted(office, arguments), "--office", office]));

    /// <summary>Runs it with environment variables of its own.</summary>
    public static Called RunWith(IReadOnlyDictionary<string, string> environment, string office, params string[] arguments) =>
        Wait(Start(PathOf(Program), [.. Trusted(office, arguments), "--office", office], environment: environment));

    /// <summary>Starts it and leaves it running.</summary>
    public static Process Started(string office, params string[] arguments) => Start(PathOf(Program),
        [.. Trusted(office, arguments), "--office", office]);

    /// <summary>Starts one of the demo's stand-ins and leaves it running.</summary>
    public static Process StandIn(string name, string folder, string file) => Start(PathOf(Program),
        ["stand-in", name, "--in", folder, "--file", file]);

    /// <summary>How a shell starts the built program.</summary>
    public static string InShell => string.Join(' ', WordsFor(PathOf(Program)).Select(word => $"'{word}'"));

    // The words that start an assembly of ours.
    private static string[] WordsFor(string assembly) =>
        Native is not null && Path.GetFileName(assembly) == Program ? [Native] : ["dotnet", assembly];

    /// <summary>Runs it with exactly these arguments in a folder.</summary>
    public static Called RunIn(string folder, params string[] arguments) => Wait(Start(PathOf(Program), arguments, folder));

    /// <summary>Runs it until its n-th operation on the disk, at which it is killed; before that operation, or after it when n is
    /// negative.</summary>
    public static Called RunUntil(int operation, string office, params string[] arguments) =>
        Wait(Start(PathOf("Transferra.KillHost.dll"), [operation.ToString(System.Globalization.CultureInfo.InvariantCulture),
            .. Trusted(office, arguments), "--office", office]));

    /// <summary>Runs it until it has replaced a file for the n-th time, and kills it then; before it does so when n is negative.</summary>
    public static Called RunUntilReplaced(string file, int times, string office, params string[] arguments) =>
        Wait(Start(PathOf("Transferra.KillHost.dll"), [FormattableString.Invariant($"{file}*{-times}"), .. Trusted(office, arguments),
            "--office", office]));

    /// <summary>Starts it so that it takes one command after the other; see ServedProgram.cs.</summary>
    public static Process Serving()
    {
        var start = new ProcessStartInfo("dotnet", [PathOf("Transferra.KillHost.dll"), "serve"])
        {
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true
        };
        // What is compiled ahead of time is good enough for a few records; compiling it anew, better, would take more time than it saves.
        (start.Environment["DOTNET_TieredPGO"], start.Environment["DOTNET_TC_CallCountThreshold"]) = ("0", "800");
        return Process.Start(start)!;
    }

    /// <summary>Runs it and kills it after a time, unless it ended before.</summary>
    /// <returns>Whether it was killed.</returns>
    public static bool RunFor(TimeSpan time, string office, params string[] arguments)
    {
        using Process process = Start(PathOf(Program), [.. Trusted(office, arguments), "--office", office]);
        process.BeginOutputReadLine();
        process.BeginErrorReadLine();
        if (process.WaitForExit(time)) return false;
        process.Kill();
        process.WaitForExit();
        return true;
    }

    /// <summary>Runs it in a terminal, with a line typed.</summary>
    public static Called RunTyping(string line, string office, params string[] arguments)
    {
        string command = string.Join(' ', ((string[])[.. WordsFor(PathOf(Program)), .. Trusted(office, arguments), "--office", office])
            .Select(argument => $"'{argument}'"));
        var start = new ProcessStartInfo("script", ["-qec", command, "/dev/null"])
        {
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true
        };
        start.Environment["NO_COLOR"] = "1";
        Process process = Process.Start(start)!;
        process.StandardInput.WriteLine(line);
        process.StandardInput.Flush();
        return Wait(process);
    }

    /// <summary>Ends what this process keeps open to servers: the program would find somebody else there.</summary>
    public static void LetGoOfServers() => new Stores.StoreOpener().LetGo();

    private static Process Start(string assembly, IReadOnlyList<string> arguments, string? folder = null, IReadOnlyDictionary<string,
        string>? environment = null)
    {
        LetGoOfServers();
        string[] program = WordsFor(assembly);
        var start = new ProcessStartInfo(program[0], [.. program[1..], .. arguments])
        {
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true
        };
        if (folder is not null) start.WorkingDirectory = folder;
        foreach ((string name, string value) in environment ?? new Dictionary<string, string>()) start.Environment[name] = value;
        Process process = Process.Start(start)!;
        process.StandardInput.Close();
        return process;
    }

    /// <summary>Waits for a process and keeps what it said.</summary>
    public static Called Wait(Process process)
    {
        using (process)
        {
            Task<string> errors = process.StandardError.ReadToEndAsync();
            string output = process.StandardOutput.ReadToEnd();
            Assert.True(process.WaitForExit(TimeSpan.FromMinutes(4)), "the program did not end");
            return new Called(process.ExitCode, output, errors.Result);
        }
    }
}
