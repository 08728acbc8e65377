// Stopping.cs: Ctrl-C, the end of the session and the system's wish that we end: the first time, the work comes to its next safe place
// and says how to go on; the second time it ends at once and says it as well. Whatever is half done then is as after a power cut: it can
// be resumed or taken back.
using System.Runtime.InteropServices;

namespace Transferra.Cli;

/// <summary>Hears the signals that want this program to end.</summary>
internal sealed class Stopping : IDisposable
{
    private static readonly PosixSignal[] Signals = [PosixSignal.SIGINT, PosixSignal.SIGTERM, PosixSignal.SIGHUP, PosixSignal.SIGQUIT];
    private readonly CancellationTokenSource _stop = new();
    private readonly PosixSignalRegistration[] _registrations;
    private int _heard;

    public Stopping() => _registrations = [.. Signals.Select(signal => PosixSignalRegistration.Create(signal, Heard))];

    /// <summary>Cancelled by the first signal.</summary>
    public CancellationToken Token => _stop.Token;

    /// <summary>Says how to go on, when the program ends at once.</summary>
    public Action? LastWords { get; set; }

    private void Heard(PosixSignalContext context)
    {
        context.Cancel = true; // not the system's way of ending, ours
        if (Interlocked.Increment(ref _heard) == 1)
        {
            Say("stopping at the next safe place; once more stops at once");
            _stop.Cancel();
            return;
        }
        Say("stopped at once");
        try { LastWords?.Invoke(); }
        finally { Environment.Exit(ExitCodes.PartWay); }
    }

    private static void Say(string words)
    {
        try { Console.Error.WriteLine("\ntransferra: " + words); }
        catch (IOException) { /* the terminal is gone */ }
    }

    /// <inheritdoc/>
    public void Dispose()
    {
        foreach (PosixSignalRegistration registration in _registrations) registration.Dispose();
        _stop.Dispose();
    }
}
