// WholeCommand.cs: measures commands as people run them, each in a process of its own.
using System.Diagnostics;
using System.Globalization;
using Microsoft.Data.Sqlite;

namespace Transferra.Benchmarks;

/// <summary>A command that was measured.</summary>
internal sealed record Measured(double Seconds, long PeakBytes);

internal static class WholeCommand
{
    /// <summary>The built program: an assembly, or the file of a native one.</summary>
    private static string Program => Environment.GetEnvironmentVariable("TRANSFERRA_BENCH_PROGRAM")
        ?? throw new InvalidOperationException("TRANSFERRA_BENCH_PROGRAM should name transferra.dll or a native program; see "
            + "benchmarks/README.md");

    /// <summary>Prints what a side took.</summary>
    public static void Tell(string side, List<Measured> all)
    {
        Measured[] sorted = [.. all.OrderBy(one => one.Seconds)];
        Console.WriteLine(string.Create(CultureInfo.InvariantCulture,
            $"{side}: {sorted[0].Seconds:0.00} to {sorted[^1].Seconds:0.00} s, median {sorted[sorted.Length / 2].Seconds:0.00} s; "
                + $"largest memory {all.Max(one => one.PeakBytes) / 1048576.0:0} MB"));
    }

    /// <summary>How much longer one side took than another, round by round, in words.</summary>
    public static string Ratio(List<Measured> ours, List<Measured> yardstick)
    {
        double[] ratios = [.. ours.Zip(yardstick, (a, b) => a.Seconds / b.Seconds).Order()];
        return string.Create(CultureInfo.InvariantCulture,
            $"{ratios[0]:0.00} to {ratios[^1]:0.00}, median {ratios[ratios.Length / 2]:0.00}");
    }

    /// <summary>Runs a command of ours.</summary>
    public static Measured Ours(params string[] words) => Program.EndsWith(".dll", StringComparison.Ordinal)
        ? Measure("dotnet", [Program, .. words]) : Measure(Program, words);

    /// <summary>Runs a command, which may also end with findings.</summary>
    public static Measured Measure(string file, params string[] arguments)
    {
        // What an earlier side left to be written is not this one's work.
        using (Process sync = Process.Start("sync")) sync.WaitForExit();
        var clock = Stopwatch.StartNew();
        using Process child = Process.Start(new ProcessStartInfo(file, arguments)
        {
            RedirectStandardOutput = true,
            RedirectStandardError = true
        })!;
        Task<string> said = child.StandardOutput.ReadToEndAsync(), complained = child.StandardError.ReadToEndAsync();
        long peak = 0;
        while (!child.WaitForExit(20)) peak = Math.Max(peak, Peak(child.Id));
        child.WaitForExit();
        double seconds = clock.Elapsed.TotalSeconds;
        if (child.ExitCode is not (0 or 1)) throw new InvalidOperationException($"{file} {string.Join(' ', arguments)} ended with "
            + $"{child.ExitCode}: "
            + $"{said.Result}{complained.Result}");
        return new Measured(seconds, peak);
    }

    private static long Peak(int id)
    {
        try
        {
            return File.ReadLines($"/proc/{id}/status").Where(line => line.StartsWith("VmHWM:", StringComparison.Ordinal))
                .Select(line => long.Parse(line.AsSpan(6).Trim().ToString().Split(' ')[0], CultureInfo.InvariantCulture) * 1024)
                    .FirstOrDefault();
        }
        catch (IOException)
        {
            return 0; // it has just ended
        }
    }

    /// <summary>Runs statements in a SQLite store.</summary>
    public static void Ask(string path, string sql)
    {
        using var connection = new SqliteConnection($"Data Source={path};Pooling=false");
        connection.Open();
        using SqliteCommand command = connection.CreateCommand();
        command.CommandTimeout = 0;
#pragma warning disable CA2100 // numbers of our own
        command.CommandText = sql;
#pragma warning restore CA2100
        command.ExecuteNonQuery();
    }
}
