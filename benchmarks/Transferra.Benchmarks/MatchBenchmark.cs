// MatchBenchmark.cs: a match of two SQLite stores by the built program, of equal ones and of some with scattered differences, against the
// engine's own shell reading every column of both, one after the other. Each side is a process of its own, alternately.
using System.Globalization;

namespace Transferra.Benchmarks;

internal static class MatchBenchmark
{
    private const int Apart = 3333;

    public static int Run(int rows, int rounds)
    {
        string folder = Directory.CreateTempSubdirectory("transferra-bench-").FullName;
        try
        {
            string old = Path.Combine(folder, "old.db"), same = Path.Combine(folder, "same.db"), other = Path.Combine(folder, "other.db");
            WholeCommand.Ask(old, FormattableString.Invariant($"""
                CREATE TABLE entry (id INTEGER PRIMARY KEY, account INTEGER, posted DATE, amount INTEGER, text VARCHAR(60), ref VARCHAR(20),
                    period INTEGER, clerk VARCHAR(20));
                WITH RECURSIVE c(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM c WHERE i < {rows})
                INSERT INTO entry SELECT i, i % 977, date('2020-01-01', '+' || (i % 1500) || ' days'), (i * 7919) % 1000003,
                    'entry number ' || i || ' of the journal', 'R' || (i % 50000), i % 60, 'clerk ' || (i % 17) FROM c;
                """));
            File.Copy(old, same);
            File.Copy(old, other);
            WholeCommand.Ask(other, FormattableString.Invariant($"UPDATE entry SET amount = amount + 1 WHERE id % {Apart} = 7"));
            Console.WriteLine(string.Create(CultureInfo.InvariantCulture,
                $"{rows:#,0} rows of eight columns, {rows / Apart:#,0} scattered differences; {rounds} rounds"));
            const string every = "SELECT count(id) + sum(length(account)) + sum(length(posted)) + sum(length(amount)) + sum(length(text)) "
                + "+ sum(length(ref)) + sum(length(period)) + sum(length(clerk)) FROM entry";
            var sides = new Dictionary<string, List<Measured>>
            {
                ["sqlite3 shell, every column of both"] = [],
                ["match of equal stores"] = [],
                ["match with scattered differences"] = []
            };
            for (int round = 0; round < rounds; round++)
            {
                sides["sqlite3 shell, every column of both"].Add(WholeCommand.Measure("bash", "-c",
                    $"set -e; sqlite3 -readonly {old} '{every}'; sqlite3 -readonly {same} '{every}'"));
                sides["match of equal stores"].Add(WholeCommand.Ours("match", "--old", old, "--new",
                    same));
                sides["match with scattered differences"].Add(WholeCommand.Ours("match", "--old", old,
                    "--new", other));
            }
            foreach ((string side, List<Measured> all) in sides) WholeCommand.Tell(side, all);
            List<Measured> shell = sides["sqlite3 shell, every column of both"], equal = sides["match of equal stores"];
            Console.WriteLine($"equal stores against the shell: {WholeCommand.Ratio(equal, shell)}");
            Console.WriteLine("scattered differences against none: "
                + WholeCommand.Ratio(sides["match with scattered differences"], equal));
            return 0;
        }
        finally { Directory.Delete(folder, recursive: true); }
    }
}
