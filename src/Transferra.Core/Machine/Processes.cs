// Processes.cs: what this machine tells of its processes, from /proc (proc(5)), and the one thing that is done to one.
using System.Globalization;
using System.Runtime.InteropServices;

namespace Transferra.Core.Machine;

/// <summary>A process.</summary>
public sealed record ProcessFound(int Id, string Name);

/// <summary>Processes of this machine.</summary>
public static class Processes
{
    private const int LongestName = 15, Terminate = 15; // TASK_COMM_LEN less its end; SIGTERM

    /// <summary>Those with one of these names.</summary>
    public static IReadOnlyList<ProcessFound> Named(IReadOnlyList<string> names)
    {
        if (names.Count == 0) return [];
        var wanted = names.Select(Cut).ToHashSet(StringComparer.Ordinal);
        var found = new List<ProcessFound>();
        foreach (string folder in Directory.EnumerateDirectories("/proc"))
        {
            if (!int.TryParse(Path.GetFileName(folder), NumberStyles.None, CultureInfo.InvariantCulture, out int id)
                || id == Environment.ProcessId) continue;
            try
            {
                string name = File.ReadAllText(Path.Combine(folder, "comm")).TrimEnd('\n');
                // A zombie has ended; only its parent has not asked yet.
                if (wanted.Contains(name) && !IsZombie(folder)) found.Add(new ProcessFound(id, name));
            }
            catch (Exception error) when (error is IOException or UnauthorizedAccessException) { /* it ended meanwhile */ }
        }
        return found;
    }

    private static bool IsZombie(string folder)
    {
        string stat = File.ReadAllText(Path.Combine(folder, "stat"));
        return stat.AsSpan(stat.LastIndexOf(')') + 1).TrimStart().StartsWith("Z");
    }

    /// <summary>A name as the system keeps it.</summary>
    public static string Cut(string name) => name.Length <= LongestName ? name : name[..LongestName];

    /// <summary>Sets which permissions are taken from whatever this process makes from now on, umask(2).</summary>
    /// <returns>Those that were taken before.</returns>
    public static uint SetMask(uint mask) => SystemCalls.SetMask(mask);

    /// <summary>How many files this process may have open at once, at most: getrlimit(2).</summary>
    public static ulong MostOpenFiles()
    {
        const int openFiles = 7;
        ulong[] nowAndMost = [0, ulong.MaxValue];
        return SystemCalls.Limits(openFiles, nowAndMost) == 0 ? nowAndMost[1] : ulong.MaxValue;
    }

    /// <summary>Asks a process to end; it may write what it has to write.</summary>
    /// <returns>False when it may not be asked by us.</returns>
    public static bool AskToEnd(int id) => SystemCalls.Kill(id, Terminate) == 0
        || Marshal.GetLastPInvokeError() == SystemError.NoSuchProcess;
}
