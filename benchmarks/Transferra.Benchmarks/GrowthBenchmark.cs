// GrowthBenchmark.cs: how time and memory of the built program's commands grow with each direction in which an office can be large. There
// is no yardstick but the program itself on a smaller office: the exponent of what a command takes beyond the time in which it starts.
// An exponent above 1.15 is a defect, and so is memory that grows without end.
using System.Globalization;

namespace Transferra.Benchmarks;

internal static class GrowthBenchmark
{
    private sealed record Direction(string Name, int First, Func<int, GrowthShape> At);

    private static readonly Direction[] Directions =
    [
        new("rows", 10_000, n => new GrowthShape { Rows = n }),
        new("tables", 10, n => new GrowthShape { Tables = n, Rows = 100 }),
        new("columns", 3, n => new GrowthShape { Columns = n, Rows = 10_000 }),
        new("bytes of a value", 40_000, n => new GrowthShape { ValueBytes = n, Rows = 100 }),
        new("bytes of a value that goes through a map", 40_000, n => new GrowthShape { ValueBytes = n, Rows = 100, Exceptions = 1 }),
        new("documents", 500, n => new GrowthShape { Documents = n, Rows = 100 }),
        new("companies", 2, n => new GrowthShape { Companies = n, Rows = 100 }),
        new("findings", 1_000, n => new GrowthShape { Findings = n, Rows = 200_000 }),
        new("exceptions", 1_000, n => new GrowthShape { Exceptions = n, Rows = 200_000 }),
        new("differences", 1_000, n => new GrowthShape { Differences = n, Rows = 200_000 }),
        new("hops", 1, n => new GrowthShape { Hops = n, Rows = 100 }),
    ];

    // On a server: tables that have an index and refer to each other.
    private static Direction[] OnServer(string engine) =>
    [
        new("rows", 5_000, n => new GrowthShape { Engine = engine, Rows = n }),
        new("tables", 10, n => new GrowthShape { Engine = engine, Tables = n, Rows = 100 }),
        new("columns", 3, n => new GrowthShape { Engine = engine, Columns = n, Rows = 1_000 }),
        new("bytes of a value", 40_000, n => new GrowthShape { Engine = engine, ValueBytes = n, Rows = 20 }),
        new("companies", 2, n => new GrowthShape { Engine = engine, Companies = n, Rows = 100 }),
    ];

    /// <summary>What is measured, in this order.</summary>
    public static readonly string[] Commands = ["survey", "check", "backup", "backup again", "ready", "convert", "match"];

    /// <summary>Measures.</summary>
    /// <param name="engine">Of the stores: sqlite, or that of a server.</param>
    /// <param name="direction">One direction; null for all.</param>
    /// <param name="largest">How many times as much as the first size the last one is: 100, or 10 for a quick look.</param>
    public static int Run(string engine, string? direction, int largest)
    {
        Direction[] known = engine == "sqlite" ? Directions : OnServer(engine),
            wanted = [.. known.Where(one => direction is null || one.Name == direction)];
        if (wanted.Length == 0) throw new InvalidOperationException($"no direction is called {direction}: "
            + string.Join(", ", known.Select(one => one.Name)));
        if (engine != "sqlite") Console.WriteLine($"stores on {engine}");
        Console.WriteLine("| direction | command | seconds | exponent | largest memory |\n|---|---|---|---|---|");
        foreach (Direction one in wanted)
        {
            int[] sizes = [one.First, one.First * (int)Math.Round(Math.Sqrt(largest)), one.First * largest];
            Measured[][] measured = [.. sizes.Select(size => Measure(one.At(size)))];
            for (int command = 0; command < Commands.Length; command++)
            {
                Measured[] at = [.. measured.Select(of => of[command])];
                Console.WriteLine(string.Create(CultureInfo.InvariantCulture,
                    $"| {one.Name}: {string.Join(", ", sizes.Select(size => size.ToString("#,0", CultureInfo.InvariantCulture)))} | "
                        + $"{Commands[command]} | "
                        + $"{string.Join(", ", at.Select(of => of.Seconds.ToString("0.0", CultureInfo.InvariantCulture)))} | "
                        + $"{Exponent(sizes, at)} | {string.Join(", ", at.Select(of => of.PeakBytes >> 20))} MB |"));
            }
        }
        return 0;
    }

    // What it takes to start, and what does not grow, is in all three; the differences are without it.
    private static string Exponent(int[] sizes, Measured[] at)
    {
        double first = at[1].Seconds - at[0].Seconds, second = at[2].Seconds - at[0].Seconds;
        // Too little to be told from noise.
        if (second < 0.5) return "(does not grow)";
        return first < 0.25 ? "(only the last takes time)" : (Math.Log(second / first)
            / Math.Log((double)(sizes[2] - sizes[0]) / (sizes[1] - sizes[0]))).ToString("0.00", CultureInfo.InvariantCulture);
    }

    /// <summary>Makes an office and runs each of <see cref="Commands"/> on it.</summary>
    /// <param name="shape">How large it is.</param>
    /// <param name="options">What is added to each command.</param>
    public static Measured[] Measure(GrowthShape shape, params string[] options)
    {
        string folder = Directory.CreateTempSubdirectory("transferra-growth-").FullName;
        try
        {
            GrowthOffice.Make(folder, shape);
            Measured command(params string[] words) => WholeCommand.Ours([.. words, "--office", folder, .. options]);
            Measured[] before = [command("survey"), command("check"), command("backup"), command("backup"),
                command("ready", "--confirm", "one-disk"), command("convert")];
            if (shape.Differences > 0)
                foreach (string made in Directory.GetFiles(Path.Combine(folder, "data"), "books.db", SearchOption.AllDirectories)
                    .Where(path => path.Contains("/v2/", StringComparison.Ordinal)))
                    WholeCommand.Ask(made, FormattableString.Invariant(
                        $"UPDATE t0 SET c1 = 'altered' WHERE id % {GrowthOffice.Apart(shape, shape.Differences)} = 0"));
            return [.. before, command("match")];
        }
        finally { Directory.Delete(folder, recursive: true); }
    }
}
