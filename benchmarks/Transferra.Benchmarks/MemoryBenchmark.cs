// MemoryBenchmark.cs: what each command takes of the memory that --memory gives it, and how long it takes with more or less of it.
using System.Globalization;

namespace Transferra.Benchmarks;

internal static class MemoryBenchmark
{
    private static readonly int[] Megabytes = [96, 200, 400, 1000];

    /// <summary>Measures one office: a table with two indexes that a map goes through, exceptions, differences, documents.</summary>
    /// <param name="rows">Records of the table.</param>
    public static int Run(int rows)
    {
        const int few = 1000;
        var shape = new GrowthShape { Rows = rows, IsIndexed = true, Exceptions = few, Differences = few, Documents = few };
        Measured[][] measured = [.. Megabytes.Select(megabytes => GrowthBenchmark.Measure(shape, "--memory",
            megabytes.ToString(CultureInfo.InvariantCulture)))];
        Console.WriteLine("| command | " + string.Join(" | ", Megabytes.Select(megabytes => FormattableString.Invariant(
            $"--memory {megabytes}"))) + " |\n|---|" + string.Concat(Enumerable.Repeat("---|", Megabytes.Length)));
        foreach ((int at, string command) in GrowthBenchmark.Commands.Index())
            Console.WriteLine($"| {command} | " + string.Join(" | ", measured.Select(with => string.Create(CultureInfo.InvariantCulture,
                $"{with[at].Seconds:0.0} s, {with[at].PeakBytes >> 20} MB"))) + " |");
        return 0;
    }
}
