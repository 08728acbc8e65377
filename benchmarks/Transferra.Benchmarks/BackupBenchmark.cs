// BackupBenchmark.cs: whole commands of the built program against plain tools of the system, on the same company: a SQLite store and
// documents, of which about half are text and the rest cannot be compressed, as pictures cannot. Each side is a process of its own,
// alternately; the files are in the system's cache for both.
using System.Globalization;
using System.Text;

namespace Transferra.Benchmarks;

internal static class BackupBenchmark
{
    // Both sides leave their work on the disk.
    private const string PlainBackup = "tar | zstd -3 -T2; sync; sha256sum; zstd -d | sha256sum", PlainRestore = "zstd -d | tar -x; sync";

    public static int Run(int megabytes, int rounds)
    {
        string folder = Directory.CreateTempSubdirectory("transferra-bench-").FullName, office = Path.Combine(folder, "office"),
            tar = Path.Combine(folder, "plain.tar.zst");
        try
        {
            long bytes = Generate(office, megabytes);
            int files = Directory.GetFiles(Path.Combine(office, "data"), "*", SearchOption.AllDirectories).Length;
            Console.WriteLine(string.Create(CultureInfo.InvariantCulture,
                $"a company of {bytes / 1e6:#,0} MB in {files:#,0} files, of which the SQLite store is "
                    + $"{new FileInfo(Path.Combine(office, "data", "big.db")).Length / 1e6:#,0} MB; {rounds} rounds"));
            string[] backup = ["backup", "BIG", "--office", office];
            var sides = new Dictionary<string, List<Measured>>();
            long ourBytes = 0, plainBytes = 0;
            for (int round = 0; round < rounds; round++)
            {
                Directory.CreateDirectory(Path.Combine(office, "sets"));
                // The place's own mark stays, or it would be taken for another disk.
                foreach (string old in Directory.GetFiles(Path.Combine(office, "sets"), "BIG_*")) File.Delete(old);
                Cached(office);
                Add(PlainBackup, WholeCommand.Measure("bash", "-c", $"set -e; tar -C {office} -cf - data | zstd -q -3 -T2 -f -o {tar}; "
                    + $"sync {tar}; sha256sum {tar}; zstd -dc {tar} | sha256sum"));
                Add("backup, proved", WholeCommand.Ours(backup));
                plainBytes = new FileInfo(tar).Length;
                ourBytes = new FileInfo(Directory.GetFiles(Path.Combine(office, "sets"), "BIG_*").Single()).Length;
                ChangeDocuments(office, round);
                Add("second backup, 1 % of the bytes changed in documents", WholeCommand.Ours(backup));
                ChangeStore(office);
                Add("third backup, 1 % of the store's records changed", WholeCommand.Ours(backup));
                // Into new folders each time, which stay: ext4 looks long for inodes that no file had within the last minutes.
                string plain = Path.Combine(folder, FormattableString.Invariant($"plain-{round}")),
                    ours = Path.Combine(folder, FormattableString.Invariant($"ours-{round}"));
                Directory.CreateDirectory(plain);
                Add(PlainRestore, WholeCommand.Measure("bash", "-c", $"set -e; zstd -dc {tar} | tar -x -C {plain}; sync -f {plain}"));
                Add("restore, compared", WholeCommand.Ours("restore", "BIG", "--office", office, "--to", ours));
            }
            TellAll(sides, ourBytes, plainBytes);
            return 0;

            void Add(string side, Measured measured)
            {
                if (!sides.TryGetValue(side, out List<Measured>? all)) sides[side] = all = [];
                all.Add(measured);
            }
        }
        finally
        {
            Directory.Delete(folder, recursive: true);
        }
    }

    private static void TellAll(Dictionary<string, List<Measured>> sides, long ourBytes, long plainBytes)
    {
        foreach ((string side, List<Measured> all) in sides) WholeCommand.Tell(side, all);
        Ratio("backup to its yardstick", "backup, proved", PlainBackup);
        Ratio("second backup to the first", "second backup, 1 % of the bytes changed in documents", "backup, proved");
        Ratio("third backup to the first", "third backup, 1 % of the store's records changed", "backup, proved");
        Ratio("restore to its yardstick", "restore, compared", PlainRestore);
        Console.WriteLine(string.Create(CultureInfo.InvariantCulture,
            $"size of the set to that of tar | zstd -3: {(double)ourBytes / plainBytes:0.000} ({ourBytes / 1e6:#,0} MB to "
                + $"{plainBytes / 1e6:#,0} MB)"));

        void Ratio(string what, string ours, string theirs)
        {
            double[] ratios = [.. sides[ours].Zip(sides[theirs], (a, b) => a.Seconds / b.Seconds).Order()];
            Console.WriteLine(string.Create(CultureInfo.InvariantCulture,
                $"ratio of elapsed times, {what}: {ratios[0]:0.00} to {ratios[^1]:0.00}, median {ratios[ratios.Length / 2]:0.00}"));
        }
    }

    /// <summary>Makes the company only, to try things on.</summary>
    public static int MakeOffice(string office, int megabytes)
    {
        Generate(office, megabytes);
        return 0;
    }

    private static void Cached(string folder)
    {
        foreach (string path in Directory.EnumerateFiles(folder, "*", SearchOption.AllDirectories))
        {
            using FileStream file = File.OpenRead(path);
            file.CopyTo(Stream.Null);
        }
        Thread.Sleep(2500); // a file changed in the last second is not taken for unchanged
    }

    private static long Generate(string office, int megabytes)
    {
        string data = Path.Combine(office, "data"), documents = Path.Combine(data, "documents"), kit = Path.Combine(office, "kit");
        Directory.CreateDirectory(documents);
        Directory.CreateDirectory(Path.Combine(kit, "versions"));
        File.WriteAllText(Path.Combine(kit, "kit.yaml"), "kit: bench\ntitle: Benchmark\nversions: [\"1\"]\n");
        File.WriteAllText(Path.Combine(kit, "versions", "1.yaml"), """
            version: "1"
            told-by: [{header: user_version, is: "1"}]
            tables:
              JRNL:
                columns: {JNO: INTEGER NOT NULL, VNO: VARCHAR(10), JDATE: DATE, PNO: INTEGER, ACODE: VARCHAR(8), AMOUNT: "DECIMAL(14,2)",
                  NARR: VARCHAR(80), STATUS: VARCHAR(1)}
                key: [JNO]
            """);
        File.WriteAllText(Path.Combine(office, "office.yaml"), """
            office: Benchmark
            packages:
              - kit: kit
                wanted-version: "1"
                companies:
                  - code: BIG
                    name: Big
                    store: {sqlite: data/big.db}
                    documents: [data/documents]
            backup: {to: [sets]}
            """);
        // A third of it is the store, at about 105 bytes a record.
        GenerateStore(Path.Combine(data, "big.db"), (int)(megabytes * 1_000_000L / 3 / 105));
        var random = new Random(20260101);
        string[] words = [.. Enumerable.Range(0, 4000)
            .Select(_ => string.Concat(Enumerable.Range(0, random.Next(3, 10)).Select(_ => (char)('a' + random.Next(26)))))];
        long left = (megabytes * 1_000_000L) - new FileInfo(Path.Combine(data, "big.db")).Length;
        for (int i = 0; left > 0; i++)
        {
            string path = Path.Combine(documents, (i / 200).ToString("000", CultureInfo.InvariantCulture),
                FormattableString.Invariant($"document {i}.{(i % 2 == 0 ? "txt" : "jpg")}"));
            Directory.CreateDirectory(Path.GetDirectoryName(path)!);
            byte[] content = Content(random, words, random.Next(40_000, 600_000), i % 2 == 0);
            File.WriteAllBytes(path, content);
            left -= content.Length;
        }
        return Directory.GetFiles(data, "*", SearchOption.AllDirectories).Sum(path => new FileInfo(path).Length);
    }

    private static byte[] Content(Random random, string[] words, int bytes, bool isText)
    {
        byte[] content = new byte[bytes];
        if (!isText)
        {
            random.NextBytes(content);
            return content;
        }
        var text = new StringBuilder();
        while (text.Length < bytes) text.Append(words[random.Next(words.Length)]).Append(random.Next(12) == 0 ? ".\n" : " ");
        return Encoding.ASCII.GetBytes(text.ToString(0, bytes));
    }

    // Documents of one hundredth of all bytes are written anew.
    private static void ChangeDocuments(string office, int round)
    {
        string[] all = [.. Directory.GetFiles(Path.Combine(office, "data", "documents"), "*", SearchOption.AllDirectories)
            .Order(StringComparer.Ordinal)];
        long bytes = Directory.GetFiles(Path.Combine(office, "data"), "*", SearchOption.AllDirectories)
            .Sum(path => new FileInfo(path).Length) / 100;
        var random = new Random(round);
        for (int i = round; bytes > 0; i += 37)
        {
            byte[] content = File.ReadAllBytes(all[i % all.Length]);
            random.NextBytes(content.AsSpan(0, Math.Min(1000, content.Length)));
            File.WriteAllBytes(all[i % all.Length], content);
            bytes -= content.Length;
        }
        Thread.Sleep(2500);
    }

    private static void ChangeStore(string office)
    {
        WholeCommand.Ask(Path.Combine(office, "data", "big.db"),
            "UPDATE JRNL SET AMOUNT = AMOUNT + 1 WHERE JNO <= (SELECT max(JNO) / 100 FROM JRNL)");
        Thread.Sleep(2500);
    }

    private static void GenerateStore(string path, int rows) => WholeCommand.Ask(path, FormattableString.Invariant($"""
        PRAGMA journal_mode = OFF; PRAGMA synchronous = OFF; PRAGMA user_version = 1;
        CREATE TABLE JRNL (JNO INTEGER PRIMARY KEY, VNO VARCHAR(10), JDATE DATE, PNO INTEGER, ACODE VARCHAR(8), AMOUNT DECIMAL_INT(14,2),
          NARR VARCHAR(80), STATUS VARCHAR(1));
        WITH RECURSIVE n(i) AS (SELECT 0 UNION ALL SELECT i + 1 FROM n WHERE i < {rows - 1})
          INSERT INTO JRNL SELECT i + 1, printf('V%08d', i / 4), date('2014-01-01', (i / 4 % 3600) || ' days'), i / 4 % 120 + 1,
            printf('%04d', (i / 4 * 7 + i % 4) % 400 + 1000),
            (i * 7919) % 9000000 + 100, 'hire of instrument ' || (i % 977) || ' by member ' || (i * 31 % 50021) || ', returned '
                || (i % 28 + 1) || ' days later', CASE WHEN i % 50 = 0 THEN 'D' ELSE 'P' END FROM n;
        """));
}
