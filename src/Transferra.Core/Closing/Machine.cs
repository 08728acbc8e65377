// Machine.cs: what this machine tells of its processes and ports, from /proc (proc(5)), and the one thing that is done to a process.
using System.Globalization;
using System.Net;
using System.Net.Sockets;
using System.Runtime.InteropServices;

namespace Transferra.Core.Closing;

/// <summary>A process.</summary>
public sealed record ProcessFound(int Id, string Name);

/// <summary>Processes of this machine.</summary>
public static partial class Processes
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
            if (!int.TryParse(Path.GetFileName(folder), NumberStyles.None, CultureInfo.InvariantCulture, out int id) || id == Environment.ProcessId) continue;
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

    /// <summary>Asks a process to end; it may write what it has to write.</summary>
    /// <returns>False when it may not be asked by us.</returns>
    public static bool AskToEnd(int id) => Kill(id, Terminate) == 0 || Marshal.GetLastPInvokeError() == 3; // ESRCH: it has ended

    [LibraryImport("libc", EntryPoint = "kill", SetLastError = true)]
    private static partial int Kill(int process, int signal);
}

/// <summary>TCP ports of this machine.</summary>
public static class Network
{
    private const string Listening = "0A"; // TCP_LISTEN
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(2);

    /// <summary>Ports that somebody listens on, at any address.</summary>
    public static IReadOnlySet<int> ListeningPorts()
    {
        var ports = new HashSet<int>();
        foreach (string table in (string[])["/proc/net/tcp", "/proc/net/tcp6"])
        {
            if (!File.Exists(table)) continue;
            // sl, local address:port, remote address:port, state, ...; all hexadecimal.
            foreach (string[] cells in File.ReadLines(table).Skip(1).Select(line => line.Split(' ', StringSplitOptions.RemoveEmptyEntries)))
                if (cells.Length > 3 && cells[3] == Listening) ports.Add(int.Parse(cells[1].AsSpan(cells[1].LastIndexOf(':') + 1), NumberStyles.HexNumber, CultureInfo.InvariantCulture));
        }
        return ports;
    }

    /// <summary>Whether a connection to a port of this machine comes about.</summary>
    public static bool Answers(int port)
    {
        foreach (IPAddress address in (IPAddress[])[IPAddress.Loopback, IPAddress.IPv6Loopback])
        {
            using var socket = new Socket(address.AddressFamily, SocketType.Stream, ProtocolType.Tcp);
            try
            {
                if (socket.ConnectAsync(address, port).Wait(Patience)) return true;
            }
            catch (AggregateException) { /* not at this address */ }
        }
        // Bound to one address of a network card only, it cannot be tried from here, but it is there.
        return ListeningPorts().Contains(port);
    }
}
