// IndexBenchmark.cs: the check of a company whose tables have indexes, by the built program, against the engine's own long check of the
// same file by its shell, which looks at pages and indexes and at nothing that a record means. Each side is a process of its own,
// alternately.
using System.Globalization;

namespace Transferra.Benchmarks;

internal static class IndexBenchmark
{
    private const int Tables = 10;

    public static int Run(int rows, int rounds)
    {
        string folder = Directory.CreateTempSubdirectory("transferra-bench-").FullName;
        try
        {
            GrowthOffice.Make(folder, new GrowthShape { Tables = Tables, Rows = rows / Tables });
            string store = Path.Combine(folder, "data", GrowthOffice.CodeOf(0), "books.db");
            foreach (int table in Enumerable.Range(0, Tables))
                WholeCommand.Ask(store, FormattableString.Invariant($"CREATE INDEX t{table}_text ON t{table} (c1); ")
                    + FormattableString.Invariant($"CREATE INDEX t{table}_both ON t{table} (c0, c2)"));
            Console.WriteLine(string.Create(CultureInfo.InvariantCulture,
                $"{Tables} tables of {rows / Tables:#,0} rows with two indexes each, {new FileInfo(store).Length >> 20} MB; "
                    + $"{rounds} rounds"));
            List<Measured> shells = [], ours = [];
            for (int round = 0; round < rounds; round++)
            {
                shells.Add(WholeCommand.Measure("sqlite3", "-readonly", store, "PRAGMA integrity_check"));
                ours.Add(WholeCommand.Ours("check", "--office", folder));
            }
            WholeCommand.Tell("sqlite3 shell, integrity_check", shells);
            WholeCommand.Tell("check", ours);
            Console.WriteLine($"check to the shell: {WholeCommand.Ratio(ours, shells)}");
            return 0;
        }
        finally { Directory.Delete(folder, recursive: true); }
    }
}
