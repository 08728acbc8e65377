// StandIns.cs: small stand-ins for what runs in an office, so that closing and reopening have something real to do: a service that listens
// on a port, a scheduler that starts what lies in jobs/, and a workstation that has a company's file open until it is told to leave.
// Two more convert the payroll, as its vendor's converter and its vendor's program at the first login would.
// They do nothing else, and say so in what they write.
using System.Globalization;
using System.Net;
using System.Net.Sockets;
using System.Runtime.InteropServices;

namespace Transferra.Demo;

/// <summary>Runs a stand-in until it is ended.</summary>
public static class StandIns
{
    /// <summary>Their names.</summary>
    public static readonly IReadOnlyList<string> Names = ["service", "scheduler", "workstation", "converter", "first-login"];

    private static readonly TimeSpan Beat = TimeSpan.FromMilliseconds(100);

    /// <summary>Runs one.</summary>
    /// <param name="name">One of <see cref="Names"/>.</param>
    /// <param name="folder">The program's folder.</param>
    /// <param name="file">What a workstation has open, or what is converted; null for the others.</param>
    public static void Run(string name, string folder, string? file)
    {
        if (name is "converter" or "first-login")
        {
            if (name == "converter") WagesData.Convert(file!);
            else WagesData.LogIn(file!);
            return;
        }
        using var ended = new ManualResetEventSlim();
        using PosixSignalRegistration onTerminate = PosixSignalRegistration.Create(PosixSignal.SIGTERM, context =>
        {
            context.Cancel = true;
            ended.Set();
        });
        string ready = Path.Combine(folder, name + ".pid");
        using IDisposable? holds = name switch
        {
            "service" => Listen(Setting(folder, "Port")),
            "workstation" => new FileStream(file!, FileMode.Open, FileAccess.ReadWrite, FileShare.ReadWrite),
            _ => null,
        };
        File.WriteAllText(ready, Environment.ProcessId.ToString(CultureInfo.InvariantCulture));
        try
        {
            int toldBefore = Told(folder);
            while (!ended.Wait(Beat))
            {
                if (name == "scheduler") StartJobs(folder);
                // A person needs a moment to save.
                if (name == "workstation" && Told(folder) > toldBefore && ended.Wait(TimeSpan.FromSeconds(1.5)) is var _) break;
            }
        }
        finally
        {
            File.Delete(ready);
        }
    }

    private static TcpListener Listen(string port)
    {
        var listener = new TcpListener(IPAddress.Loopback, int.Parse(port, CultureInfo.InvariantCulture));
        listener.Start();
        return listener;
    }

    private static string Setting(string folder, string name) => File.ReadLines(Path.Combine(folder, "ledger.ini"))
        .First(line => line.StartsWith(name + "=", StringComparison.Ordinal))[(name.Length + 1)..];

    private static int Told(string folder) => File.Exists(Path.Combine(folder, "messages.txt"))
        ? File.ReadLines(Path.Combine(folder, "messages.txt")).Count() : 0;

    // As cron does, it leaves out names that begin with a dot.
    private static void StartJobs(string folder)
    {
        foreach (string job in Directory.EnumerateFiles(Path.Combine(folder, "jobs")).Select(Path.GetFileName).OfType<string>()
            .Where(job => !job.StartsWith('.')))
            File.AppendAllText(Path.Combine(folder, "started.log"),
                $"{DateTimeOffset.UtcNow:O} the stand-in would start what {job} says\n");
    }
}
