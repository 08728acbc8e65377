// Network.cs: TCP ports of this machine: who listens, from /proc/net (proc(5)), and whether a connection comes about.
using System.Globalization;
using System.Net;
using System.Net.Sockets;

namespace Transferra.Core.Machine;

/// <summary>TCP ports of this machine.</summary>
internal static class Network
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
                if (cells.Length > 3 && cells[3] == Listening)
                    ports.Add(int.Parse(cells[1].AsSpan(cells[1].LastIndexOf(':') + 1), NumberStyles.HexNumber,
                        CultureInfo.InvariantCulture));
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
