// Program.cs: measures Transferra against a yardstick in the same run, on the same data. See benchmarks/README.md.
using System.Globalization;
using Transferra.Benchmarks;

return args switch
{
    ["convert", .. string[] rest] => ConvertBenchmark.Run(Number(rest, 0, 2_000_000), Number(rest, 1, 5)),
    ["convert-child", string what, string folder] => ConvertBenchmark.Child(what, folder),
    ["check", .. string[] rest] => CheckBenchmark.Run(Number(rest, 0, 10_000_000), Number(rest, 1, 3)),
    ["check-child", string what, string folder] => CheckBenchmark.Child(what, folder),
    ["indexes", .. string[] rest] => IndexBenchmark.Run(Number(rest, 0, 3_000_000), Number(rest, 1, 5)),
    ["backup-office", string folder, string megabytes] => BackupBenchmark.MakeOffice(folder,
        int.Parse(megabytes, CultureInfo.InvariantCulture)),
    ["backup", .. string[] rest] => BackupBenchmark.Run(Number(rest, 0, 2000), Number(rest, 1, 3)),
    ["copy", string engine, .. string[] rest] => CopyBenchmark.Run(engine, Number(rest, 0, 2_000_000), Number(rest, 1, 5)),
    ["match", .. string[] rest] => MatchBenchmark.Run(Number(rest, 0, 3_000_000), Number(rest, 1, 5)),
    ["files", .. string[] rest] => FilesBenchmark.Run(Number(rest, 0, 1_000_000), Number(rest, 1, 5)),
    ["servers", string engine, .. string[] rest] => ServersBenchmark.Run(engine, Number(rest, 0, 2_000_000), Number(rest, 1, 5)),
    ["servers-child", string engine, string name, string source] => ServersBenchmark.Child(engine, name, source),
    ["memory", .. string[] rest] => MemoryBenchmark.Run(Number(rest, 0, 2_000_000)),
    ["growth", .. string[] rest] => GrowthBenchmark.Run("sqlite", DirectionOf(rest), Number(rest, 1, 100)),
    ["servers-growth", string engine, .. string[] rest] => GrowthBenchmark.Run(engine, DirectionOf(rest), Number(rest, 1, 100)),
    ["small", .. string[] rest] => SmallBenchmark.Run(Number(rest, 0, 9)),
    ["vectors"] => VectorBenchmark.Run(),
    _ => Usage(),
};

static string? DirectionOf(string[] arguments) => arguments.Length > 0 && arguments[0] != "all" ? arguments[0] : null;

static int Number(string[] arguments, int at, int otherwise) => arguments.Length > at ? int.Parse(arguments[at],
    CultureInfo.InvariantCulture) : otherwise;

static int Usage()
{
    Console.Error.WriteLine("usage: backup [MEGABYTES [ROUNDS]] | convert [ROWS [ROUNDS]] | check [ROWS [ROUNDS]] | indexes [ROWS "
        + "[ROUNDS]] | match [ROWS [ROUNDS]] | files [ROWS [ROUNDS]] | servers ENGINE [ROWS [ROUNDS]] | copy ENGINE [ROWS [ROUNDS]] | "
        + "growth [DIRECTION|all [TIMES]] | servers-growth ENGINE [DIRECTION|all [TIMES]] | memory [ROWS] | small [ROUNDS] | vectors");
    return 2;
}
