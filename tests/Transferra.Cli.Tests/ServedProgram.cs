// ServedProgram.cs: the built program in a process that stays between commands (tests/Transferra.KillHost/Serving.cs), on a disk that can
// be told to fail.
using System.Diagnostics;
using System.Text.Json;

namespace Transferra.Cli.Tests;

/// <summary>What goes wrong with the disk while a command runs.</summary>
/// <param name="Kind">"none", "kill", "fail" or "fail-for-good".</param>
/// <param name="At">At which operation; negative after it was done.</param>
internal sealed record DiskFault(string Kind, int At)
{
    public static readonly DiskFault None = new("none", 0);

    public override string ToString() => Kind == "none" ? "" : FormattableString.Invariant($" [{Kind} at {At}]");
}

/// <summary>What came of a command.</summary>
/// <param name="Exit">Its exit code; 137 when it was killed.</param>
/// <param name="Out">What stdout showed; "" when it was killed.</param>
/// <param name="Err">What stderr showed.</param>
/// <param name="Violations">Operations that no journal had announced.</param>
internal sealed record Served(int Exit, string Out, string Err, IReadOnlyList<string> Violations)
{
    public const int Killed = 137;

    public string All => Out + Err;
}

internal sealed class ServedProgram : IDisposable
{
    private Process? _host;

    /// <summary>Runs a command on an office.</summary>
    /// <param name="fault">What goes wrong.</param>
    /// <param name="office">The office's folder.</param>
    /// <param name="watched">Folders in which its stores are.</param>
    /// <param name="arguments">Of the command line.</param>
    public Served Run(DiskFault fault, string office, IReadOnlyList<string> watched, params string[] arguments)
    {
        BuiltProgram.LetGoOfServers();
        _host ??= BuiltProgram.Serving();
        _host.StandardInput.WriteLine(JsonSerializer.Serialize(new
        {
            Arguments = (string[])[.. arguments, "--office", office],
            Fault = fault.Kind,
            fault.At,
            Office = office,
            Watched = watched
        },
            JsonSerializerOptions.Web));
        _host.StandardInput.Flush();
        if (_host.StandardOutput.ReadLine() is { } line) return JsonSerializer.Deserialize<Served>(line, JsonSerializerOptions.Web)!;
        _host.WaitForExit();
        string last = _host.StandardError.ReadToEnd();
        int exit = _host.ExitCode;
        _host.Dispose();
        _host = null;
        return fault.Kind == "kill" && exit == Served.Killed ? new Served(exit, "", "", [])
            : throw new InvalidOperationException($"the program ended with {exit} and no answer: {last}");
    }

    public void Dispose()
    {
        if (_host is null) return;
        _host.StandardInput.Close();
        if (!_host.WaitForExit(TimeSpan.FromSeconds(20))) _host.Kill();
        _host.Dispose();
    }
}
