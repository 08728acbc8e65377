// WatchedProgram.cs: runs a program that works for a long time and may ask questions: reads what it says as it says it, answers, sees
// whether it is alive, and ends it with all that it started.
// Holds: (1) nothing of our environment reaches it but what every program needs; (2) when it has ended, was ended, or we are killed,
// nothing of it goes on; (3) a program that neither speaks nor works is told of, and is ended when its time is over.
using System.ComponentModel;
using System.Diagnostics;
using System.Globalization;
using System.Text;
using System.Text.RegularExpressions;

namespace Transferra.Core.Machine;

/// <summary>What is typed when a program asks.</summary>
/// <param name="Asked">What the last line of its output is like then.</param>
/// <param name="Say">What is typed, without the line's end.</param>
internal sealed record TypedAnswer(Regex Asked, string Say);

/// <summary>How a program is run.</summary>
/// <param name="Command">Program and arguments; no shell is involved.</param>
/// <param name="Folder">Folder it is run in.</param>
/// <param name="Environment">Variables of its own.</param>
/// <param name="Answers">What is typed at its questions, each as often as it is asked.</param>
/// <param name="InTerminal">Whether it wants a real terminal.</param>
/// <param name="Limit">How long it may take.</param>
/// <param name="Output">File that all it says is written to.</param>
internal sealed record WatchedCommand(IReadOnlyList<string> Command, string Folder, IReadOnlyDictionary<string, string> Environment,
    IReadOnlyList<TypedAnswer> Answers, bool InTerminal, TimeSpan Limit, string Output)
{
    /// <summary>Something else that moves while it works, such as the length of its log; none when null.</summary>
    public Func<long>? Moves { get; init; }
}

/// <summary>What it came to.</summary>
/// <param name="ExitCode">Its exit code.</param>
/// <param name="Elapsed">How long it took.</param>
internal sealed record WatchedResult(int ExitCode, TimeSpan Elapsed);

/// <summary>Runs one.</summary>
/// <param name="how">How.</param>
/// <param name="alive">Hears, at least once a second, what it said last and for how long nothing has moved.</param>
/// <param name="cancel">Ends it.</param>
internal sealed class WatchedProgram(WatchedCommand how, Action<string, TimeSpan> alive, CancellationToken cancel)
{
    private static readonly string[] Needed = ["PATH", "HOME", "USER", "LOGNAME", "LANG", "LC_ALL", "TZ", "TMPDIR", "TERM"];
    private static readonly TimeSpan Beat = TimeSpan.FromMilliseconds(200), Grace = TimeSpan.FromSeconds(5);

    private const int Terminate = 15, Kill = 9, LongestLine = 4096;

    private readonly StringBuilder _line = new();
    private readonly Lock _lock = new();
    private string _last = "";
    private long _said;

    /// <summary>Runs it to its end.</summary>
    /// <exception cref="TransferraException">It is not there, or was ended because its time was over.</exception>
    /// <exception cref="OperationCanceledException">It was ended because we are to stop.</exception>
    public WatchedResult Run()
    {
        using Process process = Start();
        using Process guard = Guard(process.Id);
        using var output = new FileStream(how.Output, FileMode.Create, FileAccess.Write, FileShare.Read);
        Task[] readers = [Task.Run(() => Read(process.StandardOutput.BaseStream, output, process)),
            Task.Run(() => Read(process.StandardError.BaseStream, output, process))];
        var clock = Stopwatch.StartNew();
        var still = Stopwatch.StartNew();
        (long, long, long) moved = default;
        try
        {
            while (!process.WaitForExit(Beat))
            {
                cancel.ThrowIfCancellationRequested();
                (long, long, long) now = (Volatile.Read(ref _said), how.Moves?.Invoke() ?? 0, WorkOf(process.Id));
                if (now != moved) still.Restart();
                moved = now;
                lock (_lock) alive(_last, still.Elapsed);
                if (clock.Elapsed > how.Limit)
                    throw new TransferraException($"{SystemCommands.Shown(how.Command)} did not end within "
                        + string.Create(CultureInfo.InvariantCulture, $"{how.Limit.TotalMinutes:0.##} minutes, and was ended"),
                        $"Look at what it said: {how.Output}; allow it more time (time-limit) when it only needs that.");
            }
        }
        finally
        {
            EndAll(process);
            guard.Kill(entireProcessTree: true);
        }
        Task.WaitAll(readers, Grace);
        return new WatchedResult(process.ExitCode, clock.Elapsed);
    }

    private Process Start()
    {
        // A session of its own, so that all it starts can be found; when we are killed, so is it.
        string[] command = how.InTerminal ? ["script", "-qefc", string.Join(' ', how.Command.Select(InShell)), "/dev/null"]
            : [.. how.Command];
        var start = new ProcessStartInfo("setsid", ["setpriv", "--pdeathsig", "KILL", "--", .. command])
        {
            WorkingDirectory = how.Folder,
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        start.Environment.Clear();
        foreach (string name in Needed)
            if (Environment.GetEnvironmentVariable(name) is { } value) start.Environment[name] = value;
        foreach ((string name, string value) in how.Environment) start.Environment[name] = value;
        try { return Process.Start(start)!; }
        catch (Win32Exception error)
        {
            throw new TransferraException($"{SystemCommands.Shown(how.Command)} cannot be run: {error.Message}",
                "See that the program and its folder are there and may be entered.", error);
        }
    }

    // The system ends only the program itself with us; what it started is ended by somebody who looks whether we are still there.
    private static Process Guard(int session)
    {
        var start = new ProcessStartInfo("setsid", ["sh", "-c", "while kill -0 \"$1\" 2>/dev/null; do sleep 1; done; pkill -KILL -s "
            + "\"$2\"", "sh",
            Environment.ProcessId.ToString(CultureInfo.InvariantCulture), session.ToString(CultureInfo.InvariantCulture)])
        {
            RedirectStandardInput = true,
            RedirectStandardOutput = true,
            RedirectStandardError = true,
        };
        start.Environment.Clear();
        start.Environment["PATH"] = Environment.GetEnvironmentVariable("PATH") ?? "/usr/bin:/bin";
        return Process.Start(start)!;
    }

    private static string InShell(string part) => "'" + part.Replace("'", "'\\''", StringComparison.Ordinal) + "'";

    private void Read(Stream stream, FileStream output, Process process)
    {
        byte[] block = new byte[1 << 13];
        Decoder decoder = Encoding.UTF8.GetDecoder();
        char[] chars = new char[1 << 13];
        try
        {
            for (int count; (count = stream.Read(block)) > 0;)
            {
                int decoded = decoder.GetChars(block, 0, count, chars, 0);
                lock (_lock)
                {
                    output.Write(block, 0, count);
                    output.Flush();
                    _said += count;
                    Take(chars.AsSpan(0, decoded));
                    Answer(process);
                }
            }
        }
        catch (Exception error) when (error is IOException or ObjectDisposedException) { /* it has ended */ }
    }

    private void Take(ReadOnlySpan<char> said)
    {
        foreach (char c in said)
        {
            if (c is '\n' or '\r')
            {
                if (_line.Length > 0) _last = _line.ToString();
                _line.Clear();
            }
            else if (_line.Length < LongestLine) _line.Append(c);
        }
        if (_line.Length > 0) _last = _line.ToString();
    }

    // A question stands at the end of what it said, usually without a line's end.
    private void Answer(Process process)
    {
        if (_line.Length == 0) return;
        string asked = _line.ToString();
        if (how.Answers.FirstOrDefault(answer => answer.Asked.IsMatch(asked)) is not { } typed) return;
        _line.Clear();
        process.StandardInput.Write(typed.Say + "\n");
        process.StandardInput.Flush();
    }

    // Ticks of processor time of all that is in its session: proc(5), fields 6, 14 and 15 of /proc/PID/stat.
    private static long WorkOf(int session) => InSession(session).Sum(found => found.Ticks);

    private static List<(int Id, long Ticks)> InSession(int session)
    {
        var found = new List<(int, long)>();
        foreach (string folder in Directory.EnumerateDirectories("/proc"))
        {
            if (!int.TryParse(Path.GetFileName(folder), NumberStyles.None, CultureInfo.InvariantCulture, out int id)) continue;
            try
            {
                string stat = File.ReadAllText(Path.Combine(folder, "stat"));
                string[] fields = stat[(stat.LastIndexOf(')') + 2)..].Split(' ');
                if (fields[0] != "Z" && fields[3] == session.ToString(CultureInfo.InvariantCulture))
                    found.Add((id, long.Parse(fields[11], CultureInfo.InvariantCulture) + long.Parse(fields[12],
                        CultureInfo.InvariantCulture)));
            }
            catch (Exception error) when (error is IOException or UnauthorizedAccessException) { /* it ended meanwhile */ }
        }
        return found;
    }

    private static void EndAll(Process process)
    {
        int session = process.Id;
        foreach ((int id, _) in InSession(session)) _ = SystemCalls.Kill(id, Terminate);
        var clock = Stopwatch.StartNew();
        while (clock.Elapsed < Grace && InSession(session).Count > 0) Thread.Sleep(20);
        foreach ((int id, _) in InSession(session)) _ = SystemCalls.Kill(id, Kill);
        process.WaitForExit();
    }
}
